"""Settings of changes."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Names, Setting, parsed_by
from lomrix.core.steps.step import Division, Role, Step, require
from lomrix.core.table.numbers import is_number


def parse_tolerance(text: str) -> float:
    """Parse `0.001`.

    Raises UsageError if it is not a number, or below 0.
    """
    if not text:
        return 0.0
    if not is_number(text) or float(text) < 0:
        raise UsageError(f'"{text}" is not a tolerance.', todo="Use ‹tolerance=0.001›, a number that is 0 or more.")
    return float(text)


class Changes(Step):
    """Show what differs between two deliveries: rows, columns, cells, labels; exit status 1 where anything does."""

    word: ClassVar[str] = "changes"
    implementation: ClassVar[str] = "lomrix.core.steps.changes.run:compare_deliveries"
    completing: ClassVar[str] = "lomrix.core.steps.changes.run:complete"
    conclusion: ClassVar[str] = "lomrix.core.steps.changes.account:conclude"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("old", "The file as it was.", "OLD"),
        Role("new", "The file as it is now.", "NEW"),
    )
    result: ClassVar[Literal["table", "report", "report only"]] = "report"

    key: Annotated[Names, Setting("Columns that identify the same rows in both.", "COLUMNS")]
    tolerance: Annotated[
        str,
        parsed_by(parse_tolerance),
        Setting("Numbers no further apart than this are nearly equal, and no change.", "NUMBER"),
    ] = ""
    list: Annotated[Literal["first", "all"], Setting("Show some examples of a column, or all.", "WHICH")] = "first"

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.key, "key", "No ‹key› was given.", "Name the columns that identify the same rows in both.")
        return self

    @property
    def division(self) -> Division:
        """By key."""
        return Division("by key", {"old": self.key, "new": self.key})
