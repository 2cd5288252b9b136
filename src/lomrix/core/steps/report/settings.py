"""Settings of report."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from lomrix.core.steps.settings import Columns, Names, Setting
from lomrix.core.steps.step import SURVEY_ONLY, WHOLE, Division, Role, Step, require


class Report(Step):
    """Make a page for people: where a file came from, who was seen when, and what each variable holds."""

    word: ClassVar[str] = "report"
    implementation: ClassVar[str] = "lomrix.core.steps.report.run:report"
    surveying: ClassVar[str] = "lomrix.core.steps.report.run:survey"
    in_study_beside: ClassVar[Mapping[str, str]] = {"case": "occasion", "occasion": "case"}
    row_size_on_disk: ClassVar[int] = 190
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to describe."),)
    result: ClassVar[Literal["table", "report", "report only", "page"]] = "page"

    case: Annotated[Names, Setting("Column that names the case, to show who was seen when.", "COLUMNS")] = ()
    occasion: Annotated[Names, Setting("Column that names the occasion.", "COLUMNS")] = ()
    measure: Annotated[Columns, Setting("Measures whose means are drawn over the occasions.", "COLUMNS")] = ""
    by: Annotated[Names, Setting("Groups whose means are drawn separately.", "COLUMNS")] = ()
    min_n: Annotated[int, Field(ge=0), Setting("Hide counts and means of fewer cases than this.", "N")] = 0
    title: Annotated[str, Setting("Title of the page; by default the file's name.", "TEXT")] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(not self.occasion or self.case, "case", "‹occasion› requires ‹case›.", "Add ‹case=COLUMN›.")
        require(not self.case or self.occasion, "occasion", "‹case› requires ‹occasion›.", "Add ‹occasion=COLUMN›.")
        require(not self.measure or self.occasion, "occasion", "‹measure› requires ‹case› and ‹occasion›.",
                "Use ‹case=COLUMN› and ‹occasion=COLUMN›.")  # fmt: skip
        require(not self.by or self.measure, "measure", "‹by› requires ‹measure›.", "Add ‹measure=COLUMNS›.")
        return self

    @property
    def division(self) -> Division:
        """It surveys the columns of any part; cases and occasions need all rows."""
        return WHOLE if self.case else SURVEY_ONLY
