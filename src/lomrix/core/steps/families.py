"""Families: the columns of a wide table that hold one measure at several occasions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from lomrix.core.errors import DataError, UsageError
from lomrix.core.table.header import MEASURE, NUMBER, HeaderTemplate, natural_order, occasion_values

Occasion = tuple[Any, ...]


@dataclass(frozen=True)
class Families:
    """Which column holds which measure at which occasion.

    Parameters
    ----------
    measures
        For each measure, in order of first appearance, the column's name by occasion.
    occasions
        All occasions in ascending order; one value per occasion column of the template.
    names
        The occasion columns' names.
    set_aside
        Columns that fit the template but whose occasion is not a number where the others' are.
    """

    measures: dict[str, dict[Occasion, str]]
    occasions: tuple[Occasion, ...]
    names: tuple[str, ...]
    set_aside: tuple[str, ...]


def families_of(names: list[str], template: HeaderTemplate) -> Families:
    """Find the families among columns.

    Raises
    ------
    UsageError
        Where no column fits the template, or one fits in two ways.
    DataError
        Where two columns hold the same measure at the same occasion.
    """
    readings = {name: reading for name in names if (reading := template.read(name)) is not None}
    if not readings:
        raise UsageError(
            f'No column fits the header template "{template.text}".',
            where=f"columns are {', '.join(names[:12])}{' …' if len(names) > 12 else ''}",
            todo="Write the template as the columns are named, such as {measure}_m{month} for sleep_m3.",
        )
    set_aside: list[str] = []
    for field in template.occasions:
        numeric = {name for name, reading in readings.items() if NUMBER.fullmatch(reading[field])}
        if numeric and len(numeric) < len(readings):
            set_aside += [name for name in readings if name not in numeric]
            readings = {name: reading for name, reading in readings.items() if name in numeric}
    values = {field: occasion_values([reading[field] for reading in readings.values()]) for field in template.occasions}
    occasion_of = dict(zip(readings, zip(*values.values(), strict=True), strict=True))
    measures: dict[str, dict[Occasion, str]] = {}
    for name, reading in readings.items():
        columns = measures.setdefault(reading[MEASURE], {})
        occasion = occasion_of[name]
        if occasion in columns:
            raise DataError(
                f"Two columns hold {reading[MEASURE]} at the same occasion: {columns[occasion]} and {name}.",
                todo="Rename one of them, or leave it out.",
            )
        columns[occasion] = name
    occasions = sorted(set(occasion_of.values()), key=lambda one: [_order(value) for value in one])
    return Families(measures, tuple(occasions), template.occasions, tuple(set_aside))


def _order(value: Any) -> Any:
    return natural_order(value) if isinstance(value, str) else value
