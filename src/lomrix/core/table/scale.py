"""Scale: several items that are scored together, as the dictionary declares them."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from lomrix.core.errors import UsageError
from lomrix.core.table.numbers import is_number

Method = Literal["sum", "mean"]


class Scale(BaseModel):
    """Items that are scored together.

    `items` is a choice of columns, or of measures if a wide file repeats each item; `reverse` those that are worded the
    other way round; `span` an item's lowest and highest score, as in `0:3`; `at_least` how many items must be present
    (0: all).
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    items: str
    reverse: str = ""
    span: str = ""
    method: Method = "sum"
    at_least: int = Field(0, ge=0)
    label: str = ""


def parse_span(text: str) -> tuple[float, float]:
    """Parse `0:3`.

    Raises UsageError if it is not two numbers, the smaller first.

    >>> parse_span("0:3")
    (0.0, 3.0)
    """
    ends = [end.strip() for end in text.split(":")]
    if len(ends) != 2 or not all(map(is_number, ends)) or float(ends[0]) >= float(ends[1]):
        raise UsageError(f'The span "{text}" is not valid.', todo="Use ‹span=0:3›, the lowest score first.")
    return float(ends[0]), float(ends[1])
