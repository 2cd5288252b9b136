"""Statistics of groups, over arrays of group codes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.arrangement import GroupOrder, RowOrder
from lomrix.core.arrays.ordinals import Extent, Ordinals, encode_countable, encode_ordinals
from lomrix.core.arrays.sums import EXACT, DecimalSums, NumberSums, Sums
from lomrix.core.arrays.types import Array

Codes = npt.NDArray[np.int64]
Numbers = npt.NDArray[np.float64]
SAMPLE = 4096
# Medians are found by counting if the table of counts is this many times shorter than the values.
SHORT = 4
# Sums of more groups than this do not fit the processor's cache: values are sorted by group first.
MANY = 1 << 18
LEVEL = 0.95
# Values that are looked at together.
BLOCK = 1 << 20


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
    known_sizes
        Number of values per group, where that was counted before.
    extent
        That of all values, where these are a part of them: so that statistics are computed alike in every part.
    is_on_disk
        Whether the arrays are mapped from disk, so that nothing as long as they are should be made; needs `extent`.

    Every statistic has shape (count,): one number per group, NaN where a group has too few values for it; minimum and
    maximum of integers are integers, and hold anything for a group without values.
    """

    codes: Codes
    values: Array
    count: int
    known_sizes: npt.NDArray[np.int64] | None = None
    extent: Extent | None = None
    is_on_disk: bool = False

    @cached_property
    def sizes(self) -> npt.NDArray[np.int64]:
        """Number of values per group."""
        return group_sizes(self.codes, self.count) if self.known_sizes is None else self.known_sizes

    @cached_property
    def _sums(self) -> Sums:
        """Sums do not depend on row order, so they are computed in the order that is fastest."""
        whole = self._counted
        if whole is None or whole.size * (self.extent.count if self.extent else len(self.values)) >= EXACT:
            return NumberSums(RowOrder(self.values, self.codes, self.count), self.sizes, self.extent)
        if self.count > MANY:
            numbers = (self._sorted & self._mask).astype(np.int64, copy=False)
            return DecimalSums(GroupOrder(numbers, self.sizes), self.sizes, whole)
        return DecimalSums(RowOrder(whole.numbers, self.codes, self.count), self.sizes, whole)

    @property
    def total(self) -> Array:
        """Sum per group; 0 for a group without values.

        Whole numbers are added exactly: int64, or Python's integers where a sum is beyond that; so are decimals of few
        places that lie close together, whose sum is rounded once or twice. The error of other sums is at most n^2 2^-80
        times the largest value of all groups, beside one rounding of the result: each value is cut in two, and the
        upper parts add up without any error.

        References
        ----------
        S. M. Rump, T. Ogita and S. Oishi, "Accurate floating-point summation part I: faithful rounding", SIAM Journal
        on Scientific Computing 31 (2008), 189-224, algorithm 3.2 (ExtractVector).

        >>> Values(np.zeros(3, np.int64), np.array([1e16, 1.0, -1e16]), 1).total
        array([1.])
        """
        return self._sums.total

    @property
    def mean(self) -> Numbers:
        """Arithmetic mean per group."""
        return self._sums.mean

    @property
    def variance(self) -> Numbers:
        """Sample variance per group, with n - 1 below; needs two values.

        References
        ----------
        The two-pass formula of T. F. Chan, G. H. Golub and R. J. LeVeque, "Algorithms for computing the sample
        variance", The American Statistician 37 (1983), 242-247, with their correction for rounding (formula 1.7).

        >>> Values(np.zeros(2, np.int64), np.array([1.0, 3.0]), 1).variance
        array([2.])
        """
        return self._sums.variance

    @property
    def standard_deviation(self) -> Numbers:
        """Sample standard deviation per group: the square root of the variance."""
        return np.sqrt(self.variance)

    @property
    def standard_error(self) -> Numbers:
        """Standard error of the mean per group: standard deviation over the square root of n."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return self.standard_deviation / np.sqrt(self.sizes)

    @property
    def half_interval(self) -> Numbers:
        """Half the width of the mean's 95 % interval per group, by Student's t with n - 1 degrees of freedom.

        References
        ----------
        Student, "The probable error of a mean", Biometrika 6 (1908), 1-25.
        """
        return compute_half_interval(self.sizes, self.standard_error)

    @property
    def minimum(self) -> Array:
        """Minimum per group, in the type of the values where they are integers."""
        return self._extreme(np.minimum)

    @property
    def maximum(self) -> Array:
        """Maximum per group, in the type of the values where they are integers."""
        return self._extreme(np.maximum)

    def _extreme(self, pick: np.ufunc) -> Array:
        values = self.values.astype(np.int64 if self.values.dtype.kind in "bi" else np.float64, copy=False)
        if not len(values):
            return np.full(self.count, np.nan)
        # Any value may be the start: the group's own values decide, and empty groups are masked.
        result = np.full(self.count, values.max() if pick is np.minimum else values.min())
        pick.at(result, self.codes, values)
        return result if values.dtype.kind == "i" else np.where(self.sizes == 0, np.nan, result)

    @cached_property
    def _counted(self) -> Ordinals | None:
        return encode_countable(self.values, self.extent, is_lazy=self.is_on_disk)

    @cached_property
    def _ordinals(self) -> Ordinals:
        """A whole number for each value, in the order of the values."""
        return self._counted or encode_ordinals(self.values)

    @property
    def _bits(self) -> int:
        return self._ordinals.size.bit_length()

    @property
    def _mask(self) -> int:
        return (1 << self._bits) - 1

    @cached_property
    def _counts(self) -> npt.NDArray[np.int64] | None:
        """Count each ordinal in each group, shape (count, size); None where that is too large."""
        ordinals = self._ordinals
        if ordinals.size * self.count * SHORT > len(self.values) + 1024:
            return None
        size = self.count * ordinals.size
        counts = count_in_blocks(
            lambda part: self.codes[part] * ordinals.size + ordinals.numbers[part], len(self.values), size
        )
        return counts.reshape(self.count, ordinals.size)

    @cached_property
    def _cumulative_counts(self) -> npt.NDArray[np.int64] | None:
        return None if self._counts is None else np.cumsum(self._counts, axis=1)

    @cached_property
    def _sorted(self) -> npt.NDArray[np.signedinteger]:
        """Group and ordinal in one number, ascending: the values of each group are in order."""
        # Half the size is sorted in half the time.
        dtype = np.int32 if self.count << self._bits < 2**31 else np.int64
        ordered = np.left_shift(self.codes, self._bits, dtype=dtype, casting="unsafe")
        ordered |= self._ordinals.numbers[:].astype(dtype, copy=False)
        ordered.sort()
        return ordered

    def value_at(self, position: npt.NDArray[np.int64]) -> Array:
        """Return for each group the value at a position (from 0, shape (count,)) among its sorted values."""
        if not len(self.values):
            return np.zeros(self.count, self.values.dtype)
        if self._cumulative_counts is not None:
            return self._ordinals.decode((self._cumulative_counts > position[:, None]).argmax(axis=1))
        start = np.cumsum(self.sizes) - self.sizes
        index = np.minimum(start + np.maximum(position, 0), len(self.values) - 1)
        return self._ordinals.decode(self._sorted[index] & self._mask)

    def quantile(self, share: float) -> Numbers:
        """A quantile per group, between two neighbours by their distance.

        Parameters
        ----------
        share
            From 0 to 1; 0.5 is the median.

        References
        ----------
        Definition 7 of R. J. Hyndman and Y. Fan, "Sample quantiles in statistical packages", The American
        Statistician 50 (1996), 361-365.

        >>> Values(np.array([0, 0, 0, 0]), np.array([9, 1, 4, 2]), 1).quantile(0.5)
        array([3.])
        """
        exact = (self.sizes - 1) * share
        low = np.maximum(np.floor(exact + 1e-12), 0).astype(np.int64)
        part = np.maximum(exact - low, 0)
        lower = self.value_at(low).astype(np.float64)
        upper = self.value_at(np.minimum(low + 1, np.maximum(self.sizes - 1, 0))).astype(np.float64)
        with np.errstate(invalid="ignore", over="ignore"):
            return np.where(self.sizes > 0, np.where(part > 0, lower + part * (upper - lower), lower), np.nan)

    @property
    def distinct(self) -> npt.NDArray[np.int64]:
        """Number of different values per group."""
        if not len(self.values):
            return np.zeros(self.count, np.int64)
        if self._counts is not None:
            return np.asarray(np.count_nonzero(self._counts, axis=1))
        ordered = self._sorted
        new = np.append(True, ordered[1:] != ordered[:-1])
        return np.bincount(ordered[new] >> self._bits, minlength=self.count)

    @property
    def most_frequent(self) -> Array:
        """The most frequent value of each group; of several the smallest."""
        if not len(self.values):
            return np.zeros(self.count, self.values.dtype)
        if self._counts is not None:
            return self._ordinals.decode(self._counts.argmax(axis=1))
        ordered = self._sorted
        starts = np.flatnonzero(np.append(True, ordered[1:] != ordered[:-1]))
        times = np.diff(np.append(starts, len(ordered)))
        group = ordered[starts] >> self._bits
        best = np.lexsort((ordered[starts], -times, group))
        best = best[np.append(True, np.diff(group[best]) != 0)]
        result = np.zeros(self.count, self.values.dtype)
        result[group[best]] = self._ordinals.decode(ordered[starts[best]] & self._mask)
        return result

    def first_position(self, *, last: bool = False, value: Array | None = None) -> npt.NDArray[np.int64]:
        """Return the position of each group's first value, or last one, or of the first that equals the group's given
        value; arbitrary for a group without any.
        """
        result = np.zeros(self.count, np.int64)
        starts = range(0, len(self.codes), BLOCK)
        for start in starts if last else reversed(starts):
            codes = self.codes[start : start + BLOCK]
            positions = np.arange(start, start + len(codes))
            if value is not None:
                is_equal = self.values[start : start + BLOCK] == value[codes]
                codes, positions = codes[is_equal], positions[is_equal]
            # Of several positions the one that is assigned last stays.
            result[codes if last else codes[::-1]] = positions if last else positions[::-1]
        return result


def compute_half_interval(sizes: npt.NDArray[np.int64], standard_error: Numbers) -> Numbers:
    """Return half the width of the 95 % interval of means, given how many values each has; NaN for fewer than two."""
    from scipy import special  # which loads faster than its distributions

    with np.errstate(invalid="ignore", divide="ignore"):
        quantile = special.stdtrit(np.maximum(sizes - 1, 1), (1 + LEVEL) / 2)
        return np.where(sizes > 1, quantile * standard_error, np.nan)


def group_sizes(codes: Codes, count: int) -> npt.NDArray[np.int64]:
    """Number of values per group."""
    return count_in_blocks(lambda part: codes[part], len(codes), count)


def count_in_blocks(get_codes: Callable[[slice], Codes], length: int, count: int) -> npt.NDArray[np.int64]:
    """Count codes, some at a time, since NumPy makes an array as long as what it counts."""
    block = BLOCK if 4 * count <= BLOCK else max(length, 1)
    counts = np.bincount(get_codes(slice(0, block)), minlength=count)
    for start in range(block, length, block):
        counts += np.bincount(get_codes(slice(start, start + block)), minlength=count)
    return counts


STATISTICS: dict[str, Callable[[Values], Array]] = {
    "mean": lambda values: values.mean,
    "sd": lambda values: values.standard_deviation,
    "variance": lambda values: values.variance,
    "se": lambda values: values.standard_error,
    "median": lambda values: values.quantile(0.5),
    "iqr": lambda values: values.quantile(0.75) - values.quantile(0.25),
    "min": lambda values: values.minimum,
    "max": lambda values: values.maximum,
    "sum": lambda values: values.total,
}


@dataclass
class WeightedValues:
    """The present values of a variable by group, each with a weight."""

    codes: Codes  # group, value and weight of each; weights are 0 or more
    values: Array
    weights: Numbers
    count: int  # number of groups

    def _total_of(self, values: Array) -> Numbers:
        return np.asarray(Values(self.codes, values, self.count).total, dtype=np.float64)

    @cached_property
    def weight(self) -> Numbers:
        """Sum of the weights per group."""
        return self._total_of(self.weights)

    @cached_property
    def total(self) -> Numbers:
        """Sum of weight times value per group."""
        return self._total_of(self.weights * self.values)

    @cached_property
    def mean(self) -> Numbers:
        """Weighted mean per group."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.weight > 0, self.total / self.weight, np.nan)

    @property
    def variance(self) -> Numbers:
        """Weighted variance per group: the weighted mean of squares, times n / (n - 1) for the n weights above 0.

        References
        ----------
        NIST, Dataplot Reference Manual volume 2 (1996), "Weighted standard deviation", page 2-66.

        >>> made = WeightedValues(np.zeros(8, np.int64), np.array([2, 3, 5, 7, 11, 13, 17, 19]),
        ...                       np.array([1, 1, 0, 0, 4, 1, 2, 1.0]), 1)
        >>> np.sqrt(made.variance).round(2)
        array([5.82])
        """
        used = self.weights > 0
        n = np.bincount(self.codes[used], minlength=self.count)
        squares = self._total_of(self.weights * (self.values - np.nan_to_num(self.mean)[self.codes]) ** 2)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(n > 1, squares / self.weight * n / (n - 1), np.nan)


WEIGHTED: dict[str, Callable[[WeightedValues], Array]] = {
    "mean": lambda values: values.mean,
    "sd": lambda values: np.sqrt(values.variance),
    "variance": lambda values: values.variance,
    "sum": lambda values: values.total,
}
