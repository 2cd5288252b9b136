"""Report as it is asked for."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from lomrix.core.steps.settings import Columns, Names, Setting
from lomrix.core.steps.step import Role, Step, need


class Report(Step):
    """Make a page for people: how a file came about, who was seen when, and what each variable holds."""

    word: ClassVar[str] = "report"
    done_by: ClassVar[str] = "lomrix.core.steps.report.run:reported"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to tell of."),)
    result: ClassVar[Literal["table", "report", "report only", "page"]] = "page"

    case: Annotated[Names, Setting("Whom a row is of: who was seen when is told then.", "COLUMNS")] = ()
    occasion: Annotated[Names, Setting("When it was measured.", "COLUMNS")] = ()
    measure: Annotated[Columns, Setting("Measures whose means are drawn over the occasions.", "COLUMNS")] = ""
    by: Annotated[Names, Setting("Groups whose means are drawn apart.", "COLUMNS")] = ()
    min_n: Annotated[int, Field(ge=0), Setting("Show no counts and means of fewer cases than this.", "NUMBER")] = 0
    title: Annotated[str, Setting("What stands at the top; the file's name where nothing is said.", "TEXT")] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(not self.occasion or self.case, "case", "Whom is a row of?", "Say ‹case=COLUMN› too.")
        need(not self.case or self.occasion, "occasion", "When was it measured?", "Say ‹occasion=COLUMN› too.")
        need(not self.measure or self.occasion, "occasion", "Over what shall the measures be drawn?",
             "Say ‹case=COLUMN› and ‹occasion=COLUMN›.")  # fmt: skip
        need(not self.by or self.measure, "measure", "Which measures of the groups?", "Say ‹measure=COLUMNS›.")
        return self
