"""Aggregate: statistics worked out by hand, sensible order, and nothing skipped in silence."""

from __future__ import annotations

import datetime
import statistics
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays.statistics import STATISTICS, Values
from lomrix.core.errors import DataError, Proposal, SettingError, UsageError
from lomrix.core.steps.aggregate.settings import Aggregate, parse_statistics
from lomrix.core.steps.step import Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import parts_of, reasons, rows, sources, table

ALL = ("n", "missing", "mean", "sd", "median", "min", "max", "sum")


def test_statistics_by_hand() -> None:
    # 2, 4, 4, 4, 5, 5, 7, 9: mean 5, squares around it 32, so the sample sd is the root of 32/7.
    cells = [2, 4, 4, 4, 5, 5, 7, 9, None, 3]
    groups = ["a"] * 9 + ["b"]
    made = Aggregate(by=("g",), stat=(f"x: {' '.join(ALL)}",)).apply(sources(table(g=groups, x=cells))).table
    assert made.names == ["g", *(f"x_{name}" for name in ALL)]
    first, second = rows(made)
    assert first[:4] == ("a", 8, 1, 5.0)
    assert first[4] == pytest.approx(2.1380899352993947)
    assert first[5:] == (4.5, 2, 9, 40)
    assert second == ("b", 1, 0, 3.0, None, 3.0, 3, 3, 3)
    assert reasons(made["x_sd"]) == [None, "undefined"]


def test_groups_are_in_the_order_of_their_values() -> None:
    made = Aggregate(by=("month",)).apply(sources(table(month=[12, 3, 0, 12]))).table
    assert rows(made) == [(0, 1), (3, 1), (12, 2)]
    made = (
        Aggregate(by=("visit", "ship"))
        .apply(sources(table(visit=["visit 12", "visit 3", "visit 3"], ship=["b", "b", "a"])))
        .table
    )
    assert rows(made) == [("visit 3", "a", 1), ("visit 3", "b", 1), ("visit 12", "b", 1)]


def test_rows_without_a_group_are_counted_out() -> None:
    result = Aggregate(by=("g", "h"), stat=("x: n",)).apply(
        sources(table(g=["a", None, "a"], h=[1, 1, None], x=[1, 2, 3]))
    )
    assert rows(result.table) == [("a", 1, 1)]
    assert parts_of(result.account.balances[0]) == {
        "in a group": 1,
        "g missing, in no group": 1,
        "h missing, in no group": 1,
    }


def test_too_few_and_empty_groups() -> None:
    cells = [1, 2, 3, None]
    made = (
        Aggregate(by=("g",), stat=("x: mean min",), min_n=2)
        .apply(sources(table(g=["a", "a", "b", "c"], x=cells)))
        .table
    )
    assert rows(made) == [("a", 1.5, 1), ("b", None, None), ("c", None, None)]
    assert reasons(made["x_mean"]) == [None, "suppressed", "undefined"]


def test_attached_statistics_are_beside_every_row() -> None:
    made = (
        Aggregate(by=("g",), stat=("x: mean",), attach=True)
        .apply(sources(table(g=["b", "a", "b", None], x=[1, 5, 3, 9])))
        .table
    )
    assert made["x_mean"].cells() == [2.0, 5.0, 2.0, None]


def test_dates_have_a_first_and_a_last() -> None:
    days = [datetime.date(2024, 1, 8), datetime.date(2024, 1, 2), None]
    source = Table({"g": Column.of_cells("integer", [1, 1, 1]), "day": Column.of_cells("date", days)})
    made = Aggregate(by=("g",), stat=("day: min max median n",)).apply(sources(source)).table
    assert rows(made) == [(1, days[1], days[0], datetime.date(2024, 1, 5), 2)]


@pytest.mark.parametrize("words", ["sleep", "sleep:", ": mean", "sleep: average"])
def test_statistics_that_are_not_clear(words: str) -> None:
    with pytest.raises(UsageError):
        parse_statistics([words])


def test_a_mean_of_texts_is_refused() -> None:
    with pytest.raises(UsageError, match="it is string"):
        Aggregate(by=("g",), stat=("x: mean",)).apply(sources(table(g=["a"], x=["seven h"])))


