"""Patterns: at which occasions a case was seen, and how many cases share that."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import dense

SEEN, NOT_SEEN = "x", "_"
# So many occasions fit into the bits of one number.
BITS = 62
# Patterns of so few occasions are numbered and counted, which takes no sorting.
FEW_BITS = 16
Mask = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]


@dataclass
class Patterns:
    """Cases by the occasions at which they were seen.

    Parameters
    ----------
    seen
        Shape (cases, occasions): True where a case has a row.
    """

    seen: Mask

    @cached_property
    def _distinct(self) -> tuple[Counts, Counts, Counts]:
        """First case of each pattern, pattern of each case, and number of cases of each, the commonest first."""
        cases, times = self.seen.shape
        if times <= BITS:
            code = np.zeros(cases, np.int64)
            for at in range(times):
                code += self.seen[:, at] * np.int64(1 << (times - 1 - at))
        if times <= FEW_BITS:
            which, found = dense(code, 1 << times)
            counts, first = np.bincount(which, minlength=len(found)), np.empty(len(found), np.int64)
            first[which[::-1]] = np.arange(cases)[::-1]
        elif times <= BITS:
            _, first, which, counts = np.unique(code, return_index=True, return_inverse=True, return_counts=True)
        else:
            packed = np.packbits(self.seen, axis=1)
            whole = packed.view([("", packed.dtype)] * packed.shape[1]).ravel()
            _, first, which, counts = np.unique(whole, return_index=True, return_inverse=True, return_counts=True)
        # Of equally common ones those that were seen earlier and longer come first.
        order = np.lexsort((*(~self.seen[first]).T[::-1], -counts)) if len(first) else first
        place = np.empty(len(order), np.int64)
        place[order] = np.arange(len(order))
        return first[order], place[which], counts[order]

    @cached_property
    def rows(self) -> Mask:
        """Shape (patterns, occasions), the commonest first."""
        return self.seen[self._distinct[0]]

    @property
    def counts(self) -> Counts:
        """Cases of each pattern."""
        return self._distinct[2]

    @property
    def of_case(self) -> Counts:
        """The pattern of each case."""
        return self._distinct[1]

    def texts(self) -> list[str]:
        """Each pattern as text, a sign for each occasion."""
        return ["".join(SEEN if one else NOT_SEEN for one in row) for row in self.rows.tolist()]

    @cached_property
    def row_first(self) -> Counts:
        """For each pattern the place of the first occasion at which its cases were seen."""
        return np.asarray(self.rows.argmax(axis=1)) if len(self.rows) else np.zeros(0, np.int64)

    @cached_property
    def row_last(self) -> Counts:
        """For each pattern the place of the last one."""
        last = self.rows.shape[1] - 1
        return np.asarray(last - self.rows[:, ::-1].argmax(axis=1)) if len(self.rows) else np.zeros(0, np.int64)

    @property
    def first(self) -> Counts:
        """For each case the place of the first occasion at which it was seen."""
        return self.row_first[self.of_case]

    @property
    def last(self) -> Counts:
        """For each case the place of the last occasion at which it was seen."""
        return self.row_last[self.of_case]

    def flows(self) -> dict[str, Counts]:
        """By word, for each occasion a number of cases.

        `seen` there; `kept` of those that were seen at the first occasion; `new` for the first time; `returned` after
        they had missed at least one; `left` those that were seen at the occasion before and not there; `not again`
        those that were never seen afterwards.
        """
        seen, counts = self.rows, self.counts
        times = seen.shape[1]
        before = np.zeros_like(seen)
        before[:, 1:] = seen[:, :-1]

        def cases(which: Mask) -> Counts:
            return np.asarray(counts @ which)

        there, stayed = cases(seen), cases(seen & before)
        new = np.bincount(self.row_first, counts, times).astype(np.int64)
        return {
            "seen": there,
            "kept": cases(seen & seen[:, :1]),
            "new": new,
            "returned": there - stayed - new,
            "left": cases(before) - stayed,
            "not again": np.bincount(self.row_last, counts, times).astype(np.int64),
        }
