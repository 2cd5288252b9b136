"""Patterns: at which occasions a case was seen, and how many cases share that."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

SEEN, NOT_SEEN = "x", "."
# So many occasions fit into the bits of one number.
BITS = 62
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

    @property
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
    def first(self) -> Counts:
        """For each case the place of the first occasion at which it was seen."""
        return np.asarray(self.seen.argmax(axis=1))

    @cached_property
    def last(self) -> Counts:
        """For each case the place of the last occasion at which it was seen."""
        return np.asarray(self.seen.shape[1] - 1 - self.seen[:, ::-1].argmax(axis=1))

    def flows(self) -> dict[str, Counts]:
        """By word, for each occasion a number of cases.

        `seen` there; `kept` of those that were seen at the first occasion; `new` for the first time; `returned` after
        they had missed at least one; `left` those that were seen at the occasion before and not there; `not again`
        those that were never seen afterwards.
        """
        seen, times = self.seen, self.seen.shape[1]
        before = np.zeros_like(seen)
        before[:, 1:] = seen[:, :-1]
        counted = np.bincount
        new = counted(self.first, minlength=times)
        stayed = np.count_nonzero(seen & before, axis=0)
        there = np.count_nonzero(seen, axis=0)
        return {
            "seen": there,
            "kept": np.count_nonzero(seen & seen[:, :1], axis=0),
            "new": new,
            "returned": there - stayed - new,
            "left": np.count_nonzero(before, axis=0) - stayed,
            "not again": counted(self.last, minlength=times),
        }
