"""Settings of to-long."""

from __future__ import annotations

import datetime
from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.rows.occasions import OccasionSetting, parse_occasion_settings
from lomrix.core.steps.reshape.families import parse_templates
from lomrix.core.steps.settings import Columns, Names, Setting, Texts, check_setting, parse_spell, parsed_by
from lomrix.core.steps.step import ANY_ROWS, WHOLE, Division, Extra, Role, Step, require

Unit = Literal["day", "week", "month", "quarter", "year"]


def parse_day(text: str) -> datetime.date:
    """Parse an ISO date.

    Raises UsageError if it is none.

    >>> parse_day("2024-12-31")
    datetime.date(2024, 12, 31)
    """
    try:
        return datetime.date.fromisoformat(text.strip())
    except ValueError as error:
        raise UsageError(f'"{text}" is not a date.', todo="Write it as 2024-12-31.") from error


class ToLong(Step):
    """Turn repeated columns into one row per case and occasion."""

    word: ClassVar[str] = "to-long"
    implementation: ClassVar[str] = "lomrix.core.steps.reshape.long_account:to_long"
    surveying: ClassVar[str] = "lomrix.core.steps.reshape.long_account:survey"
    conclusion: ClassVar[str] = "lomrix.core.steps.reshape.long_account:conclude"
    cell_size: ClassVar[int] = 40
    is_reversible: ClassVar[bool] = True
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The wide file, one row per case."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("figure", "Draw the measures over the occasions into a .png, .svg or .pdf.", "figure"),
    )

    header: Annotated[Texts, Setting("Names of the columns, such as {measure}_m{month}; or several.", "TEMPLATE")] = ()
    case: Annotated[Names, Setting("The column that names the case.", "COLUMNS")] = ()
    value_name: Annotated[Names, Setting("The measure's name for a template without {measure}: Y{year}.", "NAME")] = ()
    occasions: Annotated[
        Texts,
        parsed_by(parse_occasion_settings),
        Setting("True times or order: 0,3,6,12 for columns 1 to 4; before=0,after=12.", "VALUES"),
    ] = ()
    constant: Annotated[Columns, Setting("Carry only these of the other columns.", "COLUMNS")] = ""
    keep_empty: Annotated[bool, Setting("Keep rows without a measured value.")] = False
    guess: Annotated[bool, Setting("Guess the header from the column names.")] = False
    spell: Annotated[
        str,
        parsed_by(parse_spell),
        Setting("Instead: a row for each stretch that a spell covers; its start and end: from..until.", "START..END"),
    ] = ""
    every: Annotated[Unit | None, Setting("The stretches of a spell.")] = None
    until: Annotated[
        str, parsed_by(parse_day), Setting("Last day that counts: where a spell without an end stops.", "DATE")
    ] = ""
    other_labels: Annotated[Literal["stop", "first"], Setting("What to do when a code has different labels.")] = "stop"

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        if self.header:
            check_setting("header", lambda: parse_templates(self.header, self.value_name))
        require(not (self.guess and self.header), "guess", "‹guess› has no effect beside ‹header›.", "Use one of them.")
        require(self.every or not self.spell, "spell", "‹spell› requires ‹every›.", "Use ‹every=month›.")
        require(self.spell or not self.every, "every", "‹every› requires ‹spell›.", "Use ‹spell=from..until›.")
        require(self.spell or not self.until, "until", "‹until› requires ‹spell›.", "Use ‹spell=from..until›.")
        for name in ("header", "value_name", "occasions", "constant", "keep_empty", "guess"):
            require(not (self.spell and getattr(self, name)), name, f"‹{name}› has no effect on spells.",
                    "‹header› is for repeated columns, ‹spell› for spells: use one of them.")  # fmt: skip
        return self

    @property
    def division(self) -> Division:
        """Each row on its own, or those of a case, unless the columns are still to be guessed."""
        if self.spell or not self.header:
            return WHOLE
        return Division("by key", {"source": self.case}) if self.case else ANY_ROWS

    @property
    def occasion_settings(self) -> tuple[OccasionSetting, ...]:
        """The stated values of the occasions."""
        return parse_occasion_settings(self.occasions)
