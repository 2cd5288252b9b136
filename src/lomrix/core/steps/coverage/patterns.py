"""Patterns: at which occasions cases were seen, and how many cases share a pattern."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import compact_codes
from lomrix.core.combining import Combinable

SEEN, NOT_SEEN = "x", "_"
# At most this many occasions fit into the bits of an int64.
BITS = 62
# Patterns of at most this many occasions are counted without sorting.
FEW_BITS = 16
Mask = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]


@dataclass
class PatternCounts(Combinable):
    """Patterns, an array of shape (patterns, occasions) that is True where a case was seen, and the cases of each; the
    most frequent first, and of equally frequent ones those seen earlier and longer.
    """

    rows: Mask
    counts: Counts

    def combine(self, later: PatternCounts) -> PatternCounts:
        """Count the patterns of both."""
        rows = np.vstack([self.rows, later.rows])
        distinct = Patterns(rows)
        counts = np.bincount(distinct.of_case, np.append(self.counts, later.counts), len(distinct.rows))
        order = sort_patterns(distinct.rows, counts)
        return PatternCounts(distinct.rows[order], counts[order].astype(np.int64))

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


def sort_patterns(rows: Mask, counts: Counts) -> Counts:
    """Return the order of some patterns."""
    return np.lexsort((*(~rows).T[::-1], -counts)) if len(rows) else np.zeros(0, np.int64)


class Patterns(PatternCounts):
    """Patterns of the cases, from an array of shape (cases, occasions) that is True where a case was seen."""

    def __init__(self, seen: Mask) -> None:
        self.seen = seen
        first, pattern, counts = find_distinct(seen)
        order = sort_patterns(seen[first], counts)
        position = np.empty(len(order), np.int64)
        position[order] = np.arange(len(order))
        self.of_case: Counts = position[pattern]  # the pattern of each case
        super().__init__(seen[first[order]], counts[order])

    @property
    def first(self) -> Counts:
        """First occasion of each case, as a position."""
        return self.pattern_first[self.of_case]

    @property
    def last(self) -> Counts:
        """Last occasion of each case, as a position."""
        return self.pattern_last[self.of_case]


def find_distinct(seen: Mask) -> tuple[Counts, Counts, Counts]:
    """Return the first case of each pattern, the pattern of each case, and the number of cases of each."""
    cases, times = seen.shape
    if times <= BITS:
        code = np.zeros(cases, np.int64)
        for occasion in range(times):
            code += seen[:, occasion] * np.int64(1 << (times - 1 - occasion))
    if times <= FEW_BITS:
        pattern, codes_found = compact_codes(code, 1 << times)
        counts, first = np.bincount(pattern, minlength=len(codes_found)), np.empty(len(codes_found), np.int64)
        first[pattern[::-1]] = np.arange(cases)[::-1]
    elif times <= BITS:
        _, first, pattern, counts = np.unique(code, return_index=True, return_inverse=True, return_counts=True)
    else:
        packed = np.packbits(seen, axis=1)
        packed_rows = packed.view([("", packed.dtype)] * packed.shape[1]).ravel()
        _, first, pattern, counts = np.unique(packed_rows, return_index=True, return_inverse=True, return_counts=True)
    return first, pattern, counts
