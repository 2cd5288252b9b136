"""Settings of deidentify."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from typing import Annotated, ClassVar, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Columns, Names, Setting, parsed_by, require_distinct
from lomrix.core.steps.step import Division, Extra, Role, Step, require

# A column of the new ids, while rows are sorted by them; no file has a column of this name.
NEW_IDS = "\0new ids"


def parse_day(text: str) -> datetime.date:
    """Parse `2024-01-31`.

    Raises UsageError if it is not a day of the calendar.
    """
    try:
        return datetime.date.fromisoformat(text)
    except ValueError as error:
        raise UsageError(f'"{text}" is not a date.', todo="Use ‹on_day=2024-01-31›.") from error


def parse_bands(texts: Sequence[str]) -> tuple[tuple[str, int], ...]:
    """Parse `birth_date=10`.

    Raises UsageError if it is not a column and a whole number of years.

    >>> parse_bands(("birth_date=10",))
    (('birth_date', 10),)
    """
    bands = []
    for text in texts:
        name, _, years = (part.strip() for part in text.partition("="))
        if not name or not years.isdecimal() or int(years) < 1:
            raise UsageError(
                f'"{text}" does not state a column and a number of years.', todo="Use ‹coarsen=birth_date=10›."
            )
        bands.append((name, int(years)))
    require_distinct([name for name, _ in bands], "The width of the bands of")
    return tuple(bands)


class Deidentify(Step):
    """Remove what names a person; write a linkage file separately."""

    word: ClassVar[str] = "deidentify"
    # The table before and after, its new ids, and the linkage.
    cell_size: ClassVar[int] = 40
    implementation: ClassVar[str] = "lomrix.core.steps.deidentify.run:deidentify"
    surveying: ClassVar[str] = "lomrix.core.steps.deidentify.run:survey"
    preparing: ClassVar[str] = "lomrix.core.steps.deidentify.run:prepare"
    conclusion: ClassVar[str] = "lomrix.core.steps.deidentify.run:conclude"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("source", "The file that names people."),
        Role("seed", "Secret file that new ids derive from, the same in every file; created if absent.", "FILE",
             is_option=True, content="secret"),
    )  # fmt: skip
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra(
            "linkage",
            "Write the linkage file, readable by you alone.",
            owner_only=True,
            needed=True,
            apart_unless="same_folder",
        ),
    )

    hides_origin: ClassVar[bool] = True
    former_names: ClassVar[Mapping[str, str]] = {"quasi": "quasi_identifiers"}

    id: Annotated[str, Setting("The id column; it gets new ids.", "COLUMN")]
    remove: Annotated[Columns, Setting("Columns to remove, such as names.", "COLUMNS")] = ""
    shift: Annotated[Columns, Setting("Dates to shift, each case by its own number of days.", "COLUMNS")] = ""
    coarsen: Annotated[
        Names,
        parsed_by(parse_bands),
        Setting("Replace a date of birth by an age band of this many years.", "COLUMN=YEARS"),
    ] = ()
    on_day: Annotated[str, parsed_by(parse_day), Setting("Day on which those ages are computed.", "DATE")] = ""
    quasi_identifiers: Annotated[Columns, Setting("List the smallest groups of these columns together.", "COLUMNS")] = (
        ""
    )
    same_folder: Annotated[bool, Setting("Allow linkage and data in the same folder.")] = False

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.id, "id", "No ‹id› was given.", "Name the column that is replaced.")
        require(self.on_day or not self.coarsen, "on_day", "Ages are computed for a day.", "Use ‹on_day=2024-01-31›.")
        return self

    @property
    def division(self) -> Division:
        """Rows are in the order of the new ids."""
        return Division("by order", {"source": (NEW_IDS,)})

    @property
    def bands(self) -> tuple[tuple[str, int], ...]:
        """Dates of birth, and the width in years of the age bands that replace them."""
        return parse_bands(self.coarsen)
