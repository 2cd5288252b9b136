"""To long: what was in columns is in rows, and nothing is lost."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays import layout
from lomrix.core.errors import DataError, Proposal, UsageError
from lomrix.core.rows.course import compute_courses
from lomrix.core.rows.occasions import parse_occasion_settings
from lomrix.core.steps.reshape.labels import find_common_label
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import parts_of, reasons, rows, sources, table

TEMPLATE = "{measure}_m{month}"


def test_measures_constants_and_numeric_order() -> None:
    wide = table(crew=["a", "b"], x_m12=[1, 2], x_m3=[3, None], y_m3=[0.5, 1.5], vessel=["tern", "gull"])
    long = ToLong(header=(TEMPLATE,), case=("crew",)).apply(sources(wide)).table
    assert long.names == ["crew", "month", "vessel", "x", "y"]
    assert rows(long) == [
        ("a", 3, "tern", 3, 0.5),
        ("a", 12, "tern", 1, None),
        ("b", 3, "gull", None, 1.5),
        ("b", 12, "gull", 2, None),
    ]
    assert reasons(long["y"]) == [None, "no-occasion", None, "no-occasion"]
    assert reasons(long["x"]) == [None, None, "blank", None]


def test_rows_without_a_measured_value_are_left_out_and_counted() -> None:
    wide = table(crew=["a", "b"], x_m0=[1, None], x_m3=[None, None])
    step = ToLong(header=(TEMPLATE,), case=("crew",))
    result = step.apply(sources(wide))
    assert rows(result.table) == [("a", 0, 1)]
    assert parts_of(result.account.balances[0]) == {
        "rows with a measured value": 1,
        "nothing measured at month 0, left out": 1,
        "nothing measured at month 3, left out": 2,
    }
    kept = step.with_settings(keep_empty=True).apply(sources(wide)).table
    assert rows(kept) == [("a", 0, 1), ("a", 3, None), ("b", 0, None), ("b", 3, None)]


@given(st.lists(st.lists(st.one_of(st.none(), st.integers(-5, 5)), min_size=3, max_size=3), min_size=1, max_size=8))
def test_every_measured_value_comes_out_once(cells: list[list[int | None]]) -> None:
    columns = {
        f"x_m{month}": Column.of_cells("integer", [row[at] for row in cells]) for at, month in enumerate((0, 3, 12))
    }
    wide = Table({"crew": Column.of_cells("integer", range(len(cells))), **columns})
    long = ToLong(header=(TEMPLATE,), case=("crew",)).apply(sources(wide)).table
    expected = [
        (crew, month, row[at])
        for crew, row in enumerate(cells)
        for at, month in enumerate((0, 3, 12))
        if row[at] is not None
    ]
    assert rows(long) == expected


def test_texts_keep_their_words_over_several_pools() -> None:
    wide = table(crew=["a", "b"], mood_m0=["low", "high"], mood_m3=["high", None])
    long = ToLong(header=(TEMPLATE,), case=("crew",), keep_empty=True).apply(sources(wide)).table
    assert long["mood"].cells() == ["low", "high", "high", None]


def test_the_occasion_is_the_longest_run_of_digits() -> None:
    wide = table(id=["a"], hours75=[1], hours81=[2], q12=[5])
    long = ToLong(header=("{measure}{year}",), case=("id",)).apply(sources(wide)).table
    assert rows(long) == [("a", 12, None, 5), ("a", 75, 1, None), ("a", 81, 2, None)]


def test_a_measure_of_two_types_is_refused_by_name() -> None:
    wide = table(crew=["a"], x_m0=[1], x_m3=["seven h"])
    with pytest.raises(DataError) as caught:
        ToLong(header=(TEMPLATE,), case=("crew",)).apply(sources(wide))
    assert caught.value.where == "x_m0 is integer, x_m3 is string"


def test_asked_constants_and_what_is_left_out() -> None:
    wide = table(crew=["a"], x_m0=[1], ship=["tern"], port=["Auk Bay"])
    result = ToLong(header=(TEMPLATE,), case=("crew",), constant="ship").apply(sources(wide))
    assert result.table.names == ["crew", "month", "ship", "x"]
    assert result.account.facts["left_out_columns"] == ["port"]


def test_repeated_case_is_reported() -> None:
    wide = table(crew=["a", "a", None], x_m0=[1, 2, 3])
    notes = {note.kind: note for note in ToLong(header=(TEMPLATE,), case=("crew",)).apply(sources(wide)).account.notes}
    assert notes["repeated-case"].examples == ((2, "a"), (3, "a"))
    assert notes["missing-case"].count == 1


def test_labels_and_missing_codes_follow() -> None:
    entry = Variable(label="Sleep in 24 hours, month {month}", unit="min", missing={"-9": "refused"})
    wide = table(crew=["a"], sleep_m0=[1], sleep_m3=[2], dictionary=Dictionary({"sleep_m{month}": entry}))
    found = ToLong(header=(TEMPLATE,), case=("crew",)).apply(sources(wide)).table.dictionary.of("sleep")
    assert (found.label, found.unit, found.missing) == ("Sleep in 24 hours", "min", {"-9": "refused"})


@pytest.mark.parametrize(
    ("labels", "label"),
    [
        (["Sleep, month 3", "Sleep, month 12"], "Sleep"),
        (["Mood at 3 months", "Mood at 12 months"], "Mood"),
        (["Month 3: sleep in 24 h", "Month 12: sleep in 24 h"], "sleep in 24 h"),
        (["Same", "Same"], "Same"),
        (["Pulse", "Rate"], "Pulse"),
        (["Sleep", ""], "Sleep"),
        (["", ""], ""),
    ],
)
def test_common_label(labels: list[str], label: str) -> None:
    assert find_common_label(labels) == label


@pytest.mark.parametrize(
    ("template", "name", "reading"),
    [
        (TEMPLATE, "sleep_m3", {"measure": "sleep", "month": "3"}),
        (TEMPLATE, "a_m_m3", {"measure": "a_m", "month": "3"}),
        (TEMPLATE, "age", None),
        ("{measure} (cabin {berth})", "noise (cabin 4)", {"measure": "noise", "berth": "4"}),
        ("{measure}_{arm}_{visit}", "hr_left_2", {"measure": "hr", "arm": "left", "visit": "2"}),
        ("{measure}{year}", "hours2075", {"measure": "hours", "year": "2075"}),
        ("{year}{measure}", "75hours", {"year": "75", "measure": "hours"}),
    ],
)
def test_header_templates(template: str, name: str, reading: dict[str, str] | None) -> None:
    found = HeaderTemplate.parse(template)
    assert found.read(name) == reading
    if reading is not None:
        assert found.format(reading["measure"], reading) == name


def test_an_ambiguous_header_shows_both_readings() -> None:
    with pytest.raises(UsageError) as caught:
        HeaderTemplate.parse("{measure}_{arm}_{visit}").read("a_b_c_d")
    assert "measure = a; arm = b; visit = c_d" in caught.value.where


@pytest.mark.parametrize(
    "template", ["sleep_m3", "{measure}", "{measure}_{}", "{measure}_m{month", "{measure}_{measure}"]
)
def test_broken_templates_are_refused(template: str) -> None:
    with pytest.raises(UsageError):
        HeaderTemplate.parse(template)


def test_many_occasions() -> None:
    count = 2000
    columns = {f"x_d{day}": Column.of("integer", np.array([day, -day])) for day in range(count)}
    long = (
        ToLong(header=("{measure}_d{day}",), case=("id",))
        .apply(sources(Table({"id": Column.of_cells("string", ["a", "b"]), **columns})))
        .table
    )
    assert len(long) == 2 * count
    assert long["x"].cells()[count - 1 : count + 2] == [count - 1, 0, -1]


# ------------------------------------------------------------- templates and occasions


def long_of(wide: Table, *headers: str, **more: Any) -> Table:
    return ToLong(header=headers, case=("id",), **more).apply(sources(wide)).table


def test_several_templates_and_a_named_value() -> None:
    more: dict[str, Any] = {"cost 2010": [3]}
    wide = table(id=["a"], Y2009=[1], Y2010=[2], **more)
    made = long_of(wide, "Y{year}", "{measure} {year}", value_name=("income",))
    assert made.names == ["id", "year", "income", "cost"]
    assert rows(made) == [("a", 2009, 1, None), ("a", 2010, 2, 3)]


def test_zeros_in_front_and_dates() -> None:
    assert rows(long_of(table(id=["a"], x_m03=[1], x_m12=[2]), "{measure}_m{month:02}")) == [("a", 3, 1), ("a", 12, 2)]
    days: dict[str, Any] = {"x 2024-02-01": [1], "x 2023-12-24": [2]}
    wide = table(id=["a"], **days)
    made = long_of(wide, "{measure} {day}")
    assert made["day"].type == "date"
    assert made["x"].cells() == [2, 1]


@pytest.mark.parametrize(
    ("columns", "words", "expected"),
    [
        ("x_1 x_2 x_3 x_4", "0,3,6,12", [0, 3, 6, 12]),
        ("x_0 x_3 x_12", "12,3,0", [12, 3, 0]),
        ("x_before x_after", "before=0,after=12", [0, 12]),
        ("x_end x_begin", "begin,end", ["begin", "end"]),
        ("x_after x_before", "", ["after", "before"]),
        ("x_v12 x_v3", "", ["v3", "v12"]),
    ],
)
def test_true_times_and_orders(columns: str, words: str, expected: list[Any]) -> None:
    cells: dict[str, Any] = {name: [at] for at, name in enumerate(columns.split())}
    wide = table(id=["a"], **cells)
    made = long_of(wide, "{measure}_{month}", occasions=words)
    assert made["month"].cells() == expected
    assert sorted(made["x"].cells()) == list(range(len(expected)))


def test_true_times_of_either_occasions() -> None:
    wide = table(id=["a"], x_left_1=[1], x_left_2=[2])
    made = long_of(wide, "{measure}_{arm}_{visit}", occasions=("visit:0,6",))
    assert rows(made) == [("a", "left", 0, 1), ("a", "left", 6, 2)]


def test_stated_occasions_settle_what_is_ambiguous() -> None:
    wide = table(id=["a"], heart_rate_left_one=[1], heart_rate_left_two=[2])
    with pytest.raises(UsageError):
        long_of(wide, "{measure}_{arm}_{visit}")
    made = long_of(
        wide,
        "{measure}_{arm}_{visit}",
        occasions=(
            "arm:left",
            "visit:one,two",
        ),
    )
    assert rows(made) == [("a", "left", "one", 1), ("a", "left", "two", 2)]
    assert made.names[-1] == "heart_rate"


def test_a_name_that_only_looks_like_a_family_is_carried() -> None:
    wide = table(id=["a"], joined_on=[7], x_before=[1], x_after=[2])
    result = ToLong(header=("{measure}_{when}",), case=("id",)).apply(sources(wide))
    assert result.table.names == ["id", "when", "joined_on", "x"]
    assert {note.kind for note in result.account.notes} >= {"set-aside"}


@pytest.mark.parametrize(
    ("headers", "more", "expected"),
    [
        (("Y{year}",), {}, "needs {measure}"),
        (("{measure}",), {}, "needs an occasion"),
        (("{measure}_m{month}",), {"value_name": ("x",)}, "is not needed"),
        (("{measure}_m{month}", "{measure}_m{wave}"), {}, "different occasions"),
        (("{measure}_m{month}", "{measure}m{month}"), {}, "both fit the column x_m0"),
        (("{measure}_w{wave}",), {}, "No column fits"),
        (("{measure}_m{month:2}",), {}, "is not valid"),
        (("{measure}_m{month}",), {"occasions": "0,3,6"}, "names 3 values of month, the columns hold 2"),
        (("{measure}_m{month}",), {"occasions": "0=1"}, "are incomplete"),
        (("{measure}_m{month}",), {"occasions": "year:1,2"}, "matches none"),
        ((), {}, "No ‹header› was given."),
    ],
)
def test_refused_templates(headers: tuple[str, ...], more: dict[str, Any], expected: str) -> None:
    with pytest.raises(UsageError) as caught:
        long_of(table(id=["a"], x_m0=[1], x_m3=[2]), *headers, **more)
    assert expected in caught.value.what
    assert caught.value.todo


@pytest.mark.parametrize("words", ["0,,3", "a=1,2", "3,3", ""])
def test_unclear_occasions(words: str) -> None:
    with pytest.raises(UsageError):
        parse_occasion_settings([words])


def test_a_guess_is_proposed_and_taken() -> None:
    wide = table(sex=[1, 1], id=["a", "b"], x_m0=[1, 2], x_m3=[2, 3], y_m0=[3, 4], y_m3=[4, 5])
    with pytest.raises(UsageError) as caught:
        ToLong().apply(sources(wide))
    settings = {"case": ("id",), "header": ("{measure}_m{month}",), "value_name": (), "occasions": ()}
    assert caught.value.proposal == Proposal("to-long", settings)
    made = ToLong(guess=True).apply(sources(wide)).table
    assert rows(made)[:2] == [("a", 0, 1, 1, 3), ("a", 3, 1, 2, 4)]


def test_a_baseline_and_two_sides_are_guessed_with_what_they_are_for() -> None:
    asked = ToLong(guess=True, case=("id",))
    visits = asked.apply(sources(table(id=["a"], bp_baseline=[1], bp_fu1=[2], bp_fu12=[3]))).table
    assert (visits.names, rows(visits)) == (["id", "visit", "bp"], [("a", 0, 1), ("a", 1, 2), ("a", 12, 3)])
    sides = asked.apply(sources(table(id=["a"], hearL1=[1], hearR1=[2], hearL2=[3], hearR2=[4]))).table
    assert sides.names == ["id", "side", "wave", "hear"]
    assert sorted(rows(sides)) == [("a", "L", 1, 1), ("a", "L", 2, 3), ("a", "R", 1, 2), ("a", "R", 2, 4)]


# -------------------------------------------------------- labels, codes, what is lost


def test_lists_of_codes_are_combined_and_contradictions_stop() -> None:
    variables = {"x_m0": Variable(codes="early"), "x_m3": Variable(codes="late")}
    codes = {"early": {"1": "no"}, "late": {"1": "no", "0": "never"}}
    wide = table(id=["a"], x_m0=[1], x_m3=[0], dictionary=Dictionary(variables, codes))
    assert long_of(wide, TEMPLATE).dictionary.labels_of("x") == {"0": "never", "1": "no"}
    codes["late"]["1"] = "yes"
    wide = table(id=["a"], x_m0=[1], x_m3=[0], dictionary=Dictionary(variables, codes))
    with pytest.raises(DataError) as caught:
        long_of(wide, TEMPLATE)
    assert caught.value.where == 'code 1: "no", but "yes" in x_m3'
    assert long_of(wide, TEMPLATE, other_labels="first").dictionary.labels_of("x")["1"] == "no"


def test_occasions_are_reported_with_their_labels() -> None:
    known = Dictionary({"month": Variable(codes="when")}, {"when": {"0": "before"}})
    wide = table(id=["a"], x_m0=[None], x_m3=[1], dictionary=known)
    account = ToLong(header=(TEMPLATE,), case=("id",)).apply(sources(wide)).account
    assert "nothing measured at month 0 (before), left out" in parts_of(account.balances[0])


def test_cases_that_vanish_are_named() -> None:
    wide = table(id=["a", "b"], x_m0=[1, None], x_m3=[2, None])
    account = ToLong(header=(TEMPLATE,), case=("id",)).apply(sources(wide)).account
    (note,) = [note for note in account.notes if note.kind == "lost-case"]
    assert note.examples == ((3, "b"),)
    lost = ["1 case without a row", "why cells of the rows left out are missing (2 blank)"]
    assert account.facts["cannot_come_back"] == lost


def test_kept_empty_rows_are_those_that_were_there() -> None:
    why = np.array([1, 2], np.uint8)
    x = Column.of("integer", np.zeros(2, np.int64), why, ("blank", "no-occasion"))
    wide = Table({"id": Column.of_cells("string", ["a", "b"]), "x_m0": x, "x_m3": Column.of_cells("integer", [1, 2])})
    result = ToLong(header=(TEMPLATE,), case=("id",), keep_empty=True).apply(sources(wide))
    assert rows(result.table) == [("a", 0, None), ("a", 3, 1), ("b", 3, 2)]
    assert parts_of(result.account.balances[0])["no-occasion at month 0, left out"] == 1


def test_whole_numbers_too_long_for_decimals_are_refused() -> None:
    with pytest.raises(DataError) as caught:
        long_of(table(id=["a"], x_m0=[2**60], x_m3=[0.5]), TEMPLATE)
    assert caught.value.where == f"row 2: {2**60}"


# ------------------------------------------------------------------ kernels and courses


@given(st.integers(1, 5), st.integers(0, 40), st.data())
def test_laying_out_and_leaving_out_agree_with_the_obvious(times: int, rows: int, data: st.DataObject) -> None:
    columns = [np.arange(rows) * 10 + at if data.draw(st.booleans()) else None for at in range(times)]
    gone = data.draw(st.sets(st.integers(0, max(rows * times - 1, 0)), max_size=rows * times))
    expected = [-1 if columns[at] is None else row * 10 + at for row in range(rows) for at in range(times)]
    kept = [value for place, value in enumerate(expected) if place not in gone]
    made = layout.interleave_columns(columns, rows, -1, np.int64, np.array(sorted(gone), np.int64))
    assert made.tolist() == kept
    assert layout.drop_positions(np.array(expected), np.array(sorted(gone), np.int64)).tolist() == kept


def test_means_and_their_intervals() -> None:
    # Of 1, 2, 3 the mean is 2 and sd 1; Student's t for 2 degrees of freedom at 0.975 is 4.303 (any printed table).
    long = table(id=["a", "b", "c", "a"], month=[0, 0, 0, 3], x=[1, 2, 3, 5], mood=["u", "v", "w", "x"])
    (course,) = compute_courses(long, ("id",), ("month",), ["x", "mood"])
    (average,) = course.averages
    assert (course.values, average.count.tolist(), average.mean.tolist()) == ((0, 3), [3, 1], [2.0, 5.0])
    assert average.high[0] - average.mean[0] == pytest.approx(4.303 / 3**0.5, abs=1e-3)
    assert np.isnan(average.low[1])
    assert np.nan_to_num(course.lines[0], nan=-1).tolist() == [[1, 5], [2, -1], [3, -1]]


def test_series_of_two_occasions_and_chosen_lines() -> None:
    long = table(id=["a", "a", "b", "c"], arm=["l", "r", "l", "l"], visit=[1, 1, 2, 2], x=[1, 2, 3, 4])
    (course,) = compute_courses(long, ("id",), ("arm", "visit"), ["x"], most_lines=2)
    assert [average.series for average in course.averages] == ["arm l", "arm r"]
    assert [len(lines) for lines in course.lines] == [2, 2]
    assert course.cases == 3
