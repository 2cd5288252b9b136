"""To long as it is asked for."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.rows.occasions import Wish, wishes_of
from lomrix.core.steps.reshape.families import templates_of
from lomrix.core.steps.settings import Columns, Names, Setting, Texts, hold, parsed_by
from lomrix.core.steps.step import ANY_ROWS, Division, Extra, Role, Step


class ToLong(Step):
    """Turn repeated columns into one row per case and occasion."""

    word: ClassVar[str] = "to-long"
    done_by: ClassVar[str] = "lomrix.core.steps.reshape.turn_to_long:turned"
    comes_back: ClassVar[bool] = True
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The wide file, one row per case."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("figure", "Draw the measures over the occasions into a .png, .svg or .pdf.", "figure"),
    )

    header: Annotated[
        Texts, Setting("How the columns are named, such as {measure}_m{month}; or several.", "TEMPLATE")
    ] = ()
    case: Annotated[Names, Setting("The column that names the case.", "COLUMNS")] = ()
    value_name: Annotated[Names, Setting("The measure's name for a template without {measure}: Y{year}.", "NAME")] = ()
    occasions: Annotated[
        Texts,
        parsed_by(wishes_of),
        Setting("True times or order: 0,3,6,12 for columns 1 to 4; before=0,after=12.", "VALUES"),
    ] = ()
    constant: Annotated[Columns, Setting("Carry only these of the other columns.", "COLUMNS")] = ""
    keep_empty: Annotated[bool, Setting("Keep rows in which nothing was measured.")] = False
    guess: Annotated[bool, Setting("Without a header: take what the columns look like.")] = False
    other_labels: Annotated[Literal["stop", "first"], Setting("One code with different labels.")] = "stop"

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        if self.header:
            hold("header", lambda: templates_of(self.header, self.value_name))
        return self

    @property
    def wishes(self) -> tuple[Wish, ...]:
        """What was said of the values of the occasions."""
        return wishes_of(self.occasions)

    @property
    def division(self) -> Division:
        """Each row is turned on its own."""
        return ANY_ROWS
