"""Tests of differences where their numbers are few or small, worked out by hand."""

from __future__ import annotations

import math

import numpy as np
import pytest

from lomrix.core.arrays.cross_products import CrossProducts
from lomrix.core.arrays.differences import anova, chi_squared_test, compare_pairs, compare_two_means, fit_line

# The distribution function of Student's t is short for one and two degrees of freedom, and so are these p-values.


def test_two_pairs() -> None:
    found = compare_pairs(2, 2.0, 2.0)
    p = 1 - 2 / math.pi * math.atan(2)
    assert (found.estimate, found.df) == (2, 1)
    assert (found.statistic, found.p) == pytest.approx((2, p))
    assert (found.low, found.high) == pytest.approx((2 - 12.7062047, 2 + 12.7062047))
    # The effect is 2 over the root of 2, and its variance 1/2 + 2/4.
    ends = (math.sqrt(2), math.sqrt(2) - 1.959964, math.sqrt(2) + 1.959964)
    assert (found.effect, found.effect_low, found.effect_high) == pytest.approx(ends)


@pytest.mark.parametrize(("n", "variance"), [(1, math.nan), (2, 0.0)])
def test_too_few_or_equal_pairs_have_a_mean_and_nothing_else(n: int, variance: float) -> None:
    found = compare_pairs(n, 4.0, variance)
    assert found.estimate == 4
    assert all(math.isnan(one) for one in (found.statistic, found.low, found.p, found.effect))


@pytest.mark.parametrize(
    ("n", "variance"), [([1, 5], [math.nan, 2.0]), ([5, 1], [2.0, math.nan]), ([5, 5], [0.0, 0.0])]
)
def test_groups_too_small_to_be_tested(n: list[int], variance: list[float]) -> None:
    found = compare_two_means(np.array(n), np.array([1.5, 4.0]), np.array(variance))
    assert found.estimate == 2.5
    assert all(math.isnan(one) for one in (found.statistic, found.df, found.low, found.high, found.p, found.effect))


@pytest.mark.parametrize("scale", [1.0, 0.01])
def test_analysis_of_variance_does_not_depend_on_the_unit(scale: float) -> None:
    # Within 4 times 0.1 squared, between 2 (0.1 squared + 0.1 squared): both 0.04.
    found = anova([CrossProducts.of([np.array(values) * scale]) for values in ([0, 0.2], [0.2, 0.4], [])])
    assert (found.df, found.df_within) == (1, 2)
    assert (found.statistic, found.effect, found.p) == pytest.approx((2, 0.5, 1 - math.sqrt(0.5)))


def test_three_codes_that_go_with_three_groups() -> None:
    found, expected = chi_squared_test(4 * np.eye(3, dtype=np.int64))
    assert expected.tolist() == [[4 / 3] * 3] * 3
    # Four degrees of freedom: p is the exponential of -x/2 times 1 + x/2.
    assert (found.statistic, found.df, found.effect) == pytest.approx((24, 4, 1))
    assert found.p == pytest.approx(13 * math.exp(-12))


@pytest.mark.parametrize("scale", [1.0, 0.001])
def test_a_line_does_not_depend_on_the_unit(scale: float) -> None:
    found = fit_line(CrossProducts.of([np.arange(4.0), np.array([0.0, 0.2, 0.1, 0.3]) * scale]))
    assert (found.slope, found.intercept) == pytest.approx((0.08 * scale, 0.03 * scale))
    # Of 0.05 in all, 0.018 are left: t = 0.08 / root(0.018 / 2 / 5), with two degrees of freedom.
    t = 0.08 / math.sqrt(0.0018)
    assert (found.r_squared, found.statistic, found.p) == pytest.approx((0.64, t, 1 - t / math.sqrt(2 + t * t)))
    assert found.high - found.slope == pytest.approx(4.3026527 * math.sqrt(0.0018) * scale)
