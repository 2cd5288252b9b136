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
# Numbers within so many powers of two of the largest one are scaled down before they are added.
HUGE = 64
LIMB = (1 << 21) - 1


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

    Every statistic has shape (count,): one number per group, NaN where a group has too few values for it; minimum and
    maximum of integers are integers, and hold anything for a group without values.
    """

    codes: Codes
    values: Array
    count: int

    @cached_property
    def sizes(self) -> npt.NDArray[np.int64]:
        """Number of values per group."""
        return np.bincount(self.codes, minlength=self.count)

    def plain_total_of(self, values: Array) -> Numbers:
        """Sum per group of other values in the same groups, added one after the other."""
        return np.asarray(np.bincount(self.codes, weights=values, minlength=self.count), dtype=np.float64)

    @cached_property
    def total(self) -> Array:
        """Sum per group; 0 for a group without values.

        Whole numbers are added exactly: int64, or float64 where a sum is beyond that. The error of other sums is at
        most n^2 2^-80 times the largest value of all groups, beside one rounding of the result: each value is cut in
        two, and the upper parts add up without any error.

        References
        ----------
        S. M. Rump, T. Ogita and S. Oishi, "Accurate floating-point summation part I: faithful rounding", SIAM Journal
        on Scientific Computing 31 (2008), 189-224, algorithm 3.2 (ExtractVector).

        Examples
        --------
        >>> Values(np.zeros(3, np.int64), np.array([1e16, 1.0, -1e16]), 1).total
        array([1.])
        """
        if self.values.dtype.kind in "bi":
            return self._exact_total(self.values.astype(np.int64, copy=False))
        with np.errstate(over="ignore"):
            return np.ldexp(self._scaled_total, self._scale)

    @cached_property
    def _scale(self) -> int:
        """Values near the largest number that there is are added as parts of it."""
        largest = np.abs(self.values).max(initial=0)
        return int(HUGE) if largest > 2.0 ** (1000 - HUGE) else 0

    @cached_property
    def _scaled_total(self) -> Numbers:
        values = np.ldexp(self.values, -self._scale) if self._scale else self.values
        largest = float(np.abs(values).max(initial=0))
        if not largest:
            return np.zeros(self.count)
        bits = int(np.ceil(np.log2(len(values) + 2)))
        sigma = np.ldexp(1.0, int(np.frexp(largest)[1]) + bits)
        upper = values + sigma
        upper -= sigma
        return self.plain_total_of(upper) + self.plain_total_of(values - upper)

    def _exact_total(self, values: npt.NDArray[np.int64]) -> Array:
        largest = max(abs(int(values.max(initial=0))), abs(int(values.min(initial=0))))
        if largest * max(len(values), 1) < 2**53:
            return self.plain_total_of(values).astype(np.int64)
        # Three limbs of 21 bits, whose sums are exact; put together as Python's own integers.
        limbs = [(values >> 42), (values >> 21) & LIMB, values & LIMB]
        sums = [self.plain_total_of(limb).astype(np.int64).astype(object) for limb in limbs]
        whole = (sums[0] << 42) + (sums[1] << 21) + sums[2]
        is_held = not self.count or max(map(abs, whole)) < 2**63
        return np.asarray(whole.astype(np.int64 if is_held else np.float64))

    @cached_property
    def mean(self) -> Numbers:
        """Arithmetic mean per group."""
        with np.errstate(invalid="ignore", over="ignore", divide="ignore"):
            if self.values.dtype.kind in "bi":
                return np.asarray(self.total / self.sizes, dtype=np.float64)
            return np.ldexp(self._scaled_total / self.sizes, self._scale)

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
        rounding = self.plain_total_of(deviations)
        with np.errstate(over="ignore"):
            np.multiply(deviations, deviations, out=deviations)
        squares = self.plain_total_of(deviations)
        with np.errstate(invalid="ignore", divide="ignore"):
            squares = squares - rounding**2 / self.sizes
            result = np.sqrt(np.maximum(squares, 0) / (self.sizes - 1))
        return np.where(self.sizes > 1, result, np.nan)

    @property
    def smallest(self) -> Array:
        """Minimum per group, in the type of the values where they are integers."""
        return self._extreme(np.minimum)

    @property
    def largest(self) -> Array:
        """Maximum per group, in the type of the values where they are integers."""
        return self._extreme(np.maximum)

    def _extreme(self, pick: np.ufunc) -> Array:
        values = self.values.astype(np.int64 if self.values.dtype.kind in "bi" else np.float64, copy=False)
        if not len(values):
            return np.full(self.count, np.nan)
        # Any value of all may begin: the others of its group decide, and groups without values are told apart.
        result = np.full(self.count, values.max() if pick is np.minimum else values.min())
        pick.at(result, self.codes, values)
        return result if values.dtype.kind == "i" else np.where(self.sizes == 0, np.nan, result)

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


STATISTICS: dict[str, Callable[[Values], Array]] = {
    "mean": lambda values: values.mean,
    "sd": lambda values: values.standard_deviation,
    "median": lambda values: values.median,
    "min": lambda values: values.smallest,
    "max": lambda values: values.largest,
    "sum": lambda values: values.total,
}
