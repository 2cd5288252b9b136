"""Sums, means and variances of groups: exact for integers and short decimals, compensated for other numbers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.arrangement import Arrangement
from lomrix.core.arrays.ordinals import Extent, Ordinals
from lomrix.core.arrays.types import Array

Numbers = npt.NDArray[np.float64]
# Values within this many powers of two of the largest float are scaled down before summing.
HUGE = 64
LARGEST_POWER = 1023
LIMB = (1 << 21) - 1
# Whole numbers up to here are held by float64, each and all.
EXACT = 2**53


class Sums(Protocol):
    """Sum, mean and variance per group, each of shape (count,)."""

    @property
    def total(self) -> Array:
        """Sum per group; 0 for a group without values."""

    @property
    def mean(self) -> Numbers:
        """Arithmetic mean per group; NaN for a group without values."""

    @property
    def variance(self) -> Numbers:
        """Sample variance per group, with n - 1 below; NaN where a group has fewer than two values."""


@dataclass
class DecimalSums:
    """Values that are integers over a power of ten: their sum is exact and rounded once."""

    arranged: Arrangement  # the whole numbers as `ordinals` gives them, from 0 on; float64 holds their sum
    sizes: npt.NDArray[np.int64]  # number of values per group
    ordinals: Ordinals  # what a whole number stands for

    @cached_property
    def _sums(self) -> npt.NDArray[np.int64]:
        """Sums of the whole numbers."""
        return self.arranged.sum_groups(lambda values, _: (values,))[0].astype(np.int64)

    @cached_property
    def _total(self) -> Array:
        """Sums of the whole numbers that the values are: int64, or Python's integers where these do not hold them."""
        low, largest = self.ordinals.low, int(self.sizes.max(initial=0))
        if (abs(low) + self.ordinals.size) * largest < 2**63:
            return np.asarray(self._sums + self.sizes * low)
        return np.asarray(self._sums.astype(object) + self.sizes.astype(object) * low)

    @property
    def total(self) -> Array:
        """Sum per group."""
        if self.ordinals.dtype.kind == "f":
            return np.asarray(self._total / self.ordinals.power, dtype=np.float64)
        return shrink_integers(self._total)

    @cached_property
    def mean(self) -> Numbers:
        """Arithmetic mean per group."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return self._total.astype(np.float64) / (self.sizes * self.ordinals.power)

    @cached_property
    def variance(self) -> Numbers:
        """Sample variance per group, by deviations from the whole number next to the mean."""
        nearest = self._sums // np.maximum(self.sizes, 1)
        beside = self._sums - nearest * self.sizes
        is_exact = self.ordinals.size**2 * int(self.sizes.max(initial=0)) < EXACT
        squares = (
            self.arranged.sum_groups(lambda values, near: (square_deviations(values, near),), nearest)[0]
            if is_exact
            else sum_in_two_parts(
                self.arranged, square_deviations, float(self.ordinals.size) ** 2, int(self.sizes.sum()), nearest
            )
        )
        return compute_variance(squares, beside, self.sizes) / self.ordinals.power**2


@dataclass
class NumberSums:
    """Values of any kind."""

    arranged: Arrangement  # the values: integers or numbers
    sizes: npt.NDArray[np.int64]  # number of values per group
    extent: Extent | None = None  # of all values, where these are a part of them

    @cached_property
    def total(self) -> Array:
        """Sum per group."""
        if self._is_whole:
            return sum_exactly(self.arranged)
        with np.errstate(over="ignore"):
            return np.ldexp(self._scaled_total, self._scale)

    @property
    def _is_whole(self) -> bool:
        return self.arranged.values.dtype.kind in "bi"

    @cached_property
    def _max_size(self) -> float:
        if self.extent is not None:
            return max(float(self.extent.high), -float(self.extent.low), 0.0)
        return max_float_size(self.arranged.values)

    @property
    def _count(self) -> int:
        return len(self.arranged.values) if self.extent is None else self.extent.count

    @property
    def _range(self) -> float:
        """Distance between maximum and minimum; no value is farther from its group's mean."""
        if self.extent is not None:
            return float(self.extent.high) - float(self.extent.low)
        values = self.arranged.values
        return float(values.max()) - float(values.min()) if len(values) else 0.0

    @cached_property
    def _scale(self) -> int:
        """Power of two by which values near the largest float are scaled down."""
        return HUGE if self._max_size > 2.0 ** (1000 - HUGE) else 0

    @cached_property
    def _scaled_total(self) -> Numbers:
        scale = self._scale
        return sum_in_two_parts(
            self.arranged,
            lambda values, _: np.ldexp(values, -scale) if scale else values,
            self._max_size * 2.0**-scale,
            self._count,
        )

    @cached_property
    def mean(self) -> Numbers:
        """Arithmetic mean per group."""
        with np.errstate(invalid="ignore", over="ignore", divide="ignore"):
            if self._is_whole:
                return self.total.astype(np.float64) / self.sizes
            return np.ldexp(self._scaled_total / self.sizes, self._scale)

    @cached_property
    def variance(self) -> Numbers:
        """Sample variance per group."""
        rounding = self.arranged.sum_groups(lambda values, mean: (values - mean,), self.mean)[0]
        with np.errstate(over="ignore", invalid="ignore"):
            # In two parts, so that the order of the rows does not matter.
            # Multiplied, since a Python power that overflows raises instead of giving infinity.
            squares = sum_in_two_parts(
                self.arranged, square_deviations, 2 * self._range * self._range, self._count, self.mean
            )
            return compute_variance(squares, rounding, self.sizes)


