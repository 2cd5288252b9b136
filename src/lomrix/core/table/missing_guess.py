"""Guess undeclared missing codes: numbers that are far from all others."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import find_distinct
from lomrix.core.arrays.types import Array
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.variable import Variable

# Numbers often used for missing cells: all nines, eights or sevens, with or without a minus.
USUAL_CODES = frozenset(
    sign * int(str(digit) * length) for sign in (1, -1) for digit in (7, 8, 9) for length in (1, 2, 3, 4, 5)
) | frozenset(sign * (base - less) for sign in (1, -1) for base in (99, 999, 9999) for less in (1, 2))
# With fewer other cells it is unclear what is usual.
LEAST_OTHERS = 3
LEAST_GAP = 3
# At most this many codes are expected at either end.
MOST_CODES = 5


def guess_missing_codes(column: Column, entry: Variable, labels: Codes) -> list[int]:
    """Return the numbers of a column that look like undeclared missing codes, ascending.

    Such a value is a usual code, not in the dictionary, and at least as far from the others as these are from each
    other; or it is negative where no other is.

    >>> guess_missing_codes(Column.of_cells("integer", [34, 51, 28, -9, 47, 999]), Variable(), {})
    [-9, 999]
    >>> guess_missing_codes(Column.of_cells("integer", [7, 8, 9, 10, 12]), Variable(), {})
    []
    """
    if column.type not in ("integer", "number") or len(column) == column.missing_count:
        return []
    values = column.values if column.why is None else column.values[~column.is_missing]
    if not (is_usual_code(values.min()) or is_usual_code(values.max())):
        return []
    declared = {*entry.missing, *entry.allowed, *labels}
    distinct = find_distinct(values)
    usual = np.array([is_usual_code(value) and str(int(value)) not in declared for value in distinct])
    if entry.minimum is not None or entry.maximum is not None:
        # With limits, values outside them are reported anyway.
        return []
    low, high = 0, len(distinct)
    while True:
        bottom, top = count_apart_below(distinct[low:high], usual[low:high]), 0
        low += bottom
        if low < high:
            top = count_apart_below(-distinct[low:high][::-1], usual[low:high][::-1], by_sign=False)
            high -= top
        if not bottom and not top:
            break
    if low == high or np.count_nonzero((values >= distinct[low]) & (values <= distinct[high - 1])) < LEAST_OTHERS:
        return []
    return [int(code) for code in (*distinct[:low], *distinct[high:])]


def count_apart_below(distinct: Array, usual: npt.NDArray[np.bool_], *, by_sign: bool = True) -> int:
    """Count the lowest values that are usual codes and far from all above them; with `by_sign`, being negative where no
    other is suffices.
    """
    for count in range(min(MOST_CODES, len(distinct) - 1), 0, -1):
        others = distinct[count:]
        gap = others[0] - distinct[count - 1]
        is_apart = gap >= max(LEAST_GAP, others[-1] - others[0]) or (by_sign and distinct[count - 1] < 0 <= others[0])
        if usual[:count].all() and is_apart:
            return count
    return 0


def is_usual_code(value: float) -> bool:
    """Return whether a number is a usual missing code."""
    return value == int(value) and int(value) in USUAL_CODES if np.isfinite(value) else False
