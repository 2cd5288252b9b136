"""Columns, selection, ids of one shape: the small parts that everything stands on."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays.shaped_texts import parse_shaped_pair
from lomrix.core.errors import UsageError
from lomrix.core.table.column import Column, choose_cells, common_type
from lomrix.core.table.pool import Pool
from lomrix.core.table.selection import choose_columns
from tests.tables import column, reasons

CELLS = st.lists(st.one_of(st.none(), st.sampled_from(["a", "b", "long text", "é", "0"])), min_size=1, max_size=10)
TYPES = {
    "id": "string",
    "age": "integer",
    "sex": "integer",
    "q1": "integer",
    "q2": "number",
    "q10": "integer",
    "day": "date",
}


@given(CELLS, st.data())
def test_taking_and_encoding_keep_every_cell(cells: list[str | None], data: st.DataObject) -> None:
    made = column(cells) if any(cells) else Column.of_cells("string", cells)
    rows = np.array(data.draw(st.lists(st.integers(-1, len(cells) - 1), max_size=12)), dtype=np.int64)
    expected = [cells[row] if row >= 0 else None for row in rows.tolist()]
    for version in (made, made.encode(), made.compact()):
        taken = version.take_or(rows, "unmatched")
        assert taken.cells() == expected
        output = [
            ("unmatched" if row < 0 else "blank") if cell is None else None
            for row, cell in zip(rows.tolist(), expected, strict=True)
        ]
        assert reasons(taken) == output
    assert made.encode().same_as(made)


def test_a_compact_pool_holds_only_what_occurs() -> None:
    made = Column.of_strings(np.array([2, 0, 2], np.int32), Pool.of(["x", "unused", "y"])).compact()
    assert made.strings.texts() == ["x", "y"]
    assert made.cells() == ["y", "x", "y"]


def test_equal_columns_have_equal_bytes() -> None:
    one = Column.of("integer", np.array([1, 99, 3]), np.array([0, 1, 0], np.uint8), ("blank",))
    two = Column.of("integer", np.array([1, -5, 3]), np.array([0, 1, 0], np.uint8), ("blank",))
    assert one.values.tobytes() == two.values.tobytes()
    assert not one.same_as(Column.of("integer", np.array([1, 0, 3]), np.array([0, 1, 0], np.uint8), ("refused",)))


def test_either_takes_cells_and_reasons_of_both() -> None:
    first, second = column(["a", None, "c"]), Column.of_cells("string", ["x", "y", None], "refused")
    mixed = choose_cells(first, second, np.array([False, True, True]))
    assert mixed.cells() == ["a", "y", None]
    assert reasons(mixed) == [None, None, "refused"]


def test_types_widen_only_without_loss() -> None:
    assert common_type([column([1]), column([2.5])]) == "number"
    assert common_type([column([1]), column(["a"])]) is None
    assert common_type([column([1]), Column.all_missing("string", 1, "blank")]) == "integer"
    assert Column.all_missing("string", 2, "absent").widen("integer").reason_counts() == {"absent": 2}
    with pytest.raises(TypeError):
        column(["a"]).widen("integer")


@pytest.mark.parametrize(
    ("words", "names"),
    [
        ("age", ["age"]),
        ("sex, age", ["sex", "age"]),
        ("q*", ["q1", "q2", "q10"]),
        ("q1..q2", ["q1", "q2"]),
        ("age::q1", ["age", "sex", "q1"]),
        ("q1::age", ["age", "sex", "q1"]),
        ("@number", ["age", "sex", "q1", "q2", "q10"]),
        ("@integer", ["age", "sex", "q1", "q10"]),
        ("@date,id,@all", ["day", "id", "age", "sex", "q1", "q2", "q10"]),
    ],
)
def test_choosing_columns(words: str, names: list[str]) -> None:
    assert choose_columns(words, TYPES) == names


@pytest.mark.parametrize(
    ("words", "expected"), [("agee", "age"), ("q1..q3", "q3"), ("z*", "z*"), ("@text", "@text"), (",", ",")]
)
def test_a_choice_that_names_nothing_is_refused(words: str, expected: str) -> None:
    with pytest.raises(UsageError) as caught:
        choose_columns(words, TYPES)
    assert expected in caught.value.what + caught.value.todo


IDS = st.lists(
    st.one_of(st.integers(0, 120).map(lambda n: f"K{n:03d}"), st.sampled_from(["K1", "L001", "Ké1", "1#11", "2#11"])),
    min_size=1,
)


@given(IDS, IDS)
def test_ids_of_one_shape_are_equal_just_where_their_numbers_are(first: list[str], second: list[str]) -> None:
    found = parse_shaped_pair(pa.array(first, pa.large_string()), pa.array(second, pa.large_string()))
    if found is not None:
        one, two = found
        assert [[a == b for b in second] for a in first] == [[a == b for b in two.tolist()] for a in one.tolist()]
    if all(len(text) == 4 and text.startswith("K") for text in first + second):
        assert found is not None
