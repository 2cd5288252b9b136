"""Changes as they are asked for."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Names, Setting, parsed_by
from lomrix.core.steps.step import Division, Role, Step, need
from lomrix.core.table.numbers import is_number


def tolerance_of(text: str) -> float:
    """Read `0.001`.

    Raises
    ------
    UsageError
        Where it is no number, or below 0.
    """
    if not text:
        return 0.0
    if not is_number(text) or float(text) < 0:
        raise UsageError(f'"{text}" is no tolerance.', todo="Say ‹tolerance=0.001›, a number of 0 or more.")
    return float(text)


class Changes(Step):
    """Show what differs between two deliveries: rows, columns, cells, labels; exit status 1 where anything does."""

    word: ClassVar[str] = "changes"
    done_by: ClassVar[str] = "lomrix.core.steps.changes.run:compared"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("old", "The file as it was.", "OLD"),
        Role("new", "The file as it is now.", "NEW"),
    )
    result: ClassVar[Literal["table", "report", "report only"]] = "report"

    key: Annotated[Names, Setting("The columns that say which rows are the same.", "COLUMNS")]
    tolerance: Annotated[
        str,
        parsed_by(tolerance_of),
        Setting("Numbers no further apart than this are nearly equal, and no change.", "NUMBER"),
    ] = ""
    list: Annotated[Literal["first", "all"], Setting("Show some examples of a column, or all.", "WHICH")] = "first"

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(self.key, "key", "No ‹key› was given.", "Name the columns that say which rows are the same.")
        return self

    @property
    def division(self) -> Division:
        """By key."""
        return Division("by key", {"old": self.key, "new": self.key})
