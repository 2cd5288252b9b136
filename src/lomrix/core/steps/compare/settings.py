"""Settings of compare."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.steps.settings import Columns, Names, Setting
from lomrix.core.steps.step import Division, Extra, Role, Step, require
from lomrix.core.table.selection import choose_by_name


class Compare(Step):
    """Compare measures between groups or occasions, or against another measure: sizes, intervals, tests."""

    word: ClassVar[str] = "compare"
    implementation: ClassVar[str] = "lomrix.core.steps.compare.run:compare"
    surveying: ClassVar[str] = "lomrix.core.steps.compare.survey:survey"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file of the measures, in long layout."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("figure", "Draw what is compared into a .png, .svg or .pdf.", "figure"),
    )
    result: ClassVar[Literal["table", "report", "report only"]] = "report"

    measure: Annotated[Columns, Setting("The measures, each compared on its own.", "COLUMNS")]
    between: Annotated[str, Setting("The column whose values are compared: a group, or an occasion.", "COLUMN")] = ""
    paired_on: Annotated[Names, Setting("Column that names the case: each is compared with itself.", "COLUMNS")] = ()
    against: Annotated[str, Setting("A further measure: the slope of each measure on it.", "COLUMN")] = ""
    adjust: Annotated[Columns, Setting("Covariates: adjust the groups for these.", "COLUMNS")] = ""
    as_numbers: Annotated[bool, Setting("Compare means also of measures whose values are codes.")] = False

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.measure, "measure", "No ‹measure› was given.", "Name what is compared, such as ‹measure=sleep›.")
        require(self.between or self.against, "between", "Nothing to compare is named.",
                "Use ‹between=month› for groups or occasions, or ‹against=age› for a slope.")  # fmt: skip
        require(self.between or not self.paired_on, "between", "Pairs are of two occasions.", "Use ‹between=month›.")
        require(self.between not in self.paired_on or not self.between, "paired_on",
                f"{self.between} cannot be both case and occasion.", "Name the case: ‹paired_on=pid›.")  # fmt: skip
        require(not (self.paired_on and self.against), "against", "Slopes are not compared in pairs.",
                "Derive the change first: \"d = change(sleep)\", and compare that.")  # fmt: skip
        require((self.between and not self.paired_on and not self.against) or not self.adjust, "adjust",
                "‹adjust› is for groups.", "Use it with ‹between› alone.")  # fmt: skip
        return self

    @property
    def division(self) -> Division:
        """It surveys any rows, or all rows of a case where they are paired."""
        return Division("survey only", {"source": self.paired_on} if self.paired_on else {})

    @property
    def draws_survey(self) -> bool:
        """Means are known; cases and points are drawn from the rows."""
        return not (self.paired_on or self.against)

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The measures and what they are compared by."""
        found = choose_by_name(", ".join(filter(None, (self.measure, self.adjust))), names)
        others = [name for name in (self.between, self.against) if name]
        return None if found is None else list(dict.fromkeys([*found, *others, *self.paired_on]))
