"""Settings of to-wide."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from lomrix.core.steps.settings import Columns, Names, Setting, parsed_by
from lomrix.core.steps.step import WHOLE, Division, Role, Step
from lomrix.core.table.header import HeaderTemplate

MOST_COLUMNS = 10_000
Choice = Literal["first", "last", "commonest"]
Reduction = Literal["stop", "first", "last", "mean", "median", "min", "max", "sum"]


def parse_template(text: str) -> HeaderTemplate:
    """The header template of the new columns."""
    return HeaderTemplate.parse(text, measure_needed=False)


class ToWide(Step):
    """Turn the rows of a case into columns, one for each measure and occasion."""

    word: ClassVar[str] = "to-wide"
    implementation: ClassVar[str] = "lomrix.core.steps.reshape.wide_account:to_wide"
    cell_size: ClassVar[int] = 22
    surveying: ClassVar[str] = "lomrix.core.steps.reshape.wide_account:survey"
    checking: ClassVar[str] = "lomrix.core.steps.reshape.wide_account:check"
    conclusion: ClassVar[str] = "lomrix.core.steps.reshape.wide_account:conclude"
    is_reversible: ClassVar[bool] = True
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The long file, one row per case and occasion."),)

    case: Annotated[Names, Setting("The column that names the case.", "COLUMNS")] = ()
    occasion: Annotated[Names, Setting("The column that names the occasion.", "COLUMNS")] = ()
    header: Annotated[
        str, parsed_by(parse_template), Setting("Names of the new columns, such as {measure}_m{month}.", "TEMPLATE")
    ] = ""
    spread: Annotated[Columns, Setting("The measures; by default the columns that vary within a case.", "COLUMNS")] = ""
    constant: Annotated[Columns, Setting("One value per case; with spread, other columns are left out.", "COLUMNS")] = (
        ""
    )
    if_changing: Annotated[Literal["stop"] | Choice, Setting("What to do when a stated constant varies.")] = "stop"
    repeated: Annotated[Reduction, Setting("What to do with several rows of one case and occasion.")] = "stop"
    order: Annotated[Literal["measure", "occasion"] | None, Setting("New columns by measure or by occasion.")] = None
    label_from: Annotated[str, Setting("Column with labels of the new columns.", "COLUMN")] = ""
    most_columns: Annotated[int, Field(ge=1), Setting("Largest number of columns.", "N")] = MOST_COLUMNS

    @property
    def division(self) -> Division:
        """By the case; not if it is recorded, since only the table tells its columns."""
        return Division("by key", {"source": self.case}) if self.case else WHOLE
