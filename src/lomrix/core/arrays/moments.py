"""Sums, means and variances of groups: exact for whole numbers and short decimals, in two parts for other numbers."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.arrangement import Arrangement
from lomrix.core.arrays.ordinals import Ordinals
from lomrix.core.arrays.types import Array

Numbers = npt.NDArray[np.float64]
# Numbers within so many powers of two of the largest one are scaled down before they are added.
HUGE = 64
LARGEST_POWER = 1023
LIMB = (1 << 21) - 1
# Whole numbers up to here are held by float64, each and all.
EXACT = 2**53


class Moments(Protocol):
    """What the sums of the values and of their squares say; each of shape (count,)."""

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
class DecimalMoments:
    """Values that are whole numbers over a power of ten: their sum is exact and rounded once.

    Parameters
    ----------
    arranged
        The whole numbers as `ordinals` gives them, from 0 on; float64 holds their sum.
    sizes
        Number of values per group.
    ordinals
        What a whole number stands for.
    """

    arranged: Arrangement
    sizes: npt.NDArray[np.int64]
    ordinals: Ordinals

    @cached_property
    def _sums(self) -> npt.NDArray[np.int64]:
        """Sums of the whole numbers."""
        return self.arranged.totals_of(lambda values, _: (values,))[0].astype(np.int64)

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
        return as_held(self._total)

    @cached_property
    def mean(self) -> Numbers:
        """Arithmetic mean per group."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return self._total.astype(np.float64) / (self.sizes * self.ordinals.power)

    @cached_property
    def variance(self) -> Numbers:
        """Sample variance per group, by deviations from the whole number next to the mean."""
        near = self._sums // np.maximum(self.sizes, 1)
        beside = self._sums - near * self.sizes
        is_exact = self.ordinals.size**2 * int(self.sizes.max(initial=0)) < EXACT
        squares = (
            self.arranged.totals_of(lambda values, near: (squared_deviation(values, near),), near)[0]
            if is_exact
            else in_two_parts(self.arranged, squared_deviation, float(self.ordinals.size) ** 2, near)
        )
        return variance_of(squares, beside, self.sizes) / self.ordinals.power**2


@dataclass
class NumberMoments:
    """Values of any kind.

    Parameters
    ----------
    arranged
        The values: integers or numbers.
    sizes
        Number of values per group.
    """

    arranged: Arrangement
    sizes: npt.NDArray[np.int64]

    @cached_property
    def total(self) -> Array:
        """Sum per group."""
        if self._is_whole:
            return exact_total(self.arranged)
        with np.errstate(over="ignore"):
            return np.ldexp(self._scaled_total, self._scale)

    @property
    def _is_whole(self) -> bool:
        return self.arranged.values.dtype.kind in "bi"

    @cached_property
    def _farthest(self) -> float:
        return farthest(self.arranged.values)

    @property
    def _spread(self) -> float:
        """Distance of the largest value from the smallest; no value is farther from the mean of its group."""
        values = self.arranged.values
        return float(values.max()) - float(values.min()) if len(values) else 0.0

    @cached_property
    def _scale(self) -> int:
        """Values near the largest number that there is are added as parts of it."""
        return HUGE if self._farthest > 2.0 ** (1000 - HUGE) else 0

    @cached_property
    def _scaled_total(self) -> Numbers:
        scale = self._scale
        return in_two_parts(
            self.arranged, lambda values, _: np.ldexp(values, -scale) if scale else values, self._farthest * 2.0**-scale
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
        rounding = self.arranged.totals_of(lambda values, mean: (values - mean,), self.mean)[0]
        with np.errstate(over="ignore", invalid="ignore"):
            # In two parts, so that the order of the rows counts for nothing.
            # Multiplied, since a power of Python's that is too large is an error and no infinity.
            squares = in_two_parts(self.arranged, squared_deviation, 2 * self._spread * self._spread, self.mean)
            return variance_of(squares, rounding, self.sizes)


def squared_deviation(values: Array, near: Array) -> Numbers:
    """The squares of the distances from numbers beside the values."""
    deviations = values - near
    return np.asarray(deviations * deviations, dtype=np.float64)


def variance_of(squares: Numbers, rounding: Array, sizes: npt.NDArray[np.int64]) -> Numbers:
    """Sample variance of groups from the squared deviations from nearly their means.

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


def in_two_parts(
    arranged: Arrangement, made: Callable[[Array, Array], Numbers], largest: float, beside: Array | None = None
) -> Numbers:
    """Sum per group of what is made of the values, the upper part of each without any error.

    Parameters
    ----------
    arranged
        The values.
    made
        What is added up, of values and what stands beside them.
    largest
        No number that is made is farther from 0.
    beside
        A number of each group.
    """
    bits = int(np.ceil(np.log2(len(arranged.values) + 2)))
    power = int(np.frexp(largest)[1]) + bits
    if not 0 < largest < np.inf or power > LARGEST_POWER:
        return arranged.totals_of(lambda values, beside: (made(values, beside),), beside)[0]
    sigma = np.ldexp(1.0, power)

    def parts(values: Array, beside: Array) -> tuple[Numbers, Numbers]:
        whole = made(values, beside)
        upper = whole + sigma
        upper -= sigma
        return upper, whole - upper

    upper, lower = arranged.totals_of(parts, beside)
    return upper + lower


def exact_total(arranged: Arrangement) -> Array:
    """Sum per group of whole numbers: int64, or Python's integers where a sum is beyond that."""
    values = arranged.values
    largest = max(abs(int(values.max(initial=0))), abs(int(values.min(initial=0))))
    if largest * max(len(values), 1) < EXACT:
        return arranged.totals_of(lambda values, _: (values,))[0].astype(np.int64)
    # Three limbs of 21 bits, whose sums are exact; put together as Python's own integers.
    limbs = arranged.totals_of(lambda values, _: (values >> 42, (values >> 21) & LIMB, values & LIMB))
    sums = [limb.astype(np.int64).astype(object) for limb in limbs]
    return as_held((sums[0] << 42) + (sums[1] << 21) + sums[2])


def as_held(whole: Array) -> Array:
    """Python's integers as int64, where all of them are within that."""
    is_held = whole.dtype != object or not len(whole) or (min(whole) >= -(2**63) and max(whole) < 2**63)
    return whole.astype(np.int64) if is_held else whole


def farthest(values: Numbers) -> float:
    """The largest distance of a value from 0; 0 where there is none."""
    return max(float(values.max(initial=0)), -float(values.min(initial=0)))
