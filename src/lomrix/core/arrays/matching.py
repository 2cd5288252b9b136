"""Matching: which rows of two tables have equal key codes, without sorting where possible."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import Codes

Rows = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Counts:
    """How often each code occurs on both sides."""

    base: npt.NDArray[np.int64]  # number of rows per code, on each side
    added: npt.NDArray[np.int64]

    @classmethod
    def count(cls, base: Codes, added: Codes, size: int) -> Counts:
        """Count the codes of both sides; codes of -1 are not counted."""
        return cls(count_codes(base, size), count_codes(added, size))

    @property
    def pairs(self) -> int:
        """Number of pairs of rows with equal codes."""
        return int((self.base * self.added).sum())

    def shared(self, base: Codes) -> npt.NDArray[np.bool_]:
        """Return for each base row whether the added side has its code."""
        return _occurs(self.added, base)

    def shared_by_base(self, added: Codes) -> npt.NDArray[np.bool_]:
        """Return for each added row whether the base side has its code."""
        return _occurs(self.base, added)


def count_codes(codes: Codes, size: int) -> npt.NDArray[np.int64]:
    """Count the rows of each code; -1 is not counted."""
    present = codes if not len(codes) or codes.min() >= 0 else codes[codes >= 0]
    return np.bincount(present, minlength=size)


def sum_counts(codes: Codes, size: int, counts: npt.NDArray[np.int64] | None) -> npt.NDArray[np.int64]:
    """Return the sum of the counts of each code, without counts their number; those of -1 are in none."""
    if counts is None:
        return count_codes(codes, size)
    used = codes >= 0
    return np.bincount(codes[used], counts[used], minlength=size).astype(np.int64)


def _occurs(counts: npt.NDArray[np.int64], codes: Codes) -> npt.NDArray[np.bool_]:
    # One more element, so that code -1 picks False.
    occurs = np.append(counts > 0, False)
    return np.asarray(occurs[codes])


def find_first_rows(codes: Codes, size: int) -> Rows:
    """Return the first row of each code, -1 for a code that does not occur."""
    table = np.full(size, -1, np.int64)
    rows = np.flatnonzero(codes >= 0)[::-1]
    table[codes[rows]] = rows
    return table


def match_rows(base: Codes, added: Codes, size: int, counts: Counts) -> tuple[Rows, Rows]:
    """Return pairs of rows with equal codes, in base order; an unmatched base row is paired with -1.

    Parameters
    ----------
    base, added
        Key codes of the rows, below `size`; -1 where the key is missing, which matches nothing.
    size
        How many codes there can be.
    counts
        Rows per code on both sides.

    Returns
    -------
    Row numbers of the base side and of the added side, of equal length. Partners of one base row stand in
    the order of the added side.
    """
    if not len(counts.added) or counts.added.max(initial=0) <= 1:
        table = np.append(find_first_rows(added, size), -1)  # the last place answers for a code of -1
        return np.arange(len(base)), table[base]
    partners = np.append(counts.added, 0)[base]
    repeats = np.maximum(partners, 1)
    base_rows = np.repeat(np.arange(len(base)), repeats)
    order = np.argsort(added, kind="stable")
    order = order[np.count_nonzero(added < 0) :]
    starts = np.append(np.cumsum(counts.added) - counts.added, 0)[base]
    within = np.arange(len(base_rows)) - np.repeat(np.cumsum(repeats) - repeats, repeats)
    index = np.repeat(starts, repeats) + within
    has_partner = np.repeat(partners > 0, repeats)
    added_rows = np.full(len(base_rows), -1, np.int64)
    added_rows[has_partner] = order[index[has_partner]]
    return base_rows, added_rows
