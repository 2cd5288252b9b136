"""Variable: the dictionary entry of one variable."""

from __future__ import annotations

import datetime
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from lomrix.core.table.numbers import Type

Bound = int | float | datetime.date


class Variable(BaseModel):
    """The dictionary entry of one variable.

    `missing` maps a stored value, as text, to the reason it stands for; `codes` names a list of codes; `form` is how
    dates are written in the file, as in `%d/%m/%Y`, and irrelevant once they are read.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    label: str = ""
    description: str = ""
    type: Type | None = None
    form: str = ""
    unit: str = ""
    codes: str | None = None
    missing: dict[str, str] = Field(default_factory=dict)
    minimum: Bound | None = None
    maximum: Bound | None = None
    allowed: tuple[str, ...] = ()
    level: Literal["case", "occasion", "group"] | None = None
    reversed: bool = False

    @property
    def full_description(self) -> str:
        """The description, and whether the variable was reverse-scored."""
        return f"{self.description} {'Reverse-scored.' if self.reversed else ''}".strip()

    def with_parts(self, **changes: object) -> Variable:
        """Return the entry with some parts changed."""
        return self.model_copy(update=changes)

    def combine(self, later: Variable) -> Variable:
        """Return what holds in two parts of one table."""
        alike = {part: value for part, value in self if getattr(later, part) == value}
        both = {code: reason for code, reason in self.missing.items() if code in later.missing}
        return Variable(**{**alike, "missing": both})


NO_ENTRY = Variable()
