"""Numbers that stand apart from all others and look like missing codes that nobody declared."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import distinct_values
from lomrix.core.arrays.types import Array
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.variable import Variable

# Numbers that are given to missing cells: all nines, eights or sevens, with a minus sign or without.
USUAL_CODES = frozenset(
    sign * int(str(digit) * length) for sign in (1, -1) for digit in (7, 8, 9) for length in (1, 2, 3, 4, 5)
) | frozenset(sign * (base - less) for sign in (1, -1) for base in (99, 999, 9999) for less in (1, 2))
# Fewer other cells say nothing of what is usual.
LEAST_OTHERS = 3
LEAST_GAP = 3
# So many different codes are looked for at either end.
MOST_CODES = 5


def likely_missing_codes(column: Column, entry: Variable, labels: Codes) -> list[int]:
    """The values of a column of numbers that look like missing codes, in ascending order.

    Such a value is a usual code, not named by the dictionary, and as far from all that are none as these are from each
    other, at least; or it is below zero where no other is.

    Parameters
    ----------
    column
        Any column; only those of numbers can have some.
    entry, labels
        What the dictionary says of it.

    Examples
    --------
    >>> likely_missing_codes(Column.of_cells("integer", [34, 51, 28, -9, 47, 999]), Variable(), {})
    [-9, 999]
    >>> likely_missing_codes(Column.of_cells("integer", [7, 8, 9, 10, 12]), Variable(), {})
    []
    """
    if column.type not in ("integer", "number") or len(column) == column.missing_count:
        return []
    values = column.values if column.why is None else column.values[~column.is_missing]
    if not (is_usual(values.min()) or is_usual(values.max())):
        return []
    known = {*entry.missing, *entry.allowed, *labels}
    distinct = distinct_values(values)
    usual = np.array([is_usual(value) and str(int(value)) not in known for value in distinct])
    if entry.minimum is not None or entry.maximum is not None:
        # Limits speak for themselves: what lies outside is told by them.
        return []
    low, high = 0, len(distinct)
    while True:
        bottom, top = apart_below(distinct[low:high], usual[low:high]), 0
        low += bottom
        if low < high:
            top = apart_below(-distinct[low:high][::-1], usual[low:high][::-1], by_sign=False)
            high -= top
        if not bottom and not top:
            break
    if low == high or np.count_nonzero((values >= distinct[low]) & (values <= distinct[high - 1])) < LEAST_OTHERS:
        return []
    return [int(code) for code in (*distinct[:low], *distinct[high:])]


def apart_below(distinct: Array, usual: npt.NDArray[np.bool_], *, by_sign: bool = True) -> int:
    """How many of the lowest values are usual codes and stand apart from all above them.

    Parameters
    ----------
    distinct
        Array of d distinct numbers in ascending order.
    usual
        Whether each is a usual code.
    by_sign
        Whether it is enough that they are below zero where no other is.
    """
    for count in range(min(MOST_CODES, len(distinct) - 1), 0, -1):
        rest = distinct[count:]
        gap = rest[0] - distinct[count - 1]
        is_apart = gap >= max(LEAST_GAP, rest[-1] - rest[0]) or (by_sign and distinct[count - 1] < 0 <= rest[0])
        if usual[:count].all() and is_apart:
            return count
    return 0


def is_usual(value: float) -> bool:
    """True for a whole number that is given to missing cells."""
    return value == int(value) and int(value) in USUAL_CODES if np.isfinite(value) else False