@given(
    st.lists(
        st.tuples(st.integers(0, 3), st.floats(-1e6, 1e6) | st.integers(0, 3).map(float)), min_size=1, max_size=40
    ),
    st.sampled_from(sorted(STATISTICS)),
)
def test_kernels_agree_with_the_obvious_way(pairs: list[tuple[int, float]], name: str) -> None:
    obvious: Callable[[list[float]], float] = {  # type: ignore[assignment]
        "mean": statistics.fmean,
        "sd": statistics.stdev,
        "median": statistics.median,
        "min": min,
        "max": max,
        "sum": sum,
        "variance": statistics.variance,
        "se": lambda own: statistics.stdev(own) / len(own) ** 0.5,
        "iqr": lambda own: float(np.subtract(*np.quantile(own, (0.75, 0.25)))),
    }[name]
    codes = np.array([group for group, _ in pairs])
    values = np.array([value for _, value in pairs])
    found = STATISTICS[name](Values(codes, values, 4))
    for group in range(4):
        own = [value for at, value in pairs if at == group]
        if len(own) < (2 if name in ("sd", "variance", "se") else 1):
            assert np.isnan(found[group]) or (name == "sum" and found[group] == 0)
        else:
            assert found[group] == pytest.approx(obvious(own), rel=1e-9, abs=1e-6)


def test_all_that_is_reported_of_a_grouping() -> None:
    known = Dictionary({"x": Variable(label="Sleep", unit="min"), "g": Variable(label="Vessel")})
    source = table(g=["a", "a", None, "b", "b"], x=[400, 500, 300, None, 410], dictionary=known)
    result = Aggregate(by=("g",), stat=("x: n mean min max sum",)).apply(sources(source))
    made, account = result.table, result.account
    assert rows(made) == [("a", 2, 450.0, 400, 500, 900), ("b", 1, 410.0, 410, 410, 410)]
    assert [made[name].type for name in made.names[1:]] == ["integer", "number", "integer", "integer", "integer"]
    output = {
        name: (made.dictionary.of(name).label, made.dictionary.of(name).unit) for name in ("x_n", "x_mean", "x_min")
    }
    assert output == {
        "x_n": ("number of values of Sleep", ""),
        "x_mean": ("mean of Sleep", "min"),
        "x_min": ("minimum of Sleep", "min"),
    }
    assert (made.dictionary.of("g").label, made.dictionary.of("x_mean").level) == ("Vessel", "group")
    assert account.step == "aggregate"
    assert account.summary == "5 rows became 2 groups by g, 2 rows each."
    assert account.facts == {"groups": 2, "rows": 2, "columns": ["x_n", "x_mean", "x_min", "x_max", "x_sum"]}
    assert parts_of(account.balances[0]) == {"in a group": 4, "g missing, in no group": 1}
    # The row in no group has a value that is neither used nor skipped.
    assert [(one.title, one.rows) for one in account.listings] == [("values used", (("x", 3, 1, "1 blank"),))]
    assert account.listings[0].columns == ("variable", "values", "skipped as missing", "why")
    spread = Aggregate(by=("g",), stat=("x: sd",)).apply(sources(source)).account
    assert spread.notes[0] == Note("1 of 2 groups is missing (undefined).", "x_sd", (), "undefined", 1)
    whole = Aggregate(by=("g",), stat=("x: sum",)).apply(sources(table(g=["a"], x=[1]))).account
    assert whole.listings[0].rows == (("x", 1, 0, "none"),)


def test_a_column_without_values_has_no_mean() -> None:
    made = Aggregate(by="g", stat="x: n mean").apply(sources(table(g=["a", "b"], x=[None, None]))).table
    assert (made["x_n"].cells(), made["x_mean"].cells()) == ([0, 0], [None, None])


def test_large_integers_and_odd_decimals_keep_their_digits() -> None:
    made = Aggregate(by="g", stat="x: min max sum").apply(sources(table(g=["a", "a"], x=[2**60 + 1, 2**60]))).table
    assert rows(made) == [("a", 2**60, 2**60 + 1, 2**61 + 1)]
    made = Aggregate(by="g", stat="x: sum").apply(sources(table(g=["a"] * 3, x=[7.7, 7.8, 7.8]))).table
    assert str(made["x_sum"].cells()[0]) == "23.3"


