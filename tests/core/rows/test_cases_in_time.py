"""Cases, occasions and their grid: order, missed occasions, and notes about them."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.cases import Cases, take_compactly
from lomrix.core.rows.course import Courses, compute_courses
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import (
    find_occasion_setting,
    format_occasion_pair,
    format_occasions,
    parse_occasion_settings,
)
from lomrix.core.rows.timeline import Timeline
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.other_layout import OtherLayout, WidePosition
from lomrix.core.table.variable import Variable
from tests.tables import column, reasons, table

ROWS = st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 3)), unique=True, min_size=1, max_size=10)


@given(ROWS, st.integers(-2, 2))
def test_who_is_before_who(found: list[tuple[str, int]], steps: int) -> None:
    made = table(case=[case for case, _ in found], month=[month for _, month in found])
    line = Timeline(made, Cases(made, ("case",)), ("month",))
    for at, (case, month) in enumerate(found):
        own = sorted(one for other, one in found if other == case)
        place = own.index(month) - steps
        expected = found.index((case, own[place])) if 0 <= place < len(own) else -1
        assert line.shift_rows(steps)[at] == expected
        assert found[line.end_rows(last=False)[at]] == (case, own[0])
        assert found[line.end_rows(last=True)[at]] == (case, own[-1])


def test_two_columns_report_when() -> None:
    made = table(case=["a", "b", "a", "a"], year=[2, 1, 1, 2], month=[1, 1, 9, 5])
    line = Timeline(made, Cases(made, ("case",)), ("year", "month"))
    assert line.shift_rows(1).tolist() == [2, -1, -1, 0]


@pytest.mark.parametrize(
    ("cases", "months", "where"),
    [
        ("aabbb", [1, 1, 1, 0, 1], "a 1 (rows 2, 3); b 1 (rows 4, 6)"),
        ("abbab", [1, 0, 1, 1, 1], "a 1 (rows 2, 5); b 1 (rows 4, 6)"),
    ],
)
def test_rows_of_one_case_and_one_occasion_have_no_order(cases: str, months: list[int], where: str) -> None:
    made = table(case=list(cases), month=months)
    with pytest.raises(DataError) as caught:
        Timeline(made, Cases(made, ("case",)), ("month",))
    assert caught.value.what == "2 rows repeat their case and occasion, so their order is unclear."
    assert caught.value.where == where
    assert "further ‹occasion›" in caught.value.todo


def test_rows_that_lack_their_case_or_occasion_are_named() -> None:
    made = table(case=["a", None, "b", None, None, None, None], month=[1, 1, 1, 2, 3, 4, 5])
    with pytest.raises(DataError) as caught:
        Cases(made, ("case",))
    assert caught.value.what == "Rows without a case: case is missing in 5 rows."
    assert caught.value.where == "row 3, 5, 6, 7 …"
    made = table(case=["a", "a"], month=[1, None])
    with pytest.raises(DataError) as caught:
        Timeline(made, Cases(made, ("case",)), ("month",))
    assert (caught.value.what, caught.value.where) == (
        "Rows without an occasion: month is missing in 1 row.", "row 3"
    )  # fmt: skip


def test_a_case_is_represented_by_its_commonest_value() -> None:
    made = table(case=["a", "b", "a", "b", "a", "b"], x=["u", "v", "w", "z", "w", None])
    cases = Cases(made, ("case",))
    assert cases.choose_row_per_case(made["x"], "commonest").tolist() == [2, 1]
    assert cases.choose_row_per_case(made["x"], "first").tolist() == [0, 1]
    assert cases.choose_row_per_case(made["x"], "last").tolist() == [4, 3]
    variation = cases.find_variation("x")
    assert (variation.unequal, variation.contradicting) == (2, 2)
    assert variation.examples == "a (u, w), b (v, z, —)"


def test_cells_removed_keep_their_reasons() -> None:
    found = take_compactly(column(["u", None, "w"]), np.array([2, 1]))
    assert (found.cells(), reasons(found)) == (["w", None], [None, "blank"])


# ------------------------------------------------------------------- the grid


@pytest.mark.parametrize("full", [True, False])
def test_rows_are_counted_at_each_occasion(full: bool) -> None:
    cells = [("a", 12), ("a", 3), ("b", 3), ("b", 12)] if not full else [("a", 3), ("a", 12), ("b", 3), ("b", 12)]
    made = table(case=[one for one, _ in cells], month=[two for _, two in cells])
    grid = Grid(made, ("case",), ("month",))
    assert grid.occasions == ((3,), (12,))
    assert grid.count_per_occasion().tolist() == [2, 2]
    some = np.array([month == 12 or case == "b" for case, month in cells])
    assert grid.count_per_occasion(some).tolist() == [1, 2]
    assert grid.count_per_occasion(np.array([month == 3 for _, month in cells])).tolist() == [2, 0]


def test_occasions_come_as_they_were_remembered() -> None:
    places = tuple(WidePosition(column=f"x_{word}", measure="x", at=(word,)) for word in ("later", "before", "after"))
    memory = OtherLayout(
        layout="wide", headers=("{measure}_{time}",), case=("case",), occasions=("time",), order=(),
        types={"time": "string"}, places=places,
    )  # fmt: skip
    made = table(case=["a", "a", "b"], time=["after", "before", "later"])
    assert Grid(made, ("case",), ("time",), memory).occasions == (("later",), ("before",), ("after",))
    assert Grid(made, ("case",), ("time",)).occasions == (("after",), ("before",), ("later",))
    strange = table(case=["a", "a"], time=["before", "elsewhere"])
    assert Grid(strange, ("case",), ("time",), memory).occasions == (("before",), ("elsewhere",))


def test_a_case_and_occasion_that_repeat_are_reported() -> None:
    made = table(case=["a", "b", "a", "b", "a"], month=[1, 1, 1, 2, 1])
    with pytest.raises(DataError) as caught:
        Grid(made, ("case",), ("month",)).require_no_repetition()
    assert caught.value.what == "1 case and occasion is in several rows."
    assert caught.value.where == "a 1 (rows 2, 4, 6)"
    made = table(case=list("aabbccddee"), month=[1] * 10)
    with pytest.raises(DataError) as caught:
        Grid(made, ("case",), ("month",)).require_no_repetition()
    assert caught.value.what == "5 cases and occasions are in several rows."
    assert caught.value.where.startswith("a 1 (rows 2, 3); b 1 (rows 4, 5)")
    assert caught.value.where.endswith(" …")


# ---------------------------------------------------------------- in words


def test_occasions_in_words() -> None:
    labels = {"wave": {"1": "before the season"}}
    assert format_occasion_pair(("wave", "month"), (1, 3), labels) == "wave 1 (before the season), month 3"
    assert format_occasions(("month",), [(at,) for at in range(12)]) == "month " + ", ".join(map(str, range(12)))
    assert format_occasions(("month",), [(at,) for at in range(13)]) == "month 0, 1, 2, 3, 4, 5, …, 10, 11, 12"
    assert format_occasions(("wave", "day"), [(1, 2), (1, 3)]) == "wave 1, day 2; wave 1, day 3"
    assert format_occasions(("wave",), [(1,)], labels) == "wave 1 (before the season)"
    assert format_occasions(("month",), []) == ""


@pytest.mark.parametrize(
    ("words", "field", "fields", "expected"),
    [
        (["1,2"], "visit", ["visit"], ("1", "2")),
        (["wave:1,2"], "visit", ["visit", "wave"], None),
        (["wave:1,2", "visit:5"], "visit", ["visit", "wave"], ("5",)),
    ],
)
def test_which_occasions_are_meant(words: list[str], field: str, fields: list[str], expected: Any) -> None:
    found = find_occasion_setting(field, parse_occasion_settings(words), fields)
    assert (None if found is None else found.values) == expected


@pytest.mark.parametrize("words", ["day:1", "1,2"])
def test_occasions_that_fit_no_column_or_several(words: str) -> None:
    with pytest.raises(UsageError) as caught:
        find_occasion_setting("visit", parse_occasion_settings([words]), ["visit", "wave"])
    assert "matches none of visit, wave" in caught.value.what


# ------------------------------------------------------------- keys, courses


def test_the_course_of_a_measure() -> None:
    known = Dictionary({"x": Variable(label="hours", unit="h"), "wave": Variable(codes="waves")}, {"waves": {"1": "I"}})
    made = table(
        dictionary=known,
        case=["a", "a", "b", "b", None],
        wave=[1, 2, 1, 2, 1],
        x=[1.0, 5.0, 3.0, None, 99.0],
        word=["u", "v", "w", "u", "v"],
    )
    (course,) = compute_courses(made, ("case",), ("wave",), ["x", "word"])
    assert (course.label, course.unit, course.values, course.cases) == ("hours", "h", (1, 2), 2)
    (average,) = course.averages
    assert (average.mean.tolist(), average.count.tolist()) == ([2.0, 5.0], [2, 1])
    assert average.low[0] == pytest.approx(2 - 12.706204736, abs=1e-6)  # t with 1 degree of freedom, se 1
    np.testing.assert_array_equal(course.lines[0], [[1, 5], [3, np.nan]])
    twice = table(dictionary=known, case=list("aabb"), wave=[1, 2, 1, 2], month=[0, 3, 0, 3], x=[1, 2, 3, 4])
    (course,) = compute_courses(twice, ("case",), ("wave", "month"), ["x"])
    assert [(one.series, one.places.tolist()) for one in course.averages] == [("wave 1 (I)", [0]), ("wave 2", [1])]
    assert Courses.from_long(made).is_empty
