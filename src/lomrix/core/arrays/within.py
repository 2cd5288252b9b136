"""Arrays of rows in order, cut into runs: sums so far, and the last value present."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import HALF, LOWER, joined_halves
from lomrix.core.arrays.types import Array

Rows = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
# Runs of more rows are summed one by one, all shorter ones together place by place.
LONG = 512


def running_totals(values: Array, starts: Rows) -> Array:
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

    Examples
    --------
    >>> running_totals(np.array([1, 2, 3, 10, 20]), np.array([0, 3])).tolist()
    [1, 3, 6, 10, 30]
    """
    lengths = np.diff(np.append(starts, len(values)))
    if values.dtype.kind == "i" and len(values):  # whole numbers may run on: what was there before is taken off exactly
        total = np.cumsum(values)
        return np.asarray(total - np.repeat(total[starts] - values[starts], lengths))
    total = values.copy()
    for run in np.flatnonzero(lengths > LONG).tolist():
        part = slice(starts[run], starts[run] + lengths[run])
        total[part] = np.cumsum(values[part])
    short = starts[lengths <= LONG]
    left = lengths[lengths <= LONG]
    for place in range(1, int(left.max(initial=0))):
        going = left > place
        short, left = short[going], left[going]
        total[short + place] += total[short + place - 1]
    return total


def exact_running_totals(values: Rows, starts: Rows) -> tuple[Rows, Mask]:
    """Sums so far of whole numbers in each run, and where they are beyond 64 bits.

    Examples
    --------
    >>> exact_running_totals(np.array([2**62, 2**62, -1, 5]), np.array([0, 3]))[1].tolist()
    [False, True, False, False]
    """
    return joined_halves(running_totals(values >> HALF, starts), running_totals(values & LOWER, starts))


def last_present(present: Mask, starts: Rows) -> Rows:
    """For each place the last one at or before it, in its run, that is present; -1 where there is none.

    Parameters
    ----------
    present
        Shape (n,), in order.
    starts
        First place of each run, ascending, the first of them 0.

    Examples
    --------
    >>> last_present(np.array([True, False, False, True]), np.array([0, 2])).tolist()
    [0, 0, -1, 3]
    """
    places = np.arange(len(present))
    last = np.maximum.accumulate(np.where(present, places, -1))
    begin = np.repeat(starts, np.diff(np.append(starts, len(present))))
    return np.where(last < begin, -1, last)
