"""The other layout: what a table looked like before it was turned between wide and long.

A wide table and a long one hold the same cells, but not the same names, order and labels: nothing in a long table
says that month 3 was once called `sleep_m03`. It is remembered, so that turning back gives the very same table.
"""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Mapping
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from lomrix.core.table.types import Type
from lomrix.core.table.variable import NOTHING_KNOWN, Variable

Value = int | float | str
# What of an entry a person writes; types and missing codes also change by being read and written.
WRITTEN = ("label", "description", "unit", "minimum", "maximum", "allowed")


class Place(BaseModel):
    """Where a wide column stands in the long layout: its measure, and its value of each occasion column."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    column: str
    measure: str
    at: tuple[Value, ...]


class OtherLayout(BaseModel):
    """How the other layout of a table looked.

    Parameters
    ----------
    layout
        Which of the two it was.
    case, occasions
        The columns that name the case and the occasion.
    headers
        The header templates that were used.
    value_names
        The measures' names for templates that do not hold one.
    order
        Its columns in order.
    places
        Where each wide column stands in the long layout, in order of occasions.
    types
        Types of its measured columns and occasions.
    variables
        Dictionary entries of its measured columns and occasions, and the lists of codes they name.
    made
        The entries that turning made of them: where these were changed since, the old ones do not count.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    layout: Literal["wide", "long"]
    case: tuple[str, ...]
    occasions: tuple[str, ...]
    headers: tuple[str, ...]
    value_names: tuple[str, ...] = ()
    order: tuple[str, ...]
    places: tuple[Place, ...]
    types: dict[str, Type] = Field(default_factory=dict)
    variables: dict[str, Variable] = Field(default_factory=dict)
    codes: dict[str, dict[str, str]] = Field(default_factory=dict)
    made: dict[str, Variable] = Field(default_factory=dict)

    def unchanged(self, name: str, entry: Variable) -> bool:
        """True where a column's entry says what turning made it say."""
        made = self.made.get(name, NOTHING_KNOWN)
        return all(getattr(made, word) == getattr(entry, word) for word in WRITTEN)

    def ordered(self, names: list[str]) -> list[str]:
        """Names as the other layout had them in order, new ones at the end."""
        known = set(self.order)
        present = set(names)
        return [name for name in self.order if name in present] + [name for name in names if name not in known]


def places_of(
    columns: Mapping[str, Mapping[tuple[Any, ...], str]], occasions: Iterable[tuple[Any, ...]]
) -> tuple[Place, ...]:
    """The place of each wide column, in order of occasions.

    Parameters
    ----------
    columns
        For each measure the name of its column by occasion.
    occasions
        All occasions in order.
    """
    return tuple(
        Place(column=at[occasion], measure=measure, at=tuple(map(plain_value, occasion)))
        for occasion in occasions
        for measure, at in columns.items()
        if occasion in at
    )


def plain_value(value: Any) -> Value:
    """An occasion's value as it is remembered: dates as text."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, datetime.date):
        return value.isoformat()
    return value  # type: ignore[no-any-return]


def typed_value(value: Value, type_: Type | None) -> Any:
    """A remembered value as its occasion column holds it."""
    if type_ == "date":
        return datetime.date.fromisoformat(str(value))
    if type_ == "datetime":
        return datetime.datetime.fromisoformat(str(value))
    return value == "true" if type_ == "boolean" else value
