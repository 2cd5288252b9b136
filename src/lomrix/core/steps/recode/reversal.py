"""Scores turned round in their span."""

from __future__ import annotations

import numpy as np

from lomrix.core.errors import DataError
from lomrix.core.table.code_list import RANGE
from lomrix.core.table.column import Column
from lomrix.core.table.distinct import distinct_cells, without_point
from lomrix.core.table.notes import counted
from lomrix.core.table.numbers import is_number


def turned_code(code: str, low: float, high: float) -> str:
    """What becomes of a code when its scale is turned round; a range of codes stays a range."""
    span = RANGE.fullmatch(code)
    if span:
        ends = [turned_code(span[at], low, high) for at in (2, 1)]
        return f"{ends[0]} to {ends[1]}"
    return without_point(f"{low + high - float(code):g}") if is_number(code) else code


def turned_codes(code: str, low: float, high: float) -> tuple[str, ...]:
    """The one code that a code becomes."""
    return (turned_code(code, low, high),)


def reversed_scale(
    column: Column, span: tuple[float, float], name: str, first_row: int
) -> tuple[Column, list[tuple[str, str, int]]]:
    """A score turned round in its span: lowest plus highest minus the score.

    Raises
    ------
    DataError
        Where a score is outside the span.
    """
    if column.type not in ("integer", "number"):
        raise DataError(
            f"{name} is {column.type}, so it cannot be turned round.", todo="Mend it first; check names the cells."
        )
    low, high = span
    outside = ~column.is_missing & ((column.values < low) | (column.values > high))
    if outside.any():
        rows = np.flatnonzero(outside)
        raise DataError(
            f"{name} has {counted(len(rows), 'cell', 'cells')} outside {low:g} to {high:g}.",
            where=", ".join(f"row {row + first_row}: {column.values[row]:g}" for row in rows[:5].tolist()),
            todo="Mend the cells first, or name the right ‹span›.",
        )
    values = low + high - column.values
    whole = column.type == "integer" and float(low + high).is_integer()
    made = Column.of("integer" if whole else "number", values, column.why, column.reasons)
    places, texts, counts = distinct_cells(column)
    del places
    turned = [
        (text, without_point(f"{low + high - float(text):g}"), int(count))
        for text, count in zip(texts, counts, strict=True)
    ]
    return made, sorted(turned)
