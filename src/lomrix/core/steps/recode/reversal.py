"""Reverse scoring."""

from __future__ import annotations

import numpy as np

from lomrix.core.errors import DataError
from lomrix.core.table.code_list import RANGE
from lomrix.core.table.column import Column
from lomrix.core.table.distinct import encode_as_texts, strip_point
from lomrix.core.table.notes import pluralize
from lomrix.core.table.numbers import is_number


def reverse_code(code: str, low: float, high: float) -> str:
    """Return what becomes of a code when its scale is reversed; a range of codes stays a range."""
    code_range = RANGE.fullmatch(code)
    if code_range:
        reversed_ends = [reverse_code(code_range[group], low, high) for group in (2, 1)]
        return f"{reversed_ends[0]} to {reversed_ends[1]}"
    return strip_point(f"{low + high - float(code):g}") if is_number(code) else code


def reverse_codes(code: str, low: float, high: float) -> tuple[str, ...]:
    """Return the one code that a code becomes."""
    return (reverse_code(code, low, high),)


def reverse_scale(
    column: Column, span: tuple[float, float], name: str, first_row: int
) -> tuple[Column, list[tuple[str, str, int]]]:
    """Reverse a score: lowest plus highest minus the score.

    Raises
    ------
    DataError
        If a score is outside the span.
    """
    if column.type not in ("integer", "number"):
        raise DataError(
            f"{name} is {column.type}, so it cannot be reverse-scored.",
            todo="Correct it first; check lists the cells.",
            columns=[name],
        )
    low, high = span
    outside = ~column.is_missing & ((column.values < low) | (column.values > high))
    if outside.any():
        rows = np.flatnonzero(outside)
        raise DataError(
            f"{name} has {pluralize(len(rows), 'cell')} outside {low:g} to {high:g}.",
            where=", ".join(f"row {row + first_row}: {column.values[row]:g}" for row in rows[:5].tolist()),
            todo="Correct the cells first, or use the right ‹span›.",
        )
    values = low + high - column.values
    is_integer = column.type == "integer" and float(low + high).is_integer()
    result = Column.of("integer" if is_integer else "number", values, column.why, column.reasons)
    places, texts, counts = encode_as_texts(column)
    del places
    pairs = [
        (text, strip_point(f"{low + high - float(text):g}"), int(count))
        for text, count in zip(texts, counts, strict=True)
    ]
    return result, sorted(pairs)
