"""Scale: several items that are scored together, as the dictionary declares them."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, ConfigDict, Field

from lomrix.core.errors import UsageError
from lomrix.core.table.numbers import is_number

Method = Literal["sum", "mean"]


class Scale(BaseModel):
    """A scale.

    Parameters
    ----------
    items
        A choice of columns, or of measures where a wide file has each item once for every occasion.
    reverse
        Those of them that are worded the other way round.
    span
        Lowest and highest score of an item, as in `0:3`.
    method
        Sum or mean of the items.
    at_least
        So many items must be present; all where it is 0.
    label
        What the score is called.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    items: str
    reverse: str = ""
    span: str = ""
    method: Method = "sum"
    at_least: int = Field(0, ge=0)
    label: str = ""


def span_of(text: str) -> tuple[float, float]:
    """Read `0:3`.

    Raises
    ------
    UsageError
        Where it is not two numbers, the smaller first.

    Examples
    --------
    >>> span_of("0:3")
    (0.0, 3.0)
    """
    ends = [end.strip() for end in text.split(":")]
    if len(ends) != 2 or not all(map(is_number, ends)) or float(ends[0]) >= float(ends[1]):
        raise UsageError(f'The span "{text}" is not clear.', todo="Say ‹span=0:3›, the lowest score first.")
    return float(ends[0]), float(ends[1])
