"""Stack: every row comes through, with its mark, its reasons and its labels."""

from __future__ import annotations

import datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, SettingError, UsageError
from lomrix.core.steps.stack.settings import Stack
from lomrix.core.steps.step import Inputs
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import parts_of, reasons, rows, sources, table

CELLS: dict[str, st.SearchStrategy[Any]] = {
    "a": st.one_of(st.none(), st.integers(-5, 5)),
    "b": st.one_of(st.none(), st.sampled_from(["x", "y", "long"])),
    "c": st.one_of(st.none(), st.booleans()),
}
TYPES = {"a": "integer", "b": "string", "c": "boolean"}


@st.composite
def files(draw: st.DrawFn) -> list[list[dict[str, Any]]]:
    made = []
    for _ in range(draw(st.integers(1, 3))):
        names = draw(st.lists(st.sampled_from("abc"), min_size=1, max_size=3, unique=True))
        made.append(
            draw(st.lists(st.fixed_dictionaries({name: CELLS[name] for name in names}), min_size=1, max_size=4))
        )
    return made


@given(files(), st.sampled_from(["all", "shared"]))
def test_agrees_with_the_obvious_way(given_files: list[list[dict[str, Any]]], kept: Any) -> None:
    tables = [
        Table({name: Column.of_cells(TYPES[name], [row[name] for row in lines]) for name in lines[0]})  # type: ignore[arg-type]
        for lines in given_files
    ]
    names = list(dict.fromkeys(name for lines in given_files for name in lines[0]))
    if kept == "shared":
        names = [name for name in names if all(name in lines[0] for lines in given_files)]
    if not names:
        with pytest.raises(DataError):
            Stack(columns=kept).apply(sources(*tables))
        return
    made = Stack(columns=kept).apply(sources(*tables)).table
    expected = [tuple(row.get(name) for name in names) for lines in given_files for row in lines]
    assert (made.names, rows(made)) == (names, expected)
    for name in names:
        output = [
            "not-in-file" if name not in row else "blank" if row[name] is None else None
            for lines in given_files
            for row in lines
        ]
        assert reasons(made[name]) == output


def test_the_mark_counts_and_must_agree() -> None:
    first, second = table("m0", id=["a", "b"], x=[1, 2]), table("m6", id=["a"], x=[3.5])
    result = Stack(mark="month=0,6").apply(sources(first, second))
    assert rows(result.table) == [(0, "a", 1.0), (0, "b", 2.0), (6, "a", 3.5)]
    assert {"month 0": 2, "month 6": 1} in [parts_of(balance) for balance in result.account.balances]
    marked = table("m6", id=["a"], month=[3])
    with pytest.raises(DataError, match="does not agree with its mark 6"):
        Stack(mark="month=0,6").apply(sources(first, marked))
    assert rows(Stack(mark="month=3").apply(sources(marked)).table) == [("a", 3)]
    with pytest.raises(UsageError, match="2 files and 1 mark"):
        Stack(mark="month=0").apply(sources(first, second))


def test_text_under_numbers_is_refused_with_its_cells() -> None:
    with pytest.raises(DataError) as caught:
        Stack().apply(sources(table("one", x=[1]), table("two", x=["5", "6", "seven h"])))
    assert caught.value.where == 'integer in one; string in two (row 4 "seven h")'


def test_pairs_are_renamed_and_likely_ones_suggested() -> None:
    first, second = table("one", id=["a"], fatigue1=[1]), table("two", id=["b"], fatigue_1=[2])
    notes = Stack().apply(sources(first, second)).account.notes
    assert notes[0].text.endswith("‹pair=fatigue_1=fatigue1›")
    made = Stack(pair=("fatigue_1=fatigue1",)).apply(sources(first, second)).table
    assert rows(made) == [("a", 1), ("b", 2)]


