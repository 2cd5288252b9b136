"""Least squares with several columns, and the test of some of them."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.cross_products import CrossProducts, to_floats

Numbers = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
# A column whose part that the columns before do not determine is below this share of it adds nothing.
TINY = 1e-10
# Bits of the whole numbers that products are scaled to, and what is left of a column where only rounding is.
BITS, SMALLEST = 320, 1 << 160


@dataclass(frozen=True)
class LeastSquares:
    """A constant and the slopes of several columns, fitted to numbers.

    A column that the columns before it determine is not used: its slope is 0, and `used` is False.

    References
    ----------
    N. R. Draper and H. Smith, "Applied Regression Analysis", 3rd edition (1998), chapters 4, 5 and 16.
    """

    count: int  # rows
    means: Numbers  # of the columns
    mean: float  # of the fitted numbers
    slopes: Numbers
    inverse: Numbers  # inverse of the columns' sums of squares and products about their means, shape (columns, columns)
    residual: float  # sum of the squared residuals
    sizes: Numbers  # sum of squares of each column about its mean
    used: Mask

    @property
    def df(self) -> int:
        """Degrees of freedom of the residuals."""
        return self.count - 1 - int(np.count_nonzero(self.used))

    @cached_property
    def variance(self) -> float:
        """Variance of the residuals; NaN without degrees of freedom."""
        return self.residual / self.df if self.df > 0 else float("nan")

    @property
    def errors(self) -> Numbers:
        """Standard error of each slope; NaN for a column that is not used."""
        with np.errstate(invalid="ignore"):
            return np.where(self.used, np.sqrt(self.variance * np.diag(self.inverse)), np.nan)

    @property
    def inflation(self) -> Numbers:
        """How much the other columns inflate the variance of each slope (1: not at all); NaN where not used."""
        return np.where(self.used, np.diag(self.inverse) * self.sizes, np.nan)

    def predict(self, columns: Numbers) -> tuple[float, float]:
        """Return the fitted value for values of the columns, and its standard error."""
        distance = np.where(self.used, columns - self.means, 0)
        variance = self.variance * (1 / self.count + float(distance @ self.inverse @ distance))
        return self.mean + float(distance @ self.slopes), float(np.sqrt(variance))


@dataclass(frozen=True)
class Condensed:
    """Columns and the numbers to be fitted, condensed so that any of the columns can be fitted without the rows.

    `triangle` is the triangular factor of the columns and the numbers (last) about their means: what a fit needs.
    """

    count: int
    means: Numbers  # of the columns, then of the numbers
    triangle: Numbers

    @classmethod
    def of(cls, products: CrossProducts) -> Condensed:
        """Condense columns and the numbers to be fitted (last), given their sums, at least one row."""
        n, sums = products.n, products.sums
        return cls(n, to_floats(sums / n), factorize(products.products - np.outer(sums, sums) / n))

    def fit(self, chosen: Sequence[int]) -> LeastSquares:
        """Fit a constant and a slope for each of some columns."""
        columns, values = self.triangle[:, list(chosen)], self.triangle[:, -1]
        sizes = (columns**2).sum(axis=0)
        lengths = np.sqrt(sizes)
        largest = np.abs(self.means[list(chosen)]) * np.sqrt(self.count) + lengths
        used = np.zeros(len(chosen), np.bool_)
        basis = np.zeros((len(values), 0))
        for index in np.flatnonzero(lengths > TINY * largest):
            rest = columns[:, index] / lengths[index]
            for _ in range(2):  # a second time, so that what rounding left is taken away too
                rest = rest - basis @ (basis.T @ rest)
            length = float(np.sqrt(rest @ rest))
            if length > TINY:
                used[index] = True
                basis = np.column_stack([basis, rest / length])
        kept = columns[:, used]
        slopes, inverse = np.zeros(len(chosen)), np.zeros((len(chosen), len(chosen)))
        if kept.shape[1]:
            triangle = basis.T @ kept
            slopes[used] = np.linalg.solve(triangle, basis.T @ values)
            inner = np.linalg.inv(triangle)
            inverse[np.ix_(used, used)] = inner @ inner.T
        residuals = values - kept @ slopes[used]
        means = self.means[list(chosen)]
        return LeastSquares(
            self.count, means, float(self.means[-1]), slopes, inverse, float(residuals @ residuals), sizes, used
        )


def factorize(squares: npt.NDArray[Any]) -> Numbers:
    """Return the upper triangle R of a matrix R'R of exact numbers, each element rounded once.

    Elimination in whole numbers of many bits loses nothing that a float would show, although squares have twice the
    digits of the columns. A column that those before determine has nothing on the diagonal.
    """
    size = len(squares)
    # Each column is scaled by a power of two, so that all are of one size.
    powers = [(measure_power(squares[i, i]) + 1) // 2 for i in range(size)]
    scaled = np.zeros((size, size), object)
    for i, j in itertools.product(range(size), repeat=2):
        scaled[i, j] = int(squares[i, j] * Fraction(2) ** (BITS - powers[i] - powers[j]))
    triangle = np.zeros((size, size))
    for i in range(size):
        pivot = scaled[i, i]
        if pivot <= SMALLEST:
            continue
        row = scaled[i, i:].copy()
        for j, value in enumerate(row, start=i):
            triangle[i, j] = math.ldexp(float(value) / math.sqrt(pivot), powers[j] - BITS // 2)
        scaled[i:, i:] -= np.outer(row, row) // pivot
    return triangle


def measure_power(value: Fraction) -> int:
    """Return about the power of two that a number has."""
    return value.numerator.bit_length() - value.denominator.bit_length()


@dataclass(frozen=True)
class AddedColumns:
    """The test whether further columns account for more: F, its degrees of freedom, p, and their share of the rest."""

    statistic: float = float("nan")
    df: float = float("nan")
    df_within: float = float("nan")
    p: float = float("nan")
    effect: float = float("nan")


def compare_fits(fewer: LeastSquares, more: LeastSquares) -> AddedColumns:
    """Test what columns add to those of a fit without them.

    References
    ----------
    N. R. Draper and H. Smith, "Applied Regression Analysis", 3rd edition (1998), section 6.1: extra sum of squares. The
    effect is partial eta squared: what they account for, as a share of what the other columns leave.
    """
    from scipy import special

    df = fewer.df - more.df
    if df < 1 or more.df < 1 or not more.residual > 0:
        return AddedColumns()
    extra = max(fewer.residual - more.residual, 0.0)
    f = extra / df / more.variance
    return AddedColumns(f, df, more.df, float(special.fdtrc(df, more.df, f)), extra / fewer.residual)
