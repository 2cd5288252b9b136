"""Guess undeclared missing codes: numbers that are far from all others."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import find_distinct
from lomrix.core.arrays.types import Array, Mask
from lomrix.core.combining import Combinable
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes, Dictionary
from lomrix.core.table.notes import Note
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


@dataclass(frozen=True)
class CodeEvidence(Combinable):
    """How often usual missing codes occur among numbers, and how far the others reach; adds up over parts."""

    codes: Mapping[int, int] = field(default_factory=dict)
    others: int = 0
    low: float = np.inf
    high: float = -np.inf

    @classmethod
    def of(cls, column: Column, rows: Mask | None = None) -> CodeEvidence:
        """Look at some rows of a column, or at all."""
        if column.type not in ("integer", "number"):
            return cls()
        is_used = rows if column.why is None else ~column.is_missing if rows is None else rows & ~column.is_missing
        values = column.values if is_used is None else column.values[is_used]
        codes = dict[int, int]()
        if len(values) and (is_usual_code(values.min()) or is_usual_code(values.max())):
            is_code = np.isin(values, [*USUAL_CODES])
            distinct, counts = np.unique(values[is_code], return_counts=True)
            codes = dict(zip(distinct.astype(np.int64).tolist(), counts.tolist(), strict=True))
            values = values[~is_code]
        ends = (float(values.min()), float(values.max())) if len(values) else (np.inf, -np.inf)
        return cls(codes, len(values), *ends)

    def combine(self, later: CodeEvidence) -> CodeEvidence:
        """Add what other rows show."""
        codes = {code: self.codes.get(code, 0) + later.codes.get(code, 0) for code in {*self.codes, *later.codes}}
        ends = min(self.low, later.low), max(self.high, later.high)
        return CodeEvidence(codes, self.others + later.others, *ends)

    def make_notes(self, name: str, dictionary: Dictionary) -> list[Note]:
        """Note the numbers of a column that look like undeclared missing codes."""
        if not self.codes:
            return []
        others = np.array([self.low, self.high, self.low][: min(self.others, LEAST_OTHERS)])
        codes = np.repeat([*self.codes], [min(count, LEAST_OTHERS) for count in self.codes.values()])
        values = Column.of("number", np.append(others, codes))
        found = guess_missing_codes(values, dictionary.of(name), dictionary.labels_of(name))
        cells = sum(self.codes[code] for code in found)
        return [Note(describe_codes(found), name, (), "missing-code", cells)] if found else []


def describe_codes(codes: Sequence[int]) -> str:
    """Say that numbers look like missing codes, and what to do if they are."""
    listed = ",".join(map(str, codes))
    are = "is far from all others and looks like a missing code"
    are = are if len(codes) == 1 else "are far from all others and look like missing codes"
    return f"{', '.join(map(str, codes))} {are}; if so, use ‹missing_text={listed}› or declare it in a dictionary."


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