def test_other_labels_of_one_code_stop() -> None:
    def wave(name: str, label: str) -> Table:
        return table(name, Dictionary({"x": Variable(codes="c")}, {"c": {"1": label, "2": "no"}}), x=[1])

    with pytest.raises(DataError) as caught:
        Stack().apply(sources(wave("one", "yes"), wave("two", "aye")))
    assert caught.value.where == 'x 1: "yes" before, "aye" in two'
    made = Stack(other_labels="first").apply(sources(wave("one", "yes"), wave("two", "aye"))).table
    assert made.dictionary.labels_of("x")["1"] == "yes"


@pytest.mark.parametrize(("rule", "cells"), [("first", [1, 2, 4]), ("last", [2, 3, 4]), ("keep", [1, 2, 3, 4])])
def test_one_case_and_occasion_in_two_files(rule: Any, cells: list[int]) -> None:
    first, second = table("one", id=["a", "b"], x=[1, 2]), table("two", id=["a", "c"], x=[3, 4])
    with pytest.raises(DataError, match="1 case and occasion is in several rows"):
        Stack(case=("id",)).apply(sources(first, second))
    assert Stack(case=("id",), repeated=rule).apply(sources(first, second)).table["x"].cells() == cells


def test_marks_as_typed_and_from_file_names() -> None:
    assert Stack(mark="wave=0, 6").marks(["a", "b"]) == ("0", "6")
    assert Stack(mark="wave=fatigue_m{wave}").marks(["fatigue_m0", "fatigue_m12"]) == ("0", "12")
    assert Stack(mark="file").marks(["fatigue_m0", "m12"]) == ("fatigue_m0", "m12")
    for text in ("wave=", "wave={a}_{b}", "w{a}"):
        with pytest.raises(SettingError):
            Stack(mark=text)
    with pytest.raises(UsageError):
        Stack(mark="wave=x_{wave}").marks(["fatigue_m0"])


def test_a_pair_file_renames_as_pairs_do() -> None:
    pairs = table("pairs", old=["fatigue_1"], new=["fatigue1"])
    first, second = table("one", id=["a"], fatigue1=[1]), table("two", id=["b"], fatigue_1=[2])
    made = Stack().apply(Inputs(source=[first, second], pair_file=pairs)).table
    assert rows(made) == [("a", 1), ("b", 2)]
    with pytest.raises(UsageError, match="has no column new"):
        Stack().apply(Inputs(source=[first, second], pair_file=pairs.only(["old"])))


def test_a_case_column_that_one_file_lacks_stops() -> None:
    one, two = table("a", crew=["A"], nap=[1], rest_days=[3]), table("b", Crew=["A"], nap_min=[1], days_rest=[3])
    with pytest.raises(DataError, match="b has no column crew") as stopped:
        Stack(case="crew").apply(sources(one, two))
    assert "‹pair=Crew=crew› ‹pair=days_rest=rest_days› ‹pair=nap_min=nap›" in stopped.value.todo
    with pytest.raises(DataError, match="nap is not of one type") as stopped:
        Stack().apply(sources(one, table("c", crew=["A"], nap=["x"]), two))
    assert "pair=Crew=crew" in stopped.value.todo


def test_a_pair_that_no_file_has_stops() -> None:
    with pytest.raises(UsageError, match="No column aa"):
        Stack(pair=["aa=b"]).apply(sources(table("a", x=[1]), table("b", x=[2])))


def test_marks_may_be_days() -> None:
    made = Stack(mark="day=2024-01-01,2024-02-01").apply(sources(table("a", x=[1]), table("b", x=[2]))).table
    assert made["day"].cells() == [datetime.date(2024, 1, 1), datetime.date(2024, 2, 1)]


def test_the_same_words_of_another_type_are_noted_as_a_pair() -> None:
    made = Stack().apply(sources(table("a", sex=[1, 2], mood=[1, 2]), table("b", Sex=["M", "F"], moods=["x", "y"])))
    assert [note.text for note in made.account.notes if note.kind == "likely-pair"] == [
        "may be sex of a under another name (alike in name, not in type): ‹pair=Sex=sex›"
    ]
