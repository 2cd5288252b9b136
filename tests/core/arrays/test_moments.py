"""Sums, means and variances of groups beside fractions, which have no rounding."""

from __future__ import annotations

import math
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays import arrangement, statistics
from lomrix.core.arrays.sums import DecimalSums, NumberSums

LOW = st.sampled_from([0, -7, 10**6, -(2**62), 2**62])
SHAPES = [(10**6, 1 << 16), (10**6, 3), (-1, 3)]


def of(codes: list[int], values: Any, many: int, block: int) -> statistics.Values:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(statistics, "MANY", many)
        patch.setattr(arrangement, "BLOCK", block)
        made = statistics.Values(np.array(codes, np.int64), values, 3)
        assert made.mean.shape == made.variance.shape == made.total.shape == (3,)
        return made


def expected(values: list[Fraction]) -> tuple[Fraction, Fraction]:
    mean = sum(values, Fraction()) / len(values)
    squares = sum(((value - mean) ** 2 for value in values), Fraction())
    return mean, squares / (len(values) - 1) if len(values) > 1 else Fraction(-1)


@pytest.mark.parametrize(("many", "block"), SHAPES)
@given(LOW, st.lists(st.tuples(st.integers(0, 2), st.integers(0, 40)), min_size=1, max_size=12))
def test_whole_numbers_are_exact(many: int, block: int, low: int, rows: list[tuple[int, int]]) -> None:
    made = of([row[0] for row in rows], np.array([row[1] + low for row in rows]), many, block)
    assert isinstance(made._sums, DecimalSums)
    for group in range(3):
        own = [Fraction(value + low) for code, value in rows if code == group]
        assert made.total[group] == sum(own)
        if own:
            mean, variance = expected(own)
            assert math.isclose(made.mean[group], mean, rel_tol=1e-15)
            assert np.isnan(made.variance[group]) if variance < 0 else math.isclose(made.variance[group], variance)
        else:
            assert np.isnan(made.mean[group])


@pytest.mark.parametrize(("many", "block"), SHAPES)
@given(st.sampled_from([10, 1000]), st.lists(st.tuples(st.integers(0, 2), st.integers(-99, 99)), min_size=1))
def test_sums_of_decimals_are_those_that_are_written(
    many: int, block: int, power: int, rows: list[tuple[int, int]]
) -> None:
    made = of([row[0] for row in rows], np.array([row[1] for row in rows]) / power, many, block)
    assert isinstance(made._sums, DecimalSums)
    for group in range(3):
        own = [Fraction(value, power) for code, value in rows if code == group]
        assert made.total[group] == float(sum(own))  # 0.1 + 0.2 is 0.3
        if len(own) > 1:
            assert math.isclose(made.variance[group], expected(own)[1], rel_tol=1e-15)


@pytest.mark.parametrize(("many", "block"), SHAPES[:2])
@given(st.lists(st.tuples(st.integers(0, 2), st.floats(-1e6, 1e6)), min_size=1, max_size=12))
def test_other_numbers(many: int, block: int, rows: list[tuple[int, float]]) -> None:
    values = np.array([row[1] + math.pi for row in rows])
    made = of([row[0] for row in rows], values, many, block)
    assert isinstance(made._sums, NumberSums)
    for group in range(3):
        own = [Fraction(value) for (code, _), value in zip(rows, values.tolist(), strict=True) if code == group]
        assert math.isclose(made.total[group], sum(own), rel_tol=1e-15, abs_tol=1e-12)
        if len(own) > 1:
            assert math.isclose(made.variance[group], expected(own)[1], rel_tol=1e-12, abs_tol=1e-12)


def test_squares_too_large_to_be_added_exactly() -> None:
    values = np.arange(300_000) * 1.0 - 7
    found = statistics.Values(np.zeros(300_000, np.int64), values, 1)
    # The numbers 0 … n-1 have the variance n (n + 1) / 12.
    assert found.variance[0] == pytest.approx(300_000 * 300_001 / 12, rel=1e-15)
    assert found.mean[0] == 299_999 / 2 - 7


def test_a_whole_column_far_from_nought_with_little_spread() -> None:
    found = statistics.Values(np.array([0, 0, 0, 1]), np.array([10**15, 10**15 + 1, 10**15 + 2, 5]), 2)
    assert found.variance[0] == 1.0
    assert found.total.tolist() == [3 * 10**15 + 3, 5]


def test_deviations_too_large_to_be_squared() -> None:
    found = statistics.Values(np.array([0, 0, 1, 1]), np.array([1e200, 3e200, math.pi, math.pi]), 2)
    with np.errstate(over="ignore"):
        assert found.variance.tolist() == [math.inf, 0.0]
    assert found.mean[0] == 2e200


def test_variances_of_long_decimals_far_from_nought_do_not_depend_on_the_order() -> None:
    random = np.random.default_rng(5)
    values, codes = 1e9 + random.normal(0, 1, 4000), random.integers(0, 3, 4000)
    order = random.permutation(4000)
    one, two = (statistics.Values(codes[rows], values[rows], 3).variance for rows in (np.arange(4000), order))
    assert one.tolist() == two.tolist()
    assert one[0] == pytest.approx(np.var(values[codes == 0], ddof=1), rel=1e-12)
