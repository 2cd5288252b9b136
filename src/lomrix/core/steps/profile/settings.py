"""Settings of profile."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from lomrix.core.steps.settings import Setting
from lomrix.core.steps.step import SURVEY_ONLY, Division, Role, Step

Sort = Literal["file", "name"]


class Profile(Step):
    """Show what is in a file: keys, types, missing cells, ranges, labels."""

    word: ClassVar[str] = "profile"
    implementation: ClassVar[str] = "lomrix.core.steps.profile.run:profile"
    surveying: ClassVar[str] = "lomrix.core.steps.profile.run:survey"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file."),)
    result: ClassVar[Literal["table", "report", "report only"]] = "report"

    sort: Annotated[Sort, Setting("Columns in file order, or by name.")] = "file"
    as_labels: Annotated[bool, Setting("Show labels in place of codes.")] = False

    @property
    def division(self) -> Division:
        """It surveys the columns of any part."""
        return SURVEY_ONLY
