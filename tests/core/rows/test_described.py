"""Descriptions of variables, shares and weights, reversed items, and keys at the edge of what fits."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.described import summarize_variable
from lomrix.core.rows.keys import encode_cells, encode_key_pairs, format_keys
from lomrix.core.rows.reversed_items import find_reversed
from lomrix.core.rows.statistics import Summary, equals_value, get_weights
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.history import History
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, table

DAYS = Column.of_cells("date", [np.datetime64("2024-03-05"), None, np.datetime64("2024-03-06")])


@pytest.mark.parametrize(
    ("cells", "labels", "value", "expected"),
    [
        (column(["day", "night", None]), {}, "day", [True, False, False]),
        (column(["day", "night", None]), {}, " 'night' ", [False, True, False]),
        (column(["day", "night"]), {}, "noon", [False, False]),
        (column([1, 2, None]), {"2": "night"}, "night", [False, True, False]),
        (column([1, 2, None]), {"2": "night"}, "2", [False, True, False]),
        (column([1.5, 2.0]), {}, "2", [False, True]),
        (column([True, False, None]), {}, "True", [True, False, False]),
        (column([True, False]), {}, "false", [False, True]),
        (DAYS, {}, "2024-03-05", [True, False, False]),
    ],
)
def test_which_cells_hold_a_value(cells: Column, labels: dict[str, str], value: str, expected: list[bool]) -> None:
    found = equals_value(cells, value, labels) & ~cells.is_missing
    assert found.dtype == np.bool_
    assert found.tolist() == expected


@pytest.mark.parametrize(("cells", "value"), [(column([1, 2]), "day"), (DAYS, "soon"), (column([True]), "yes")])
def test_a_value_that_no_cell_can_hold(cells: Column, value: str) -> None:
    with pytest.raises(UsageError) as caught:
        equals_value(cells, value, {})
    assert caught.value.what == f'"{value}" is not a value of type {cells.type}.'
    assert "share(2)" in caught.value.todo


def test_weights() -> None:
    assert get_weights(column([1, 0, None]), "w", 2)[:2].tolist() == [1.0, 0.0]
    assert np.isnan(get_weights(column([1, 0, None]), "w", 2)[2])
    with pytest.raises(UsageError) as settings:
        get_weights(column(["a"]), "w", 2)
    assert (settings.value.what, settings.value.todo) == (
        "The weight w is string, not a number.",
        "Name a column of numbers.",
    )
    with pytest.raises(DataError) as caught:
        get_weights(column([-1.5, 2.0, -3.0]), "w", 2)
    assert caught.value.what == "2 weights in w are below 0."
    assert (caught.value.where, caught.value.todo) == ("row 2: -1.5, row 4: -3", "Correct them first.")


def test_the_rows_of_a_group_that_are_for_it() -> None:
    cells = column(["u", "w", "w", "v", "v", "u", None, "z"])
    codes = np.array([0, 0, 0, 1, 1, 1, 2, 3])
    made = Summary(cells, codes, 4, np.array([3, 3, 1, 1]))
    assert made.compute("commonest").cells() == ["w", "v", None, "z"]
    assert made.compute("first").cells() == ["u", "v", None, "z"]
    assert made.compute("last").cells() == ["w", "u", None, "z"]
    assert Summary(DAYS, np.zeros(3, np.int64), 1, np.array([3])).compute("max").cells() == [
        np.datetime64("2024-03-06").item()
    ]


@pytest.mark.parametrize(
    ("entry", "expected"),
    [
        ({"do": "recode", "settings": {"reverse": "f2, f3,gone"}}, {"f2", "f3"}),
        ({"do": "recode", "settings": {"reverse": "f*"}}, {"f1", "f2", "f3"}),
        ({"do": "recode", "settings": {"reverse": "f2", "into": "{name}_r"}}, set()),
        ({"do": "recode", "settings": {"map": ["x: 1=2"]}}, set()),
        ({"do": "recode"}, set()),
        ({"do": "score", "settings": {"reverse": "f2"}}, set()),
    ],
)
def test_items_that_the_history_shows_to_be_turned(entry: dict[str, Any], expected: set[str]) -> None:
    made = Table({name: column([1]) for name in ("f1", "f2", "f3")}, history=History({"a": entry}, "a"))
    assert find_reversed(made, ["f1", "f2", "f3"]) == expected


def test_items_that_the_dictionary_shows_to_be_turned() -> None:
    known = Dictionary({"f1": Variable(reversed=True)})
    assert find_reversed(table(dictionary=known, f1=[1], f2=[1]), ["f1", "f2"]) == {"f1"}


# ------------------------------------------------------------ a codebook's lines


def test_a_variable_as_a_codebook_shows_of_it() -> None:
    cells = column([2, 3, 3, 7, None, 9])
    found = summarize_variable("x", cells, Variable(label="hours"), {"3": "three", "4": "four"})
    assert [(one.value, one.label, one.cells) for one in found.categories] == [
        ("3", "three", 2), ("4", "four", 0), ("2", "", 1), ("7", "", 1), ("9", "", 1),
    ]  # fmt: skip
    assert (found.present, dict(found.missing), found.minimum, found.maximum) == (5, {"blank": 1}, "2", "9")
    assert (found.mean, found.median, found.entry.label) == (4.8, 3.0, "hours")
    assert found.deviation == pytest.approx(3.03315017762062)  # squares around 4.8 sum to 36.8, over 4
    assert summarize_variable("x", column([1, 2, 4, 8]), Variable(), {}).median == 3.0


@pytest.mark.parametrize(
    ("cells", "categories", "ends"),
    [
        (column(["b", "a", "b"]), [("b", 2), ("a", 1)], ("", "")),
        (column([False, True]), [("false", 1), ("true", 1)], ("", "")),
        (column(list(range(20))), [(str(at), 1) for at in range(20)], ("0", "19")),
        (column(list(range(21))), [], ("0", "20")),
        (column([0, 1_000_001]), [], ("0", "1000001")),
        (column([0.5, 1.5]), [], ("0.5", "1.5")),
        (DAYS, [], ("2024-03-05", "2024-03-06")),
        (column([1]).with_missing(np.array([True]), "blank"), [], ("", "")),
    ],
)
def test_values_are_listed_where_they_are_few(cells: Column, categories: list[Any], ends: tuple[str, str]) -> None:
    found = summarize_variable("x", cells, Variable(), {})
    assert sorted((one.value, one.cells) for one in found.categories) == sorted(categories)
    assert (found.minimum, found.maximum) == ends
    assert (found.mean is None) == (cells.type not in ("integer", "number") or cells.missing_count == len(cells))
    assert summarize_variable("x", column([5]), Variable(), {}).deviation is None


# ----------------------------------------------------------------------- keys


@pytest.mark.parametrize(
    ("first", "second", "matching"),
    [
        ([1, 2, None], [2.0, 3.5, 1.0], [(0, 2), (1, 0)]),
        ([2**53 + 1, 2**60, 5], [2.0**53, 5.0, 2.0**60, 1e300], [(1, 2), (2, 1)]),
        (["7", "x"], [7, 8], [(0, 0)]),
        (["7", "x"], [7.0, 8.5], [(0, 0)]),
        ([True, False], [False, True], [(0, 1), (1, 0)]),
        ([None, None], ["a", "b"], []),
    ],
)
def test_keys_of_two_types(first: list[Any], second: list[Any], matching: list[tuple[int, int]]) -> None:
    one, two = table(k=first), table(k=second)
    found = encode_key_pairs(one, two, (("k", "k"),))
    pairs = [
        (a, b) for a, x in enumerate(found.base.tolist()) for b, y in enumerate(found.added.tolist()) if x == y >= 0
    ]
    assert pairs == matching


def test_dates_and_numbers_are_not_one_key() -> None:
    with pytest.raises(DataError) as caught:
        encode_key_pairs(Table({"k": DAYS}, name="one"), table("two", k=[1]), (("k", "k"),))
    assert "k in one" in caught.value.what + caught.value.where
    assert "k in two" in caught.value.what + caught.value.where
    assert "‹type›" in caught.value.todo


def test_keys_as_a_person_reads_them() -> None:
    made = table(a=["x", None], b=[1, 2])
    assert format_keys(made, ("a", "b"), np.array([0, 1])) == ["x 1", "— 2"]
    codes, size = encode_cells(made["a"])
    assert codes.tolist()[1] == -1
    assert size >= 1