def square_deviations(values: Array, centers: Array) -> Numbers:
    """Return squared distances from the given centers."""
    deviations = values - centers
    return np.asarray(deviations * deviations, dtype=np.float64)


def compute_variance(squares: Numbers, rounding: Array, sizes: npt.NDArray[np.int64]) -> Numbers:
    """Compute the sample variance of groups from squared deviations from approximate means.

    Parameters
    ----------
    squares
        Sum of the squared deviations.
    rounding
        Sum of the deviations, 0 where they are from the very mean.
    sizes
        Number of values per group.

    References
    ----------
    T. F. Chan, G. H. Golub and R. J. LeVeque, "Algorithms for computing the sample variance", The American
    Statistician 37 (1983), 242-247, formula 1.7.
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        result = np.maximum(squares - rounding.astype(np.float64) ** 2 / sizes, 0) / (sizes - 1)
    return np.where(sizes > 1, result, np.nan)


def sum_in_two_parts(
    arranged: Arrangement,
    transform: Callable[[Array, Array], Numbers],
    bound: float,
    count: int,
    offsets: Array | None = None,
) -> Numbers:
    """Sum per group what `transform` makes of the values (at most `bound` in size, and at most `count`), the upper part
    without error.
    """
    bits = int(np.ceil(np.log2(count + 2)))
    power = int(np.frexp(bound)[1]) + bits
    if not 0 < bound < np.inf or power > LARGEST_POWER:
        return arranged.sum_groups(lambda values, offsets: (transform(values, offsets),), offsets)[0]
    sigma = np.ldexp(1.0, power)

    def parts(values: Array, offsets: Array) -> tuple[Numbers, Numbers]:
        whole = transform(values, offsets)
        upper = whole + sigma
        upper -= sigma
        return upper, whole - upper

    upper, lower = arranged.sum_groups(parts, offsets)
    return upper + lower


def sum_exactly(arranged: Arrangement) -> Array:
    """Sum integers per group: int64, or Python integers where a sum exceeds 64 bits."""
    values = arranged.values
    largest = max(abs(int(values.max(initial=0))), abs(int(values.min(initial=0))))
    if largest * max(len(values), 1) < EXACT:
        return arranged.sum_groups(lambda values, _: (values,))[0].astype(np.int64)
    # Three limbs of 21 bits, whose sums are exact; put together as Python's own integers.
    limbs = arranged.sum_groups(lambda values, _: (values >> 42, (values >> 21) & LIMB, values & LIMB))
    sums = [limb.astype(np.int64).astype(object) for limb in limbs]
    return shrink_integers((sums[0] << 42) + (sums[1] << 21) + sums[2])


def shrink_integers(whole: Array) -> Array:
    """Return Python integers as int64 if all of them fit."""
    fits = whole.dtype != object or not len(whole) or (min(whole) >= -(2**63) and max(whole) < 2**63)
    return whole.astype(np.int64) if fits else whole


def max_float_size(values: Numbers) -> float:
    """Return the largest absolute value; 0 if there is none."""
    return max(float(values.max(initial=0)), -float(values.min(initial=0)))
