"""The other layout: what a table looked like before it was reshaped between wide and long."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Mapping
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from lomrix.core.table.numbers import Type
from lomrix.core.table.variable import NO_ENTRY, Variable

Value = int | float | str
# The parts of an entry that a person writes; types and missing codes also change by reading and writing.
WRITTEN = ("label", "description", "unit", "minimum", "maximum", "allowed")


class WidePosition(BaseModel):
    """Position of a wide column in the long layout: its measure, and its value of each occasion column."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    column: str
    measure: str
    at: tuple[Value, ...]


class OtherLayout(BaseModel):
    """How the other layout of a table looked."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    layout: Literal["wide", "long"]  # which of the two it was
    case: tuple[str, ...]  # the columns that name the case and the occasion
    occasions: tuple[str, ...]
    headers: tuple[str, ...]  # the header templates that were used
    value_names: tuple[str, ...] = ()  # the measures' names for templates that do not hold one
    order: tuple[str, ...]  # its columns in order
    places: tuple[WidePosition, ...]  # where each wide column stands in the long layout, in order of occasions
    types: dict[str, Type] = Field(default_factory=dict)  # types of its measured columns and occasions
    # dictionary entries of its measured columns and occasions, and the lists of codes they name
    variables: dict[str, Variable] = Field(default_factory=dict)
    codes: dict[str, dict[str, str]] = Field(default_factory=dict)
    # the entries that turning made of them: where these were changed since, the old ones do not count
    made: dict[str, Variable] = Field(default_factory=dict)

    def is_unchanged(self, name: str, entry: Variable) -> bool:
        """Return whether a column's entry is the one that reshaping made."""
        result = self.made.get(name, NO_ENTRY)
        return all(getattr(result, part) == getattr(entry, part) for part in WRITTEN)

    def order_names(self, names: list[str]) -> list[str]:
        """Return names in the order of the other layout, new ones at the end."""
        known = set(self.order)
        present = set(names)
        return [name for name in self.order if name in present] + [name for name in names if name not in known]


def list_positions(
    columns: Mapping[str, Mapping[tuple[Any, ...], str]], occasions: Iterable[tuple[Any, ...]]
) -> tuple[WidePosition, ...]:
    """List the position of each wide column, by occasion; `columns` maps measure and occasion to its name."""
    return tuple(
        WidePosition(column=names[occasion], measure=measure, at=tuple(map(to_plain_value, occasion)))
        for occasion in occasions
        for measure, names in columns.items()
        if occasion in names
    )


def to_plain_value(value: Any) -> Value:
    """Return an occasion's value as recorded: dates as text."""
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, datetime.date):
        return value.isoformat()
    return value  # type: ignore[no-any-return]


def to_typed_value(value: Value, type_: Type | None) -> Any:
    """Return a recorded value in its column's type."""
    if type_ == "date":
        return datetime.date.fromisoformat(str(value))
    if type_ == "datetime":
        return datetime.datetime.fromisoformat(str(value))
    return value == "true" if type_ == "boolean" else value
