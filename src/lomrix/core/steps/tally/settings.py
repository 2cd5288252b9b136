"""Settings of tally."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.steps.settings import Names, Setting
from lomrix.core.steps.step import SURVEY_ONLY, Division, Extra, Role, Step, require

Share = Literal["none", "row", "column"]


class Tally(Step):
    """Count values, with labels and percentages; missing cells separately."""

    word: ClassVar[str] = "tally"
    implementation: ClassVar[str] = "lomrix.core.steps.tally.run:tally"
    surveying: ClassVar[str] = "lomrix.core.steps.tally.run:count_rows"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to count in."),)
    gives: ClassVar[tuple[Extra, ...]] = (Extra("figure", "Draw the counts into a .png, .svg or .pdf.", "figure"),)
    result: ClassVar[Literal["table", "report", "report only"]] = "report"

    variables: Annotated[Names, Setting("One variable, or two to cross them.", "VAR [VAR]", positional=True)]
    by: Annotated[Names, Setting("Count separately for each group.", "COLUMNS")] = ()
    as_labels: Annotated[bool, Setting("Show labels in place of codes.")] = False
    percent: Annotated[Share, Setting("Percentages of a cross-count.")] = "none"

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(1 <= len(self.variables) <= 2, "variables", "A tally takes one variable, or two to cross them.",
                "Name one or two, such as sex, or sex and vessel.")  # fmt: skip
        require(len(self.variables) == 2 or self.percent == "none", "percent",
                "‹percent› requires two variables to cross.", "Name a second one, or leave ‹percent› out.")  # fmt: skip
        return self

    @property
    def division(self) -> Division:
        """It counts the rows of any part."""
        return SURVEY_ONLY

    @property
    def draws_survey(self) -> bool:
        """Bars are counts."""
        return True

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The variables and the groups."""
        return [*self.variables, *self.by]
