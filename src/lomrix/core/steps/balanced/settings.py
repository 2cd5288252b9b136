"""Settings of to-balanced."""

from __future__ import annotations

from typing import Annotated, ClassVar, Self

from pydantic import model_validator

from lomrix.core.steps.settings import Columns, Names, Setting
from lomrix.core.steps.step import Division, Role, Step, require


class ToBalanced(Step):
    """Make the panel rectangular: add the rows that are missing, or keep the cases that have all."""

    word: ClassVar[str] = "to-balanced"
    implementation: ClassVar[str] = "lomrix.core.steps.balanced.run:balance_panel"
    surveying: ClassVar[str] = "lomrix.core.steps.balanced.run:survey"
    checking: ClassVar[str] = "lomrix.core.steps.balanced.run:check"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The long file, one row per case and occasion."),)

    case: Annotated[Names, Setting("The column that names the case.", "COLUMNS")]
    occasion: Annotated[Names, Setting("The column that names the occasion.", "COLUMNS")]
    occasions: Annotated[Names, Setting("The occasions that count; all in the file by default.", "VALUES")] = ()
    only_whole: Annotated[bool, Setting("Keep the cases that were seen at all of them, and add nothing.")] = False
    constant: Annotated[
        Columns, Setting("Columns filled from the case in added rows; by default those that never change.", "COLUMNS")
    ] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.case, "case", "No ‹case› was given.", "Name the column of the case.")
        require(self.occasion, "occasion", "No ‹occasion› was given.", "Name the column of the occasion.")
        require(len(self.occasion) == 1 or not self.occasions, "occasions", "‹occasions› are the values of one column.",
                "Name one ‹occasion›.")  # fmt: skip
        require(not (self.only_whole and self.constant), "constant", "No row is added, so nothing is filled.",
                "Leave ‹constant› out.")  # fmt: skip
        return self

    @property
    def division(self) -> Division:
        """By the case."""
        return Division("by key", {"source": self.case})