def aggregated(source: Table, by: str, *stat: str, **settings: object) -> Result:
    return Aggregate(by=by, stat=stat, **settings).apply(sources(source))


def test_totals_of_no_rows_are_of_none() -> None:
    empty = table(g=["a"], x=[1]).first(0)
    assert rows(aggregated(empty, "g", "x: n", totals=True).table) == [(None, 0)]


def test_further_statistics_by_hand() -> None:
    # Mean 5, variance 32/7, n 8: se = root of 4/7; Student's 0.975 quantile with 7 degrees of freedom is 2.3646.
    # Definition 7: q25 at place 1.75 of 2 4 4 4 5 5 7 9 is 4, q75 at 5.25 is 5.5, q90 at 6.3 is 7.6.
    words = "x: variance se ci q25 q75 q90 iqr first last commonest distinct share(4)"
    made = aggregated(table(g=["a"] * 9, x=[2, 9, 4, 4, 4, 5, 5, 7, None]), "g", words).table
    found = dict(zip(made.names[1:], rows(made)[0][1:], strict=True))
    names = "variance se ci_low ci_high q25 q75 q90 iqr first last commonest distinct share_4"
    assert list(found) == [f"x_{name}" for name in names.split()]
    expected = [32 / 7, (4 / 7) ** 0.5, 3.2125, 6.7875, 4, 5.5, 7.6, 1.5, 2, 7, 4, 5, 3 / 8]
    assert list(found.values()) == pytest.approx(expected, abs=5e-5)


def test_texts_and_dates_have_the_statistics_that_make_sense() -> None:
    days = [datetime.date(2024, 1, 2), datetime.date(2024, 1, 5), None]
    source = table(g=[1, 1, 1], w=["night", "day", "day"])
    source = source.with_columns({**source.columns, "d": Column.of_cells("date", days)})
    made = aggregated(source, "g", "w: first last commonest distinct share(day)", "d: first last q25").table
    assert rows(made) == [(1, "night", "day", "day", 2, 2 / 3, days[0], days[1], days[0])]
    with pytest.raises(UsageError, match="The mean of d cannot be computed: it is date"):
        aggregated(source, "g", "d: mean")


def test_names_by_a_template_and_patterns_as_keys() -> None:
    made = aggregated(table(g1=[1], g2=[2], x=[3]), "g*", "x: mean", header="{statistic}_of_{measure}").table
    assert made.names == ["g1", "g2", "mean_of_x"]


def test_weights_by_hand() -> None:
    # 1 with weight 1 and 4 with weight 2: mean 3, sum 9; one row has no weight, one weighs nothing.
    source = table(g=["a"] * 4, x=[1, 4, 100, 7], w=[1.0, 2.0, None, 0.0])
    made = aggregated(source, "g", "x: n missing mean sum variance share(4)", weight="w")
    assert rows(made.table) == [("a", 3, 1, 3.0, 9.0, 4.0, 2 / 3)]
    assert made.account.listings[0].rows == (("x", 3, 0, "1 without a weight"),)
    with pytest.raises(DataError, match="1 weights in w are below 0"):
        aggregated(table(g=[1], x=[1], w=[-1.0]), "g", "x: mean", weight="w")


def test_a_missing_key_may_be_a_group_of_its_own() -> None:
    keys = Column.of_cells("string", ["b", None, "a", None], "refused")
    source = Table({"g": keys, "x": table(x=[1, 2, 3, 4])["x"]})
    made = aggregated(source, "g", "x: sum", missing_group="own")
    assert rows(made.table) == [("a", 3), ("b", 1), (None, 6)]
    assert reasons(made.table["g"]) == [None, None, "refused"]
    assert parts_of(made.account.balances[0]) == {"in a group": 4}


def test_bands_make_groups_with_labels() -> None:
    made = aggregated(table(age=[19, 20, 45, None]), "bands(age, 20, 40)").table
    assert rows(made) == [(1, 1), (2, 1), (3, 1)]
    assert made.dictionary.labels_of("age_band")["2"] == "20 to below 40"
    assert aggregated(table(age=[19]), "old = bands(age, 20)").table.names == ["old", "rows"]


