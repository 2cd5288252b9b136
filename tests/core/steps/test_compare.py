"""Compare: published and hand-worked values, pairing, and results without verdicts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lomrix.core.arrays.cross_products import CrossProducts
from lomrix.core.arrays.differences import anova, chi_squared_test, fit_line, welch_anova
from lomrix.core.errors import DataError, SettingError, UsageError
from lomrix.core.rows.course import Courses
from lomrix.core.steps.compare.figure import Scatter
from lomrix.core.steps.compare.settings import Compare
from lomrix.core.steps.step import Result
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import lomrix, parts_of, reasons, sources, table

# Hours of sleep gained by ten patients under two drugs: Student, "The probable error of a mean", Biometrika 6 (1908).
FIRST = [0.7, -1.6, -0.2, -1.2, -0.1, 3.4, 3.7, 0.8, 0.0, 2.0]
SECOND = [1.9, 0.8, 1.1, 0.1, -0.1, 4.4, 5.5, 1.6, 4.6, 3.4]
STUDENT = table(id=[*range(10), *range(10)], drug=[1] * 10 + [2] * 10, gain=[*FIRST, *SECOND])
# The first of the four sets of F. J. Anscombe, "Graphs in statistical analysis", The American Statistician 27 (1973).
X = [10, 8, 13, 9, 11, 14, 6, 4, 12, 7, 5]
Y = [8.04, 6.95, 7.58, 8.81, 8.33, 9.96, 7.24, 4.26, 10.84, 4.82, 5.68]


def compare(source: Table, measure: str, **settings: Any) -> Result:
    return Compare(measure=measure, **settings).apply(sources(source), {"figure"})


def first(result: Result) -> dict[str, Any]:
    return {name: column.cells()[0] for name, column in result.table.columns.items()}


def test_two_groups_by_the_data_of_student() -> None:
    found = first(compare(STUDENT, "gain", between="drug"))
    assert found["comparison"] == "drug 2 less 1"
    assert found["difference"] == pytest.approx(1.58)
    assert (found["low"], found["high"]) == (pytest.approx(-0.2054832), pytest.approx(3.3654832))
    assert (found["statistic"], found["df"], found["p"]) == pytest.approx((1.860813, 17.77647, 0.07939414))
    # Pooled sd 1.898625, variance of d 20/100 + d^2/40: by hand.
    assert found["effect"] == pytest.approx(0.8321811, abs=1e-6)
    half = 1.959964 * (0.2 + 0.8321811**2 / 40) ** 0.5
    assert found["effect_low"] == pytest.approx(0.8321811 - half, abs=1e-6)


def test_pairs_by_the_data_of_student() -> None:
    result = compare(STUDENT, "gain", between="drug", paired_on="id")
    found = first(result)
    assert (found["statistic"], found["df"], found["p"]) == pytest.approx((4.062128, 9, 0.00283289))
    assert (found["low"], found["high"]) == pytest.approx((0.7001142, 2.4598858))
    assert found["effect"] == pytest.approx(1.2845581)
    assert result.account.summary == (
        "gain, drug 2 less 1: 1.58, 95 % interval 0.7001 to 2.46 (paired t: t = 4.062, 9 df, p = 0.0028; "
        "standardised 1.28)."
    )


def test_who_fell_out_is_counted_and_reported() -> None:
    source = table(id=[1, 2, 3, 4, 1, 2, 5, 4], when=[0, 0, 0, 0, 6, 6, 6, 6], x=[1, 2, 9, None, 3, 5, 7, None])
    result = compare(source, "x", between="when", paired_on="id")
    (balance,) = result.account.balances
    assert (balance.total, parts_of(balance)) == (
        5, {"with both": 2, "only at 0": 1, "only at 6": 1, "with neither": 1},
    )  # fmt: skip
    assert (first(result)["n"], first(result)["difference"]) == (2, 2.5)
    assert result.account.notes[0].text == (
        "at 0 the mean is 1.5 among those who stayed and 9 among 1 dropout without a value at 6."
    )


def test_three_occasions_in_pairs_are_each_held_against_the_first() -> None:
    source = table(id=[1, 2] * 3, when=[0, 0, 3, 3, 12, 12], x=[1, 2, 2, 4, 5, None])
    made = compare(source, "x", between="when", paired_on="id").table
    assert made["comparison"].cells() == ["when 3 less 0", "when 12 less 0"]
    assert made["n"].cells() == [2, 1]
    assert made["difference"].cells() == [1.5, 4.0]
    assert reasons(made["p"])[1] == "undefined"


def test_pairs_of_words_are_in_the_order_of_appearance() -> None:
    # By name "later" comes before "zero", and "end" before both.
    source = table(id=[1, 2] * 3, when=["zero"] * 2 + ["later"] * 2 + ["end"] * 2, x=[1, 2, 2, 4, 5, 7])
    made = compare(source, "x", between="when", paired_on="id").table
    assert made["comparison"].cells() == ["when later less zero", "when end less zero"]
    assert made["difference"].cells() == [1.5, 4.5]


def test_analysis_of_variance_by_hand_and_welch_by_its_author() -> None:
    # Means 5, 9, 10 of six each: between 84, within 68, so F = 42 / (68 / 15) = 9.2647.
    groups = [[6, 8, 4, 5, 3, 4], [8, 12, 9, 11, 6, 8], [13, 9, 11, 8, 7, 12]]
    found = anova([CrossProducts.of([np.array(group, np.float64)]) for group in groups])
    assert (found.statistic, found.df, found.df_within, found.effect) == pytest.approx((9.264706, 2, 15, 84 / 152))
    assert found.p == pytest.approx(0.002398777)
    # Welch (1951), page 335: samples of 20, 15, 10 with means 27.8, 24.1, 22.2 and variances 60.1, 6.3, 15.4.
    welch = welch_anova(np.array([20, 15, 10]), np.array([27.8, 24.1, 22.2]), np.array([60.1, 6.3, 15.4]))
    weight = np.array([20 / 60.1, 15 / 6.3, 10 / 15.4])
    middle = (weight * [27.8, 24.1, 22.2]).sum() / weight.sum()
    lost = ((1 - weight / weight.sum()) ** 2 / np.array([19, 14, 9])).sum()
    expected = (weight * (np.array([27.8, 24.1, 22.2]) - middle) ** 2).sum() / 2 / (1 + 2 / 8 * lost)
    assert (welch.statistic, welch.df, welch.df_within) == pytest.approx((expected, 2, 8 / (3 * lost)))


def test_several_groups_give_both_analyses() -> None:
    source = table(g=["a"] * 3 + ["b"] * 3 + ["c"] * 3, x=[1, 2, 3, 2, 3, 4, 9, 9, 9])
    result = compare(source, "x", between="g")
    assert result.table["method"].cells() == ["analysis of variance", "Welch's analysis of variance"]
    assert reasons(result.table["statistic"]) == [None, "undefined"]
    assert result.account.listings[0].rows[0] == ("a", 3, "2", "1", "-0.4841 to 4.484")


def test_chi_squared_by_hand() -> None:
    # n (ad - bc)^2 over the product of the margins: 100 * 200^2 / (30 * 70 * 40 * 60).
    ratio, expected = chi_squared_test(np.array([[10, 20], [30, 40]]))
    assert ratio.statistic == pytest.approx(100 * 200**2 / (30 * 70 * 40 * 60))
    assert (ratio.df, ratio.p) == pytest.approx((1, 0.3729985))
    assert expected.tolist() == [[12, 18], [28, 42]]
    assert ratio.effect == pytest.approx((ratio.statistic / 100) ** 0.5)


def test_codes_are_counted_with_a_word_where_counts_are_small() -> None:
    known = Dictionary({"sex": Variable(codes="sex")}, {"sex": {"1": "female", "2": "male"}})
    source = table(sex=[1, 1, 2, 2, 2, None], ship=["a", "b", "a", "b", "b", "a"], dictionary=known)
    result = compare(source, "sex", between="ship")
    assert result.account.listings[0].rows == (("1 female", "1 (50.0)", "1 (33.3)"), ("2 male", "1 (50.0)", "2 (66.7)"))
    assert parts_of(result.account.balances[0]) == {"compared": 5, "sex missing (blank)": 1}
    (note,) = result.account.notes
    assert note.text == "4 of 4 expected counts are below 5: chi-squared is a rough guide only."
    numbers = compare(source, "sex", between="ship", as_numbers=True)
    assert first(numbers)["difference"] == pytest.approx(2 / 3 - 0.5)


def test_the_line_of_anscombe() -> None:
    found = fit_line(CrossProducts.of([np.array(X, np.float64), np.array(Y)]))
    assert (found.slope, found.intercept, found.r_squared) == pytest.approx((0.5000909, 3.0000909, 0.6665425))
    assert (found.statistic, found.df, found.p) == pytest.approx((4.241455, 9, 0.00216963), rel=1e-5)
    assert (found.low, found.high) == pytest.approx((0.2333701, 0.7668117))


def test_slopes_of_each_group_and_together() -> None:
    source = table(g=["a"] * 3 + ["b"] * 3, x=[1, 2, 3, 1, 2, 3], y=[1.0, 2.0, 3.5, 6.0, 4.0, 2.0], z=[1] * 6)
    result = compare(source, "y", against="x", between="g")
    assert result.table["difference"].cells() == pytest.approx([1.25, -2.0, -0.375])
    assert result.table["comparison"].cells()[2] == "slope on x, all"
    assert isinstance(result.extras["figure"], Scatter)
    flat = compare(source, "y", against="z")
    assert first(flat)["difference"] is None
    assert "cannot be computed" in flat.account.summary


def test_the_figure_shows_pairs_as_lines() -> None:
    figure = compare(STUDENT, "gain", between="drug", paired_on="id").extras["figure"]
    assert isinstance(figure, Courses)
    (course,) = figure.drawn
    assert sorted(map(tuple, course.lines[0].tolist())) == sorted(zip(FIRST, SECOND, strict=True))
    assert course.averages[0].mean == pytest.approx([0.75, 2.33])


def test_two_rows_of_a_case_at_one_occasion_are_not_pair() -> None:
    with pytest.raises(DataError, match="2 rows repeat their case and when") as stopped:
        compare(table(id=[1, 1, 1], when=[0, 0, 6], x=[1, 2, 3]), "x", between="when", paired_on="id")
    assert stopped.value.where == "1 0 (rows 2, 3)"


@pytest.mark.parametrize(
    ("settings", "what"),
    [
        ({"measure": "x", "between": "one"}, "one has only the value a, so there is nothing to compare"),
        ({"measure": "x", "between": "many"}, "many has more than 50 values, too many to compare"),
        ({"measure": "many", "between": "many"}, "cannot be compared with itself"),
        ({"measure": "x", "between": "zz"}, "No column zz"),
        ({"measure": "one", "against": "x"}, "a slope is of numbers"),
        ({"measure": "one", "between": "two", "paired_on": "many"}, "cannot be compared in pairs"),
    ],
)
def test_what_does_not_fit_the_table(settings: dict[str, Any], what: str) -> None:
    source = table(x=list(range(60)), one=["a"] * 60, many=list(range(60)), two=[1, 2] * 30)
    with pytest.raises(UsageError, match=what):
        Compare(**settings).apply(sources(source))


@pytest.mark.parametrize(
    ("settings", "name"),
    [
        ({"measure": "x"}, "between"),
        ({"measure": "", "between": "g"}, "measure"),
        ({"measure": "x", "against": "y", "between": "g", "paired_on": "id"}, "against"),
        ({"measure": "x", "against": "y", "paired_on": "id"}, "between"),
    ],
)
def test_settings_that_cannot_be(settings: dict[str, Any], name: str) -> None:
    with pytest.raises(SettingError) as stopped:
        Compare(**settings)
    assert stopped.value.setting == name


def test_the_program_compares(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("g,x,y\na,1,2\na,2,4\nb,4,5\nb,6,9\n")
    out, _ = lomrix("compare", "a.csv", "--measure", "x,y", "--between", "g", "--out", "t.csv", "--figure", "f.png",
                    cwd=tmp_path)  # fmt: skip
    assert "2 measures, 2 comparisons." in out
    assert "p-values of the 2 comparisons are not adjusted" in out
    assert (tmp_path / "t.csv").read_text().splitlines()[0].startswith("measure,comparison,method,n,difference,low")
    assert (tmp_path / "f.png").read_bytes().startswith(b"\x89PNG")
    lomrix("compare", "a.csv", "--measure", "y", "--against", "x", "--figure", "s.svg", cwd=tmp_path)
    assert (tmp_path / "s.svg").stat().st_size > 1000


@pytest.mark.parametrize(("far", "rel"), [(0, 1e-10), (10**6, 1e-8), (10**12, 1e-3)])
def test_variance_between_groups_far_from_nought(far: int, rel: float) -> None:
    # SmLs01, 04 and 07 of NIST's Statistical Reference Datasets: means of 1.4, 1.3, 1.5, 1.3 … above a number, and
    # twenty values 0.1 beside each. The certified F is 21; far from 0 the data themselves are rounded.
    groups = [(g, far + 1.4 + (0 if g == 1 else -0.1 if g % 2 == 0 else 0.1) + one)
              for g in range(1, 10) for one in [0, *[0.1, -0.1] * 10]]  # fmt: skip
    source = table(g=[group for group, _ in groups], y=[value for _, value in groups])
    made = Compare(measure="y", between="g").apply(sources(source)).table
    assert made["statistic"].cells()[0] == pytest.approx(21, rel=rel)
