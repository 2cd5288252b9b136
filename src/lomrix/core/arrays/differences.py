"""Differences between groups: effect sizes, confidence intervals and tests."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.cross_products import CrossProducts, to_float

Numbers = npt.NDArray[np.float64]
Counts = npt.NDArray[np.int64]
LEVEL = 0.95
NAN = float("nan")


@dataclass(frozen=True)
class Difference:
    """A difference with its interval and test."""

    estimate: float = NAN  # the difference and the ends of its 95 % interval
    low: float = NAN
    high: float = NAN
    statistic: float = NAN  # of the test, with its degrees of freedom and two-sided p-value
    df: float = NAN
    p: float = NAN
    effect: float = NAN  # the standardised difference with its 95 % interval
    effect_low: float = NAN
    effect_high: float = NAN


@dataclass(frozen=True)
class Ratio:
    """A test of several groups."""

    # F or chi-squared, its degrees of freedom, and its p-value; `df_within` is NaN for chi-squared
    statistic: float = NAN
    df: float = NAN
    df_within: float = NAN
    p: float = NAN
    effect: float = NAN  # share of the variance between groups (eta squared), or Cramér's V


def student_test(estimate: float, error: float, df: float) -> tuple[float, float, float, float]:
    """Return the ends of the 95 % interval, t and p of an estimate with a standard error."""
    from scipy import special  # which loads faster than its distributions

    if not (error > 0 and df > 0):
        return NAN, NAN, NAN, NAN
    half = float(special.stdtrit(df, (1 + LEVEL) / 2)) * error
    t = estimate / error
    return estimate - half, estimate + half, t, float(2 * special.stdtr(df, -abs(t)))


def effect_interval(effect: float, variance: float) -> tuple[float, float]:
    """Return the 95 % interval of a standardised difference from its large-sample variance."""
    from scipy import special

    half = float(special.ndtri((1 + LEVEL) / 2)) * float(np.sqrt(variance))
    return effect - half, effect + half


def compare_two_means(n: Counts, mean: Numbers, variance: Numbers) -> Difference:
    """Return the second mean minus the first (Welch: each group has its own variance).

    Parameters
    ----------
    n, mean, variance
        Of both groups, each of shape (2,).

    References
    ----------
    B. L. Welch, "The generalization of 'Student's' problem when several different population variances are involved",
    Biometrika 34 (1947), 28-35. The standardised difference is that of J. Cohen, "Statistical Power Analysis for the
    Behavioral Sciences", 2nd edition (1988), section 2.2, with the pooled standard deviation; its variance is that of
    L. V. Hedges and I. Olkin, "Statistical Methods for Meta-Analysis" (1985), page 86, formula 14.
    """
    estimate = float(mean[1] - mean[0])
    if (n < 2).any():
        return Difference(estimate)
    parts = variance / n
    error = float(np.sqrt(parts.sum()))
    if not 0 < error < np.inf:
        return Difference(estimate)
    df = float(parts.sum() ** 2 / (parts**2 / (n - 1)).sum())
    low, high, t, p = student_test(estimate, error, df)
    pooled = float(np.sqrt(((n - 1) * variance).sum() / (n.sum() - 2)))
    effect = estimate / pooled
    ends = effect_interval(effect, float(n.sum() / n.prod() + effect**2 / (2 * n.sum())))
    return Difference(estimate, low, high, t, df, p, effect, *ends)


def compare_pairs(n: int, mean: float, variance: float) -> Difference:
    """Return the mean of the differences within n pairs, given their mean and variance.

    References
    ----------
    Student, "The probable error of a mean", Biometrika 6 (1908), 1-25. The standardised difference is the mean over
    the standard deviation of the differences (Cohen 1988, section 2.3.5); its variance is 1/n + d^2 / (2 n), as in
    B. J. Becker, "Synthesizing standardized mean-change measures", British Journal of Mathematical and Statistical
    Psychology 41 (1988), 257-278, for large samples.
    """
    if n < 2 or not variance > 0:
        return Difference(mean)
    spread = float(np.sqrt(variance))
    low, high, t, p = student_test(mean, spread / float(np.sqrt(n)), n - 1)
    effect = mean / spread
    return Difference(mean, low, high, t, n - 1, p, effect, *effect_interval(effect, 1 / n + effect**2 / (2 * n)))


def anova(samples: Sequence[CrossProducts]) -> Ratio:
    """One-way analysis of variance of the last number in several groups, from exact sums.

    References
    ----------
    R. A. Fisher, "Statistical Methods for Research Workers" (1925), chapter 7.
    """
    from scipy import special

    filled = [sample for sample in samples if sample.n]
    k, total = len(filled), sum(sample.n for sample in filled)
    if k < 2 or total <= k:
        return Ratio()
    of_groups = sum(sample.sums[-1] ** 2 / sample.n for sample in filled)
    within = sum(sample.products[-1, -1] for sample in filled) - of_groups
    between = of_groups - sum(sample.sums[-1] for sample in filled) ** 2 / total
    if not within > 0:
        return Ratio()
    f = to_float(between / (k - 1) / (within / (total - k)))
    return Ratio(f, k - 1, total - k, float(special.fdtrc(k - 1, total - k, f)), to_float(between / (between + within)))


def welch_anova(n: Counts, mean: Numbers, variance: Numbers) -> Ratio:
    """One-way analysis of variance of groups with unequal variances.

    References
    ----------
    B. L. Welch, "On the comparison of several mean values: an alternative approach", Biometrika 38 (1951), 330-336.
    """
    from scipy import special

    if len(n) < 2 or (n < 2).any() or not (variance > 0).all():
        return Ratio()
    k, weight = len(n), n / variance
    middle = (weight * mean).sum() / weight.sum()
    lost = ((1 - weight / weight.sum()) ** 2 / (n - 1)).sum()
    between = (weight * (mean - middle) ** 2).sum() / (k - 1)
    f = float(between / (1 + 2 * (k - 2) / (k**2 - 1) * lost))
    df = float((k**2 - 1) / (3 * lost))
    return Ratio(f, k - 1, df, float(special.fdtrc(k - 1, df, f)))


def chi_squared_test(counts: Counts) -> tuple[Ratio, Numbers]:
    """Test whether the shares of codes differ between groups; also return the expected counts.

    Parameters
    ----------
    counts
        Shape (codes, groups), no row or column of it empty.

    References
    ----------
    K. Pearson, Philosophical Magazine 50 (1900), 157-175; the effect is that of H. Cramér, "Mathematical Methods of
    Statistics" (1946), section 21.9.
    """
    from scipy import special

    total = counts.sum()
    expected = np.outer(counts.sum(axis=1), counts.sum(axis=0)) / max(total, 1)
    if min(counts.shape) < 2:
        return Ratio(), expected
    value = float(((counts - expected) ** 2 / expected).sum())
    df = (counts.shape[0] - 1) * (counts.shape[1] - 1)
    effect = float(np.sqrt(value / total / (min(counts.shape) - 1)))
    return Ratio(value, df, NAN, float(special.chdtrc(df, value)), effect), expected


@dataclass(frozen=True)
class RegressionLine:
    """A straight line fitted to points."""

    n: int  # number of points
    slope: float = NAN  # slope with its 95 % interval
    low: float = NAN
    high: float = NAN
    # where it meets 0, the share of the variance that it accounts for, and the test of the slope
    intercept: float = NAN
    r_squared: float = NAN
    statistic: float = NAN
    df: float = NAN
    p: float = NAN


def fit_line(points: CrossProducts) -> RegressionLine:
    """Fit the line of least squares to points, given the sums of x and y.

    References
    ----------
    N. R. Draper and H. Smith, "Applied Regression Analysis", 3rd edition (1998), sections 1.2 to 1.4.
    """
    n = points.n
    if n < 3:
        return RegressionLine(n)
    (sxx, sxy), (_, syy) = points.products - np.outer(points.sums, points.sums) / n
    if not sxx:
        return RegressionLine(n)
    slope, residual = sxy / sxx, syy - sxy**2 / sxx
    low, high, t, p = student_test(to_float(slope), math.sqrt(to_float(residual / (n - 2) / sxx)), n - 2)
    share = to_float(1 - residual / syy) if syy else NAN
    intercept = to_float((points.sums[1] - slope * points.sums[0]) / n)
    return RegressionLine(n, to_float(slope), low, high, intercept, share, t, n - 2, p)
