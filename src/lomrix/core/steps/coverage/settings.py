"""Settings of coverage."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from lomrix.core.steps.settings import Columns, Names, Setting
from lomrix.core.steps.step import NOTHING, WHOLE, Division, Extra, Role, Step, require
from lomrix.core.table.selection import choose_by_name


class Coverage(Step):
    """Show who was seen when: cases at each occasion, patterns, who left, came and returned, what was measured."""

    word: ClassVar[str] = "coverage"
    implementation: ClassVar[str] = "lomrix.core.steps.coverage.run:report_coverage"
    surveying: ClassVar[str] = "lomrix.core.steps.coverage.run:survey"
    conclusion: ClassVar[str] = "lomrix.core.steps.coverage.account:conclude"
    row_size_on_disk: ClassVar[int] = 16
    cell_size: ClassVar[int] = 22
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The long file, one row per case and occasion."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("figure", "Draw the patterns, or with --by who stayed, into a .png, .svg or .pdf.", "figure"),
    )
    result: ClassVar[Literal["table", "report", "report only"]] = "report"

    case: Annotated[Names, Setting("The column that names the case.", "COLUMNS")]
    occasion: Annotated[Names, Setting("The column that names the occasion.", "COLUMNS")]
    measure: Annotated[Columns, Setting("Measures whose cells are counted; all others by default.", "COLUMNS")] = ""

    by: Annotated[Names, Setting("Show who stayed in each group of these columns.", "COLUMNS")] = ()
    min_n: Annotated[
        int, Field(ge=0), Setting("With --by: suppress numbers of fewer cases, and others that tell them.", "N")
    ] = 0

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.by or not self.min_n, "min_n", "‹min_n› requires ‹by›.", "Add ‹by=sex›, or leave ‹min_n› out.")
        require(self.case, "case", "No ‹case› was given.", "Name the column of the case.")
        require(self.occasion, "occasion", "No ‹occasion› was given.", "Name the column of the occasion.")
        return self

    @property
    def division(self) -> Division:
        """By case; groups are of all cases."""
        return WHOLE if self.by else Division("by key", {"source": self.case})

    def can_divide(self, wanted: Collection[str] = (), given: Mapping[str, int] = NOTHING) -> bool:
        """Return whether it can work in parts; what its figure shows adds up."""
        return self.division.kind != "whole"

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The columns of case and occasion, and the measures."""
        found = choose_by_name(self.measure, names) if self.measure else None
        return None if found is None else list(dict.fromkeys([*self.case, *self.occasion, *self.by, *found]))
