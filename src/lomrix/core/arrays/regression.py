"""Least squares with several columns, and the test of some of them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

Numbers = npt.NDArray[np.float64]
Mask = npt.NDArray[np.bool_]
# A column whose part that the columns before do not determine is below this share of it adds nothing.
TINY = 1e-10


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


def fit_least_squares(columns: Numbers, values: Numbers) -> LeastSquares:
    """Fit a constant and a slope for each column.

    Parameters
    ----------
    columns
        Shape (n, k), nothing missing.
    values
        Shape (n,).
    """
    count, width = columns.shape
    means, mean = columns.mean(axis=0), float(values.mean())
    centred, distances = columns - means, values - mean
    sizes = (centred**2).sum(axis=0)
    lengths = np.sqrt(sizes)
    used = np.zeros(width, np.bool_)
    basis = np.zeros((count, 0))
    # A constant column keeps a little length from rounding.
    is_constant = lengths <= TINY * np.abs(columns).max(axis=0, initial=0) * np.sqrt(max(count, 1))
    for index in np.flatnonzero(~is_constant):
        rest = centred[:, index] / lengths[index]
        for _ in range(2):  # a second time, so that what rounding left is taken away too
            rest = rest - basis @ (basis.T @ rest)
        length = float(np.sqrt(rest @ rest))
        if length > TINY:
            used[index] = True
            basis = np.column_stack([basis, rest / length])
    kept = centred[:, used]
    slopes, inverse = np.zeros(width), np.zeros((width, width))
    triangle = basis.T @ kept
    if kept.shape[1]:
        slopes[used] = np.linalg.solve(triangle, basis.T @ distances)
        inner = np.linalg.inv(triangle)
        inverse[np.ix_(used, used)] = inner @ inner.T
    residuals = distances - kept @ slopes[used]
    return LeastSquares(count, means, mean, slopes, inverse, float(residuals @ residuals), sizes, used)


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
