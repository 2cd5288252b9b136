"""Exact sums of numbers and of their products, which add up over parts."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np
import numpy.typing as npt

Numbers = npt.NDArray[np.float64]
# Products of this many rows of numbers of this many bits add up to at most 2**53, which float64 holds exactly.
ROWS, BITS = 1 << 13, 20
# Sums of this many rows each stay below 2**63 together.
BLOCKS = 1 << 9
# Powers of two that float64 holds, and so do their inverses.
USUAL_POWER = 1000
LARGEST = Fraction(np.finfo(np.float64).max)


@dataclass(frozen=True)
class CrossProducts:
    """Exact sums over n rows of k items, and of the products of each two, which add up over parts."""

    n: int
    sums: npt.NDArray[Any]  # shape (k,), of Fraction
    products: npt.NDArray[Any]  # shape (k, k), of Fraction

    @classmethod
    def of(cls, items: Sequence[Numbers]) -> CrossProducts:
        """Add up k items of n rows each.

        References
        ----------
        K. Ozaki, T. Ogita, S. Oishi and S. M. Rump, "Error-free transformations of matrix multiplication by using fast
        routines of matrix multiplication and its applications", Numerical Algorithms 59 (2012), 95-118.
        """
        n, k = len(items[0]) if items else 0, len(items)
        largest = [max(item.max(initial=0), -item.min(initial=0)) for item in items]
        # Beside the items there is a column of ones, whose products with them are their sums.
        exponents = np.frexp([*largest, 1.0])[1].astype(np.int64)[:, None] - BITS
        # By the number of slices: sums of the products of each two of them.
        totals: dict[int, npt.NDArray[Any]] = {}
        for first in range(0, n, ROWS * BLOCKS):
            sums: dict[int, Any] = {}
            for start in range(first, min(first + ROWS * BLOCKS, n), ROWS):
                rows = np.ones((k + 1, min(ROWS, n - start)))
                for index, item in enumerate(items):
                    rows[index] = item[start : start + ROWS]
                slices = np.concatenate([*slice_numbers(rows, exponents)])
                sums[len(slices)] = sums.get(len(slices), 0) + (slices @ slices.T).astype(np.int64)
            for size, part in sums.items():
                totals[size] = totals.get(size, 0) + part.astype(object)
        total = np.full((k + 1, k + 1), Fraction(0))
        for size, whole in totals.items():
            units = [to_units(exponents - i * BITS) for i in range(size // (k + 1))]
            parts = whole.reshape(len(units), k + 1, len(units), k + 1)
            for (i, down), (j, across) in itertools.product(enumerate(units), repeat=2):
                total = total + parts[i, :, j, :] * down * across.T
        return cls(n, total[k, :k], total[:k, :k])

    @classmethod
    def by_group(cls, codes: npt.NDArray[np.int64], count: int, items: Sequence[Numbers]) -> list[CrossProducts]:
        """Add up items in each of some groups; `codes` is the group of each row."""
        # Short integers are sorted without comparing them.
        order = np.argsort(codes.astype(np.min_scalar_type(count)), kind="stable")
        ends = np.cumsum(np.bincount(codes, minlength=count)).tolist()
        ordered = [item[order] for item in items]
        return [cls.of([item[start:end] for item in ordered]) for start, end in zip([0, *ends], ends, strict=False)]

    def combine(self, later: CrossProducts) -> CrossProducts:
        """Add those of a later part."""
        return CrossProducts(self.n + later.n, self.sums + later.sums, self.products + later.products)

    @property
    def means(self) -> Numbers:
        """Arithmetic means, shape (k,); NaN without rows."""
        return to_floats(self.sums / self.n) if self.n else np.full(len(self.sums), np.nan)

    @property
    def covariance(self) -> Numbers:
        """Sample covariances, with n - 1 below, shape (k, k); NaN with fewer than two rows."""
        if self.n < 2:
            return np.full(self.products.shape, np.nan)
        return to_floats((self.products - np.outer(self.sums, self.sums) / self.n) / (self.n - 1))


def slice_numbers(items: Numbers, exponents: npt.NDArray[np.int64]) -> Iterator[Numbers]:
    """Yield whole numbers of few bits that add up to the items: the i-th times 2 to the exponent less i times BITS."""
    rest = items
    while rest.any():
        whole = np.trunc(times_power(rest, -exponents))
        yield whole
        rest = rest - times_power(whole, exponents)
        exponents = exponents - BITS


def times_power(values: Numbers, exponents: npt.NDArray[np.int64]) -> Numbers:
    """Multiply each item by a power of two."""
    if np.abs(exponents).max() < USUAL_POWER:
        return values * np.ldexp(1.0, exponents)
    return np.ldexp(values, exponents)


def to_units(exponents: npt.NDArray[np.int64]) -> npt.NDArray[Any]:
    """Return exact powers of two."""
    return np.array([[Fraction(2) ** int(exponent)] for exponent in exponents.flat])


def to_floats(values: npt.NDArray[Any]) -> Numbers:
    """Round exact numbers to float64; infinite beyond its range."""
    return np.array([to_float(value) for value in values.flat], np.float64).reshape(values.shape)


def to_float(value: Fraction) -> float:
    """Round an exact number to float64; infinite beyond its range."""
    if abs(value) <= LARGEST:
        return float(value)
    return math.inf if value > 0 else -math.inf
