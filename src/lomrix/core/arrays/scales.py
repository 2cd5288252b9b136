"""Exact sums of items and of their products, and what they show: whether the items of a scale measure one thing."""

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
# Powers of two that float64 holds, and so do their inverses.
USUAL_POWER = 1000


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
        sums: dict[tuple[int, int], Any] = {}
        for start in range(0, n, ROWS):
            rows = np.ones((k + 1, min(ROWS, n - start)))
            for index, item in enumerate(items):
                rows[index] = item[start : start + ROWS]
            slices = enumerate(slice_numbers(rows, exponents))
            for (i, first), (j, second) in itertools.combinations_with_replacement(slices, 2):
                sums[i, j] = sums.get((i, j), 0) + (first @ second.T).astype(np.int64)
        total = np.full((k + 1, k + 1), Fraction(0))
        for (i, j), whole in sums.items():
            part = whole * to_units(exponents - i * BITS) * to_units(exponents - j * BITS).T
            total = total + (part if i == j else part + part.T)
        return cls(n, total[k, :k], total[:k, :k])

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
    largest = Fraction(np.finfo(np.float64).max)
    floats = [float(value) if abs(value) <= largest else math.copysign(math.inf, value) for value in values.flat]
    return np.array(floats, np.float64).reshape(values.shape)


@dataclass(frozen=True)
class Reliability:
    """Reliability of k items over the n rows that have all of them."""

    n: int  # number of rows
    alpha: float  # cronbach's alpha; NaN where it cannot be computed
    item_rest: Numbers  # shape (k,): correlation of each item with the sum of the others
    alpha_without: Numbers  # shape (k,): alpha of the others


def compute_reliability(items: CrossProducts) -> Reliability:
    """Compute alpha and item-rest correlations of items in rows that have all of them, reversed as they should be.

    References
    ----------
    L. J. Cronbach, "Coefficient alpha and the internal structure of tests", Psychometrika 16 (1951), 297-334,
    formula 2. The item-rest correlation is that of an item with the sum of the others, as in J. C. Nunnally,
    "Psychometric Theory", 2nd edition (1978), section 8.
    """
    n, k = items.n, len(items.sums)
    undefined = np.full(k, np.nan)
    if n < 2 or k < 2:
        return Reliability(n, np.nan, undefined, undefined)
    covariance = items.covariance
    with_others = covariance.sum(axis=0) - np.diag(covariance)  # of each item with the sum of the others
    total = covariance.sum()
    others_variance = total - 2 * with_others - np.diag(covariance)
    with np.errstate(invalid="ignore", divide="ignore"):
        correlation = with_others / np.sqrt(np.diag(covariance) * others_variance)
        without = np.array([compute_alpha(np.delete(np.delete(covariance, item, 0), item, 1)) for item in range(k)])
    return Reliability(n, compute_alpha(covariance), correlation, without)


def compute_alpha(covariance: Numbers) -> float:
    """Return Cronbach's alpha from the covariances of k items; NaN for one item or a constant sum."""
    k, total = len(covariance), float(covariance.sum())
    return k / (k - 1) * (1 - float(np.trace(covariance)) / total) if k > 1 and total > 0 else np.nan
