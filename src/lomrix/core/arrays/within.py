"""Runs of consecutive rows: cumulative sums, and the last present value."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import HALF, LOWER, join_halves
from lomrix.core.arrays.types import Array

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
# Longer runs are summed one by one, shorter ones all together, position by position.
LONG = 512


def cumulate(values: Array, starts: Rows) -> Array:
    """Sums so far in each run.

    Parameters
    ----------
    values
        int64 or float64, shape (n,), in order; what does not count is 0.
    starts
        First place of each run, ascending, the first of them 0; every run has a row.

    Returns
    -------
    Array of n sums of the values' dtype; each is added up from the beginning of its own run, so that a large run does
    not cost a later one its digits.

    >>> cumulate(np.array([1, 2, 3, 10, 20]), np.array([0, 3])).tolist()
    [1, 3, 6, 10, 30]
    """
    lengths = np.diff(np.append(starts, len(values)))
    if values.dtype.kind == "i" and len(
        values
    ):  # integers may cumulate over all runs: what came before is subtracted exactly
        total = np.cumsum(values)
        return np.asarray(total - np.repeat(total[starts] - values[starts], lengths))
    total = values.copy()
    for run in np.flatnonzero(lengths > LONG).tolist():
        part = slice(starts[run], starts[run] + lengths[run])
        total[part] = np.cumsum(values[part])
    short = starts[lengths <= LONG]
    remaining = lengths[lengths <= LONG]
    for offset in range(1, int(remaining.max(initial=0))):
        active = remaining > offset
        short, remaining = short[active], remaining[active]
        total[short + offset] += total[short + offset - 1]
    return total


def cumulate_exactly(values: Rows, starts: Rows) -> tuple[Rows, Mask]:
    """Return cumulative sums of integers in each run, and where they overflow 64 bits.

    >>> cumulate_exactly(np.array([2**62, 2**62, -1, 5]), np.array([0, 3]))[1].tolist()
    [False, True, False, False]
    """
    return join_halves(cumulate(values >> HALF, starts), cumulate(values & LOWER, starts))


def find_last_present(present: Mask, starts: Rows) -> Rows:
    """Return for each position the last present one at or before it in its run; -1 if there is none.

    Parameters
    ----------
    present
        Shape (n,), in order.
    starts
        First place of each run, ascending, the first of them 0.

    >>> find_last_present(np.array([True, False, False, True]), np.array([0, 2])).tolist()
    [0, 0, -1, 3]
    """
    positions = np.arange(len(present))
    last = np.maximum.accumulate(np.where(present, positions, -1))
    begin = np.repeat(starts, np.diff(np.append(starts, len(present))))
    return np.where(last < begin, -1, last)
