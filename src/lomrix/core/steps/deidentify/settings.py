"""Deidentify as it is asked for."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Annotated, ClassVar, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Columns, Names, Setting, parsed_by, require_distinct
from lomrix.core.steps.step import Extra, Role, Step, need


def day_of(text: str) -> datetime.date:
    """Read `2024-01-31`.

    Raises
    ------
    UsageError
        Where it is no day of the calendar.
    """
    try:
        return datetime.date.fromisoformat(text)
    except ValueError as error:
        raise UsageError(f'"{text}" is no day.', todo="Say ‹on_day=2024-01-31›.") from error


def bands_of(words: Sequence[str]) -> tuple[tuple[str, int], ...]:
    """Read `birth_date=10`.

    Raises
    ------
    UsageError
        Where it is no column and whole number of years.

    Examples
    --------
    >>> bands_of(("birth_date=10",))
    (('birth_date', 10),)
    """
    bands = []
    for word in words:
        name, _, years = (part.strip() for part in word.partition("="))
        if not name or not years.isdecimal() or int(years) < 1:
            raise UsageError(
                f'"{word}" does not say which column in bands of how many years.', todo="Say ‹coarsen=birth_date=10›."
            )
        bands.append((name, int(years)))
    require_distinct([name for name, _ in bands], "The width of the bands of")
    return tuple(bands)


class Deidentify(Step):
    """Take away what names a person; the way back is written apart."""

    word: ClassVar[str] = "deidentify"
    done_by: ClassVar[str] = "lomrix.core.steps.deidentify.run:unnamed"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("source", "The file that names people."),
        Role("seed", "Secret file that new ids come from, alike in every file; made where there is none.", "FILE",
             "seed", content="secret"),
    )  # fmt: skip
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra(
            "linkage",
            "Where the way back is written, for your eyes only.",
            owner_only=True,
            needed=True,
            apart_unless="same_folder",
        ),
    )

    hides_origin: ClassVar[bool] = True

    id: Annotated[str, Setting("The id column; it gets new ids.", "COLUMN")]
    remove: Annotated[Columns, Setting("Columns to take out, such as names.", "COLUMNS")] = ""
    shift: Annotated[Columns, Setting("Dates to move, each case by its own days.", "COLUMNS")] = ""
    coarsen: Annotated[
        Names, parsed_by(bands_of), Setting("Age bands of so many years in place of a date of birth.", "COLUMN=YEARS")
    ] = ()
    on_day: Annotated[str, parsed_by(day_of), Setting("Day on which those ages are reckoned.", "DATE")] = ""
    quasi: Annotated[Columns, Setting("Tell the smallest groups of these columns together.", "COLUMNS")] = ""
    same_folder: Annotated[bool, Setting("Let linkage and data stand in one folder.")] = False

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(self.id, "id", "No ‹id› was given.", "Name the column that is replaced.")
        need(self.on_day or not self.coarsen, "on_day", "Ages are reckoned on a day.", "Say ‹on_day=2024-01-31›.")
        return self

    @property
    def bands(self) -> tuple[tuple[str, int], ...]:
        """Dates of birth, and the width in years of the age bands that take their place."""
        return bands_of(self.coarsen)