def test_declared_codes_that_do_not_occur() -> None:
    known = Dictionary({"sex": Variable(codes="sex")}, {"sex": {"1": "f", "2": "m", "3": "x"}})
    source = table(sex=[3, 1, 1], ship=["b", "a", "a"], x=[1, 2, 4], dictionary=known)
    made = aggregated(source, "sex,ship", "x: n mean", empty_groups=True)
    assert rows(made.table) == [
        (1, "a", 2, 3.0), (1, "b", 0, None), (2, "a", 0, None), (2, "b", 0, None), (3, "a", 0, None), (3, "b", 1, 1.0),
    ]  # fmt: skip
    assert parts_of(made.account.balances[1]) == {
        "for groups that the rows show": 2,
        "for declared groups without a row": 4,
    }


def test_totals_key_by_key_from_the_last() -> None:
    made = aggregated(table(a=[1, 1, 2], b=["x", "y", "x"], v=[1, 3, 8]), "a,b", "v: n mean", totals=True).table
    assert rows(made) == [
        (1, "x", 1, 1.0), (1, "y", 1, 3.0), (2, "x", 1, 8.0),
        (1, None, 2, 2.0), (2, None, 1, 8.0), (None, None, 3, 4.0),
    ]  # fmt: skip
    assert reasons(made["b"])[3:] == ["total"] * 3


def test_deviations_are_beside_the_rows() -> None:
    made = aggregated(table(g=["a", "b", "a", None], x=[1, 5, 4, 9]), "g", "x: mean", attach=True, deviation=True).table
    assert made["x_deviation"].cells() == [-1.5, 0.0, 1.5, None]
    few = aggregated(table(g=["a", "b", "a"], x=[1, 5, 4]), "g", "x: mean", attach=True, deviation=True, min_n=2).table
    assert reasons(few["x_deviation"]) == reasons(few["x_mean"]) == [None, "suppressed", None]


def test_a_key_with_hundreds_of_values_is_reported_with_the_bands_that_cut_it() -> None:
    source = table(age=list(range(20, 60)), x=list(range(40)))
    account = aggregated(source, "age", "x: mean").account
    assert account.notes[0].text == "40 groups of 40 rows: age is likely continuous."
    (proposal,) = account.advice
    assert isinstance(proposal, Proposal)
    assert proposal.settings == {"by": "bands(age, 30, 40, 49)", "stat": ["x: mean"]}
    assert not aggregated(table(age=[20] * 40, x=[1] * 40), "age", "x: mean").account.advice


@pytest.mark.parametrize(
    ("settings", "name"),
    [
        ({"stat": "x: median", "weight": "w"}, "weight"),
        ({"deviation": True}, "deviation"),
        ({"attach": True, "totals": True}, "attach"),
        ({"hide_second": True}, "hide_second"),
        ({"header": "{measure}"}, "header"),
        ({"by": "bands(age, 3, 2 +)"}, "by"),
        ({"by": "nofunction(age)"}, "by"),
        ({"stat": "x: q123"}, "stat"),
    ],
)
def test_settings_that_cannot_be(settings: dict[str, object], name: str) -> None:
    with pytest.raises(SettingError) as stopped:
        Aggregate(**{"by": "g", **settings})
    assert stopped.value.setting == name


def test_the_figure_shows_no_group_that_is_suppressed() -> None:
    known = Dictionary({"ship": Variable(codes="ship")}, {"ship": {"1": "Tern", "2": "Puffin"}})
    source = table(ship=[1, 1, 2, 1, 1], month=[0, 0, 0, 3, 3], x=[1, 3, 9, 5, 7], dictionary=known)
    step = Aggregate(by="ship,month", stat="x: mean", min_n=2)
    (course,) = step.apply(sources(source), {"figure"}).extras["figure"].drawn
    tern, puffin = course.averages
    assert (course.values, course.by, tern.series, puffin.series) == ((0, 3), "ship", "Tern", "Puffin")
    assert tern.mean.tolist() == [2.0, 6.0]
    assert np.isnan(puffin.mean).all()
