"""What columns, tables, histories and remembered layouts do for the steps: labels, comparisons, new names, texts."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UsageError
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import natural_key
from lomrix.core.table.header_guess import _guess_words as guessed_by_words
from lomrix.core.table.history import History, extend_history
from lomrix.core.table.labelled import apply_labels, count_code
from lomrix.core.table.missing_guess import guess_missing_codes
from lomrix.core.table.notes import Note
from lomrix.core.table.other_layout import OtherLayout, WidePosition, to_typed_value
from lomrix.core.table.pool import Pool
from lomrix.core.table.renaming import rename_columns
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.texts import make_text_column, require_heads
from lomrix.core.table.variable import Variable
from tests.tables import column, reasons, table

DAY, TIMESTAMP = datetime.date(2024, 3, 5), datetime.datetime(2024, 3, 5, 14, 7)


@pytest.mark.parametrize(
    ("cells", "labels", "shown", "without"),
    [
        ([1, 2, None, 2, 9], {"1": "day", "2": "night"}, ["day", "night", None, "night", "9"], {"9": (1, 4)}),
        ([1, 5, 5], {"2 to 5": "some"}, ["1", "some", "some"], {"1": (1, 0)}),
        ([True, False], {"true": "yes"}, ["yes", "false"], {"false": (1, 1)}),
        (["a", "b", None, "b"], {"a": "one"}, ["one", "b", None, "b"], {"b": (2, 1)}),
    ],
)
def test_labels_are_in_the_place_of_codes(
    cells: list[Any], labels: dict[str, str], shown: list[Any], without: dict[str, tuple[int, int]]
) -> None:
    made, found = apply_labels(column(cells), labels)
    assert (made.cells(), found) == (shown, without)
    assert reasons(made) == ["blank" if cell is None else None for cell in cells]


CELLS = st.lists(
    st.tuples(st.sampled_from(["u", "v", None]), st.sampled_from(["u", "w", None])), min_size=1, max_size=8
)


@given(CELLS, st.booleans(), st.sampled_from(["u", "v", None]))
def test_the_same_cells_of_two_columns_of_text(pairs: list[Any], encoded: bool, constant: str | None) -> None:
    first, second = (Column.of_cells("string", [pair[at] for pair in pairs]) for at in (0, 1))
    if encoded:
        first = first.encode()
    expected = [one == two for one, two in pairs]
    assert same_cells(first, second).tolist() == same_cells(second, first).tolist() == expected
    if constant is not None:  # all rows are one text
        one_text = Column("string", np.zeros(len(pairs), np.int32), pool=Pool.of([constant]))
        expected = [one == constant for one, _ in pairs]
        assert same_cells(first, one_text).tolist() == same_cells(one_text, first).tolist() == expected


@pytest.mark.parametrize(
    ("first", "second", "expected"),
    [
        ([1, 2, None], [1.0, 2.5, None], [True, False, True]),
        ([2**53 + 1, 2**53], [2.0**53, 2.0**53], [False, True]),
        ([2**63 - 1], [2.0**63], [False]),
        ([1, 1], ["1", "01"], [True, False]),
        ([True], ["true"], [True]),
    ],
)
def test_the_same_cells_of_two_types(first: list[Any], second: list[Any], expected: list[bool]) -> None:
    assert same_cells(column(first), column(second)).tolist() == expected
    assert same_cells(column(second), column(first)).tolist() == expected


def test_how_often_a_code_is_a_value() -> None:
    assert count_code(column(["a", "b", "a"]), "a") == 2
    assert count_code(column(["a", "b", "a"]), "c") == 0
    assert count_code(column([9, 9, None]), "9.0") == 2
    assert count_code(column([-9.0, None]), "-9") == 1
    assert count_code(column([9]), "x") == count_code(column([True]), "1") == 0


# --------------------------------------------------------------------- columns


def test_columns_without_values_fit_any_type() -> None:
    blank = Column.all_missing("string", 2, "refused")
    assert common_type([blank, column([1])]) == "integer"
    assert common_type([blank, blank.fit_type("date")]) == "string"
    assert reasons(blank.fit_type("date")) == ["refused", "refused"]
    assert common_type([column([1]), column([1.5])]) == "number"
    assert common_type([Column.of_cells("date", [DAY]), Column.of_cells("datetime", [TIMESTAMP])]) == "datetime"
    assert common_type([column(["a"]), column([1])]) is None


def test_timestamps_as_text() -> None:
    assert Column.of_cells("datetime", [TIMESTAMP, None]).to_text().to_pylist() == ["2024-03-05 14:07:00", None]
    odd = TIMESTAMP.replace(microsecond=250_000)
    assert Column.of_cells("datetime", [TIMESTAMP, odd]).to_text().to_pylist()[1] == "2024-03-05 14:07:00.250000"


def test_the_first_cell_as_text() -> None:
    assert column([None, 3]).first_text() is None
    assert column([4, 3]).first_text() == "4"
    assert Column.of_cells("integer", []).first_text() is None


@pytest.mark.parametrize("number", [3, 7])
def test_reasons_are_counted_whatever_their_number(number: int) -> None:
    why = np.array([0, 1, number, number], np.uint8)
    made = Column.of("integer", np.arange(4), why, tuple(f"r{at}" for at in range(1, number + 1)))
    assert made.reason_counts() == {"r1": 1, f"r{number}": 2}


def test_a_constant_is_one_cell_of_the_memory() -> None:
    made = column([7]).broadcast(3)
    assert (made.is_constant, made.cells()) == (True, [7, 7, 7])
    assert not column([7, 7]).is_constant
    assert not column([7]).is_constant
    assert not column([7, 7]).slice(0, 1).is_constant


# ---------------------------------------------------------------------- tables


def test_other_columns_leave_the_dictionary_of_those_that_went() -> None:
    known = Dictionary({"a": Variable(label="one"), "b": Variable(label="two")})
    made = table(dictionary=known, a=[1], b=[2])
    assert set(made.with_columns({"b": made["b"]}).dictionary.variables) == {"b"}
    part = Table(made.columns, known, names_in_source=("a", "b", "c"))
    assert list(part.source_names) == ["a", "b", "c"]
    assert list(part.take(np.array([0])).source_names) == ["a", "b"]
    with pytest.raises(DataError) as caught:
        require_new_name("a", ["a"], "a mark")
    assert caught.value.todo == "Choose another name, or leave the old column out."


MEMORY = OtherLayout(
    layout="wide", headers=("{measure}_m{month}",), case=("id",), occasions=("month",),
    order=("id", "sleep_m0", "sleep_m3"),
    places=tuple(WidePosition(column=f"sleep_m{at}", measure="sleep", at=(at,)) for at in (0, 3)),
    types={"sleep": "integer", "month": "integer"}, variables={"sleep": Variable(label="minutes")},
)  # fmt: skip


def test_new_names_are_followed() -> None:
    known = Dictionary({"sleep": Variable(label="minutes")}, coded=frozenset({"sleep", "id"}), other_layout=MEMORY)
    made = rename_columns(table(dictionary=known, id=["a"], month=[0], sleep=[400]), {"sleep": "rest"})
    assert made.names == ["id", "month", "rest"]
    assert made.dictionary.of("rest").label == "minutes"
    assert made.dictionary.coded == {"rest", "id"}
    memory = made.dictionary.other_layout
    assert memory is not None
    assert [(one.column, one.measure, one.at) for one in memory.places] == [
        ("rest_m0", "rest", (0,)), ("rest_m3", "rest", (3,)),
    ]  # fmt: skip
    assert memory.order == ("id", "rest_m0", "rest_m3")
    assert (set(memory.types), set(memory.variables)) == ({"rest", "month"}, {"rest"})


def test_the_other_layout_knows_the_order_of_its_columns() -> None:
    assert MEMORY.order_names(["new", "sleep_m3", "id", "late"]) == ["id", "sleep_m3", "new", "late"]


@pytest.mark.parametrize(
    ("value", "type_", "expected"),
    [
        ("2024-03-05", "date", DAY),
        ("2024-03-05T14:07:00", "datetime", TIMESTAMP),
        ("true", "boolean", True),
        ("false", "boolean", False),
        ("true", "string", "true"),
        (3, "integer", 3),
    ],
)
def test_remembered_values(value: Any, type_: Any, expected: Any) -> None:
    assert to_typed_value(value, type_) == expected
    assert type(to_typed_value(value, type_)) is type(expected)


# ------------------------------------------------------------ histories, texts


def test_histories_are_read_as_far_as_they_are_some() -> None:
    entry = {"do": "subset"}
    made = extend_history([], entry)
    assert len(made.last) == 16
    assert History.from_json(made.to_json()) == made
    assert History.from_json([entry]) == made
    assert History.from_json({"tasks": {"a": entry, "b": 3}, "last": "z"}) == History({"a": entry}, "")
    assert History.from_json({"tasks": {"a": entry}}) == History({"a": entry}, "")
    for nothing in ({}, {"tasks": [entry]}, 7, None):
        assert History.from_json(nothing) == History()
    # A task that two tables share stands once, behind what it came from.
    assert list(extend_history([made, made], {"do": "merge"}).tasks.values()) == [entry, {"do": "merge"}]


def test_tables_of_texts() -> None:
    made = make_text_column(["a", "", None])
    assert (made.cells(), reasons(made)) == (["a", None, None], [None, "blank", "blank"])
    with pytest.raises(UsageError) as caught:
        require_heads(table("marks", row=["1"], old=["2"]), ("row", "new"), "ledger")
    assert caught.value.what == "The ledger marks has no column new."
    assert (caught.value.where, caught.value.todo) == ("its columns are row, old", "Its columns are row, new.")


def test_runs_of_digits_are_numbers_before_letters() -> None:
    texts = ["b2", "10", "b10", "9", "a", "visit 12", "visit 3"]
    assert sorted(texts, key=natural_key) == ["9", "10", "a", "b2", "b10", "visit 3", "visit 12"]


def test_a_note_as_plain_values() -> None:
    found = Note("odd.", "x", ((2, "a"),), "stray-text", 3).to_json()
    assert (found["text"], found["column"], found["kind"], found["count"]) == ("odd.", "x", "stray-text", 3)


def test_measures_that_end_in_the_same_words() -> None:
    names = ["sleep_hours_before", "sleep_hours_after", "mood_before", "mood_after", "x_once", "y.one", "y.two"]
    found = guessed_by_words(names)
    assert found is not None
    assert found.templates == ("{measure}_{occasion}",)
    assert found.measures == {
        "sleep_hours": ["sleep_hours_before", "sleep_hours_after"], "mood": ["mood_before", "mood_after"],
    }  # fmt: skip
    assert guessed_by_words(["sleep_before", "sleep_after", "mood_once"]) is None


def test_columns_by_type() -> None:
    types = {"a": "boolean", "b": "integer", "c": "string", "d": "datetime", "e": "date"}
    assert choose_columns("@boolean", types) == ["a"]
    assert choose_columns("@datetime,@integer", types) == ["d", "b"]


@pytest.mark.parametrize(
    ("cells", "codes"),
    [
        ([3, 5, 4, 2, 6, 99, 99], [99]),
        ([3, 5, 4, 2, 6, -9, -9], [-9]),
        ([3, 5, 4, 2, 6, -9, 99, -8], [-9, -8, 99]),
        ([3, 5, 4, 2, 6, 1, 0], []),
        ([-5, -3, 0, 2, 4, 6, 9], []),
        ([30, 41, 55, 62, 99], [99]),
        ([30, 41, 55, 68, 99], []),
        ([0, 5, -7], []),
    ],
)
def test_values_that_are_likely_missing_codes(cells: list[int], codes: list[int]) -> None:
    assert guess_missing_codes(column(cells), Variable(), {}) == codes
    assert guess_missing_codes(column([*map(float, cells), None]), Variable(), {}) == codes


def test_pools_hold_texts_once() -> None:
    pool = Pool(pa.chunked_array([], pa.string()))
    assert (len(pool), pool.texts()) == (0, [])
    places, distinct = Pool(pa.array(["b", None, "a", "b"])).distinct()
    assert (places.tolist(), distinct.texts()) == ([0, -1, 1, 0], ["b", "a"])
