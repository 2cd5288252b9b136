"""Statistics of groups, over arrays of group codes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import ranks
from lomrix.core.arrays.types import Array

Codes = npt.NDArray[np.int64]
Numbers = npt.NDArray[np.float64]
SAMPLE = 4096
# Medians are found by counting where the table of counts is at most this many times as long as the values.
ROOMY = 4


@dataclass
class Values:
    """The present values of a variable by group; what several statistics need is computed once.

    Parameters
    ----------
    codes
        Group of each value: int64, 0 … count-1.
    values
        The values: integers, numbers or booleans of the same length, none missing.
    count
        Number of groups.

    Every statistic has shape (count,): one number per group, NaN where a group has too few values for it.
    """

    codes: Codes
    values: Array
    count: int

    @cached_property
    def sizes(self) -> npt.NDArray[np.int64]:
        """Number of values per group."""
        return np.bincount(self.codes, minlength=self.count)

    def total_of(self, values: Array) -> Numbers:
        """Sum per group of other values in the same groups."""
        return np.asarray(np.bincount(self.codes, weights=values, minlength=self.count), dtype=np.float64)

    @cached_property
    def total(self) -> Numbers:
        """Sum per group; 0 for a group without values."""
        return self.total_of(self.values)

    @cached_property
    def mean(self) -> Numbers:
        """Arithmetic mean per group."""
        with np.errstate(invalid="ignore"):
            return np.asarray(self.total / self.sizes, dtype=np.float64)

    @property
    def standard_deviation(self) -> Numbers:
        """Sample standard deviation per group, with n - 1 below; needs two values.

        References
        ----------
        The two-pass formula of T. F. Chan, G. H. Golub and R. J. LeVeque, "Algorithms for computing the sample
        variance", The American Statistician 37 (1983), 242-247, with their correction for rounding (formula 1.7).

        Examples
        --------
        >>> Values(np.zeros(2, np.int64), np.array([1.0, 3.0]), 1).standard_deviation
        array([1.41421356])
        """
        deviations = self.values - self.mean[self.codes]
        rounding = self.total_of(deviations)
        np.multiply(deviations, deviations, out=deviations)
        squares = self.total_of(deviations)
        with np.errstate(invalid="ignore", divide="ignore"):
            squares = squares - rounding**2 / self.sizes
            result = np.sqrt(np.maximum(squares, 0) / (self.sizes - 1))
        return np.where(self.sizes > 1, result, np.nan)

    @property
    def smallest(self) -> Numbers:
        """Minimum per group."""
        result = np.full(self.count, np.inf)
        np.minimum.at(result, self.codes, self.values.astype(np.float64, copy=False))
        return np.where(np.isinf(result) & (self.sizes == 0), np.nan, result)

    @property
    def largest(self) -> Numbers:
        """Maximum per group."""
        result = np.full(self.count, -np.inf)
        np.maximum.at(result, self.codes, self.values.astype(np.float64, copy=False))
        return np.where(np.isinf(result) & (self.sizes == 0), np.nan, result)

    @property
    def median(self) -> Numbers:
        """Median per group: the middle value, or the mean of the two middle ones.

        Examples
        --------
        >>> Values(np.array([0, 0, 0, 0]), np.array([9, 1, 4, 2]), 1).median
        array([3.])
        """
        number = self.sizes
        result = np.full(self.count, np.nan)
        filled = np.flatnonzero(number)
        if not len(filled):
            return result
        rank, distinct = ranks(self.values, np.zeros(len(self.values), np.bool_))
        if len(distinct) * self.count <= ROOMY * len(self.values) + 1024:
            return _median_by_counting(self.codes, rank, distinct, number)
        # Sorting one number made of group and rank puts every group's values in order.
        width = len(distinct)
        ordered = self.codes * width
        ordered += rank
        ordered.sort()
        start = (np.cumsum(number) - number)[filled]
        low = distinct[ordered[start + (number[filled] - 1) // 2] % width].astype(np.float64)
        high = distinct[ordered[start + number[filled] // 2] % width].astype(np.float64)
        result[filled] = low + (high - low) / 2
        return result


def sizes(codes: Codes, count: int) -> npt.NDArray[np.int64]:
    """Number of values per group."""
    return np.bincount(codes, minlength=count)


def order_statistic(values: Array, place: int) -> Any:
    """The value that would stand at a place (counted from 0) if the values were sorted.

    A sample says between which two values it must lie; only what lies between is put in order, and where the
    sample was wrong everything is.

    References
    ----------
    R. W. Floyd and R. L. Rivest, "Expected time bounds for selection", Communications of the ACM 18 (1975),
    165-172.
    """
    if len(values) > 50 * SAMPLE:
        sample = np.sort(values[:: len(values) // SAMPLE])
        at = place / len(values) * len(sample)
        low = sample[max(int(at - 0.02 * len(sample)), 0)]
        high = sample[min(int(at + 0.02 * len(sample)) + 1, len(sample) - 1)]
        below = int(np.count_nonzero(values < low))
        between = values[(values >= low) & (values <= high)]
        if below <= place < below + len(between):
            return np.partition(between, place - below)[place - below]
    return np.partition(values, place)[place]


def quantiles(values: Array, shares: tuple[float, ...]) -> tuple[float, ...]:
    """Quantiles of values (at least one, none missing), between two neighbours by their distance.

    References
    ----------
    Definition 7 of R. J. Hyndman and Y. Fan, "Sample quantiles in statistical packages", The American
    Statistician 50 (1996), 361-365.
    """
    places = [(len(values) - 1) * share for share in shares]
    wanted = sorted({place for at in places for place in (int(at), min(int(at) + 1, len(values) - 1))})
    low = int(values.min()) if values.dtype.kind == "i" else 0
    if values.dtype.kind == "i" and int(values.max()) - low < len(values) + 1024:
        reached = np.cumsum(np.bincount(values - low))  # counting takes no sorting
        found = np.searchsorted(reached, np.array(wanted), side="right") + low
    else:
        found = np.array([order_statistic(values, place) for place in wanted])
    value = dict(zip(wanted, found.astype(np.float64).tolist(), strict=True))
    return tuple(
        value[int(at)] + (at - int(at)) * (value[min(int(at) + 1, len(values) - 1)] - value[int(at)]) for at in places
    )


def _median_by_counting(codes: Codes, rank: Codes, distinct: Array, number: Codes) -> Numbers:
    """Medians from how often each distinct value stands in each group: nothing is sorted."""
    count, width = len(number), len(distinct)
    counts = np.bincount(codes * width + rank, minlength=count * width).reshape(count, width)
    reached = np.cumsum(counts, axis=1)
    low = (reached > ((number - 1) // 2)[:, None]).argmax(axis=1)
    high = (reached > (number // 2)[:, None]).argmax(axis=1)
    lower, upper = distinct[low].astype(np.float64), distinct[high].astype(np.float64)
    return np.where(number > 0, lower + (upper - lower) / 2, np.nan)


STATISTICS: dict[str, Callable[[Values], Numbers]] = {
    "mean": lambda values: values.mean,
    "sd": lambda values: values.standard_deviation,
    "median": lambda values: values.median,
    "min": lambda values: values.smallest,
    "max": lambda values: values.largest,
    "sum": lambda values: values.total,
}
