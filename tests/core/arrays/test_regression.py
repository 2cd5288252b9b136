"""Least squares: certified and published values, and agreement with a plain solution."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays.cross_products import CrossProducts
from lomrix.core.arrays.regression import Condensed, compare_fits

# J. W. Longley, Journal of the American Statistical Association 62 (1967): employment, six nearly collinear columns.
LONGLEY = """
60323 83.0 234289 2356 1590 107608 1947 61122 88.5 259426 2325 1456 108632 1948
60171 88.2 258054 3682 1616 109773 1949 61187 89.5 284599 3351 1650 110929 1950
63221 96.2 328975 2099 3099 112075 1951 63639 98.1 346999 1932 3594 113270 1952
64989 99.0 365385 1870 3547 115094 1953 63761 100.0 363112 3578 3350 116219 1954
66019 101.2 397469 2904 3048 117388 1955 67857 104.6 419180 2822 2857 118734 1956
68169 108.4 442769 2936 2798 120445 1957 66513 110.8 444546 4681 2637 121950 1958
68655 112.6 482704 3813 2552 123366 1959 69564 114.2 502601 3931 2514 125368 1960
69331 115.7 518173 4806 2572 127852 1961 70551 116.9 554894 4007 2827 130081 1962
"""
# Certified by NIST (Statistical Reference Datasets, Longley).
SLOPES = [
    15.0618722713733,
    -0.0358191792925910,
    -2.02022980381683,
    -1.03322686717359,
    -0.0511041056535807,
    1829.15146461355,
]
ERRORS = [
    84.9149257747669,
    0.0334910077722432,
    0.488399681651699,
    0.214274163161675,
    0.226073200069370,
    455.478499142212,
]


def condense(columns: np.ndarray, values: np.ndarray) -> Condensed:
    return Condensed.of(CrossProducts.of([*columns.T, values]))


def test_longley() -> None:
    data = np.array(LONGLEY.split(), np.float64).reshape(16, 7)
    fit = condense(data[:, 1:], data[:, 0]).fit(range(6))
    assert fit.slopes == pytest.approx(SLOPES, rel=1e-11)
    assert fit.errors == pytest.approx(ERRORS, rel=1e-11)
    assert fit.residual == pytest.approx(836424.055505915, rel=1e-11) and fit.df == 9
    assert (fit.inflation > 10).tolist() == [True, True, True, False, True, True]


# B. E. Huitema, "The Analysis of Covariance and Alternatives" (1980), chapter 2: aptitude and achievement of groups.
APTITUDE = "29 49 48 35 53 47 46 74 72 67 22 24 49 46 52 43 64 61 55 54 33 45 35 39 36 48 63 57 56 78"
ACHIEVED = "15 19 21 27 35 39 23 38 33 50 20 34 28 35 42 44 46 47 40 54 14 20 30 32 34 42 40 38 54 56"
HUITEMA = tuple(np.array(numbers.split(), np.float64) for numbers in (APTITUDE, ACHIEVED))


def test_covariance_of_three_groups() -> None:
    group = np.repeat(np.arange(3), 10)
    columns = np.column_stack([HUITEMA[0], group == 1, group == 2]).astype(np.float64)
    condensed = condense(columns, HUITEMA[1])
    both = condensed.fit(range(3))
    test = compare_fits(condensed.fit([0]), both)
    assert (round(test.statistic, 2), test.df, test.df_within, round(test.p, 3)) == (5.48, 2, 26, 0.010)
    means = [both.predict(np.array([HUITEMA[0].mean(), at == 1, at == 2], np.float64))[0] for at in range(3)]
    assert [round(mean, 2) for mean in means] == [28.48, 40.33, 36.19]


NUMBERS = st.lists(st.tuples(*[st.integers(-50, 50)] * 4), min_size=1, max_size=12)


@given(NUMBERS, st.integers(0, 10**9))
def test_agrees_with_a_plain_solution(numbers: list[tuple[int, ...]], offset: int) -> None:
    data = np.array(numbers, np.float64)
    columns, values = data[:, :3], data[:, 3]
    fit = condense(columns + offset, values).fit(range(3))
    centred = columns - columns.mean(axis=0)
    assert int(fit.used.sum()) == np.linalg.matrix_rank(centred, tol=1e-7)
    plain = np.linalg.lstsq(centred, values - values.mean())[0]
    residual = values - values.mean() - centred @ plain
    assert fit.residual == pytest.approx(float(residual @ residual), rel=1e-6, abs=1e-6)
    if fit.used.all():
        assert fit.slopes == pytest.approx(plain, rel=1e-6, abs=1e-6)
        assert fit.predict(columns[0] + offset)[0] == pytest.approx(values.mean() + centred[0] @ plain, abs=1e-5)
