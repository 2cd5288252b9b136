"""Settings of check."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.steps.settings import Names, Setting, parse_spell, parsed_by
from lomrix.core.steps.step import Extra, Role, Step, require


class Check(Step):
    """Check a table against its dictionary and against itself."""

    word: ClassVar[str] = "check"
    repeats_notes: ClassVar[frozenset[str]] = frozenset(
        {"stray-text", "not-whole", "spaces-around", "unclear-date", "decimal-comma", "digits-kept", "offset"}
    )
    implementation: ClassVar[str] = "lomrix.core.steps.check.run:check_table"
    cell_size: ClassVar[int] = 18
    row_size_on_disk: ClassVar[int] = 4
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to check."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("draft_ledger", "Write the suspicious cells as a ledger to fill in.", then=("correct", "ledger")),
    )
    result: ClassVar[Literal["table", "report", "report only"]] = "report only"

    key: Annotated[Names, Setting("Columns that uniquely identify rows.", "COLUMNS", "k")] = ()
    case: Annotated[Names, Setting("Columns that name the case; the key by default.", "COLUMNS")] = ()

    spell: Annotated[
        str,
        parsed_by(parse_spell),
        Setting("Start and end of spells, from..until: find overlaps, gaps, and ends before starts.", "START..END"),
    ] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.names or not self.spell, "spell", "‹spell› requires ‹case›.", "Use ‹case=pid›.")
        return self

    @property
    def names(self) -> tuple[str, ...]:
        """The columns that name rows and cases."""
        return tuple(dict.fromkeys([*self.key, *self.case]))
