"""Settings of correct."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from lomrix.core.steps.settings import Setting
from lomrix.core.steps.step import ANY_ROWS, Division, Role, Step


class Correct(Step):
    """Apply a ledger of corrections, each only where the old value is what the file holds."""

    word: ClassVar[str] = "correct"
    cell_size: ClassVar[int] = 34
    implementation: ClassVar[str] = "lomrix.core.steps.correct.run:correct"
    surveying: ClassVar[str] = "lomrix.core.steps.correct.run:survey"
    checking: ClassVar[str] = "lomrix.core.steps.correct.run:check_ledger"
    conclusion: ClassVar[str] = "lomrix.core.steps.correct.run:conclude"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("source", "The file to correct; it is not changed."),
        Role(
            "ledger", "Corrections: key, variable, old, new, action, why, by.", "FILE", is_option=True, content="texts"
        ),
    )

    notes: Annotated[str, Setting("Column that comments in cells are moved to.", "NAME")] = "notes"
    list: Annotated[Literal["first", "all"], Setting("Show the first corrections, or all.", "WHICH")] = "first"
    partly: Annotated[bool, Setting("Continue if rows of the ledger are refused.")] = False

    @property
    def division(self) -> Division:
        """Any rows go together."""
        return ANY_ROWS
