"""Patterns: at which occasions cases were seen, and how many cases share a pattern."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import compact_codes

SEEN, NOT_SEEN = "x", "_"
# At most this many occasions fit into the bits of an int64.
BITS = 62
# Patterns of at most this many occasions are counted without sorting.
FEW_BITS = 16
Mask = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]


@dataclass
class Patterns:
    """Patterns of the cases, from an array of shape (cases, occasions) that is True where a case was seen."""

    seen: Mask

    @cached_property
    def _distinct(self) -> tuple[Counts, Counts, Counts]:
        """First case of each pattern, pattern of each case, and number of cases of each, the most frequent first."""
        cases, times = self.seen.shape
        if times <= BITS:
            code = np.zeros(cases, np.int64)
            for occasion in range(times):
                code += self.seen[:, occasion] * np.int64(1 << (times - 1 - occasion))
        if times <= FEW_BITS:
            pattern, codes_found = compact_codes(code, 1 << times)
            counts, first = np.bincount(pattern, minlength=len(codes_found)), np.empty(len(codes_found), np.int64)
            first[pattern[::-1]] = np.arange(cases)[::-1]
        elif times <= BITS:
            _, first, pattern, counts = np.unique(code, return_index=True, return_inverse=True, return_counts=True)
        else:
            packed = np.packbits(self.seen, axis=1)
            packed_rows = packed.view([("", packed.dtype)] * packed.shape[1]).ravel()
            _, first, pattern, counts = np.unique(
                packed_rows, return_index=True, return_inverse=True, return_counts=True
            )
        # Of equally frequent ones those seen earlier and longer come first.
        order = np.lexsort((*(~self.seen[first]).T[::-1], -counts)) if len(first) else first
        position = np.empty(len(order), np.int64)
        position[order] = np.arange(len(order))
        return first[order], position[pattern], counts[order]

    @cached_property
    def rows(self) -> Mask:
        """Shape (patterns, occasions), the most frequent first."""
        return self.seen[self._distinct[0]]

    @property
    def counts(self) -> Counts:
        """Cases of each pattern."""
        return self._distinct[2]

    @property
    def of_case(self) -> Counts:
        """The pattern of each case."""
        return self._distinct[1]

    def format_patterns(self) -> list[str]:
        """Format each pattern with one character per occasion."""
        return ["".join(SEEN if is_seen else NOT_SEEN for is_seen in row) for row in self.rows.tolist()]

    @cached_property
    def pattern_first(self) -> Counts:
        """First occasion of each pattern, as a position."""
        return np.asarray(self.rows.argmax(axis=1)) if len(self.rows) else np.zeros(0, np.int64)

    @cached_property
    def pattern_last(self) -> Counts:
        """Last occasion of each pattern, as a position."""
        last = self.rows.shape[1] - 1
        return np.asarray(last - self.rows[:, ::-1].argmax(axis=1)) if len(self.rows) else np.zeros(0, np.int64)

    @property
    def first(self) -> Counts:
        """First occasion of each case, as a position."""
        return self.pattern_first[self.of_case]

    @property
    def last(self) -> Counts:
        """Last occasion of each case, as a position."""
        return self.pattern_last[self.of_case]

    def count_flows(self) -> dict[str, Counts]:
        """Count cases at each occasion, by word.

        `seen` there; `kept` of those seen at the first occasion; `new` for the first time; `returned` after missing at
        least one; `left` those seen at the occasion before but not there; `not again` those never seen afterwards.
        """
        seen, counts = self.rows, self.counts
        times = seen.shape[1]
        before = np.zeros_like(seen)
        before[:, 1:] = seen[:, :-1]

        def count_cases(mask: Mask) -> Counts:
            return np.asarray(counts @ mask)

        seen_cases, stayed = count_cases(seen), count_cases(seen & before)
        new = np.bincount(self.pattern_first, counts, times).astype(np.int64)
        return {
            "seen": seen_cases,
            "kept": count_cases(seen & seen[:, :1]),
            "new": new,
            "returned": seen_cases - stayed - new,
            "left": count_cases(before) - stayed,
            "not again": np.bincount(self.pattern_last, counts, times).astype(np.int64),
        }
