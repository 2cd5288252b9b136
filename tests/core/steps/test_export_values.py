"""What an export makes of values, names and letters: worked out by hand."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.steps.export.coding import (
    CANDIDATES,
    Occurring,
    choose_codes,
    could_hold,
    fill_codes,
    find_free_code,
)
from lomrix.core.steps.export.missing_codes import MissingCodes, parse_missing_codes
from lomrix.core.steps.export.numbers import recode_as_numbers
from lomrix.core.steps.export.plain_letters import PlainLetters
from lomrix.core.steps.export.short_names import make_short_names
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, reasons, table

DAY, TIMESTAMP = datetime.date(2024, 3, 5), datetime.datetime(2024, 3, 5, 14, 7, 9)


@pytest.mark.parametrize(
    ("cells", "labels", "values", "how", "texts"),
    [
        (column([True, None, False]), {}, [1, None, 0], "false 0, true 1", []),
        (Column.of_cells("date", [DAY, None]), {}, [20240305, None], "dates as yyyymmdd", []),
        (Column.of_cells("datetime", [TIMESTAMP]), {}, [20240305140709], "dates and times as yyyymmddhhmmss", []),
        (column([3, None]), {}, [3, None], "", []),
        (column(["412", "7", None]), {}, [412, 7, None], "digits as numbers", []),
        (column(["007", "012"]), {}, [7, 12],
         "digits as numbers, leading zeros dropped; the texts had 3 digits", []),
        (column(["7", "007"]), {}, [7, 8],
         "texts became the numbers that they are or begin with, the others codes from 8 on", ["7", "007"]),
        (column(["6", "k.A.", "2 - often", "10", "2"]), {"6": "most"}, [6, 11, 2, 10, 2],
         "texts became the numbers that they are or begin with, the others codes from 11 on",
         ["2", "2 - often", "6", "10", "k.A."]),
        (column(["b", "a", None, "b"]), {}, [2, 1, None, 2], "texts became codes 1 to 2", ["a", "b"]),
        (column(["b", "a", "c"]), {"c": "C", "b": "B", "z": "Z"}, [2, 3, 1], "texts became codes 1 to 3",
         ["c", "b", "a"]),
        (column(["visit 12", "visit 3"]), {}, [2, 1], "texts became codes 1 to 2", ["visit 3", "visit 12"]),
        (column(["K12", "K07", "K12"]), {}, [2, 1, 2], "texts became codes 1 to 2", ["K07", "K12"]),
    ],
)  # fmt: skip
def test_columns_as_numbers(
    cells: Column, labels: dict[str, str], values: list[Any], how: str, texts: list[str]
) -> None:
    made, recoding = recode_as_numbers(cells, labels)
    assert made.type == "integer"
    assert made.cells() == values
    assert reasons(made) == reasons(cells)
    assert recoding.how == how
    assert recoding.texts.to_pylist() == texts


def of_two_reasons(type_: Any, cells: list[Any]) -> Column:
    """A column whose last two cells are missing: refused, then blank."""
    made = Column.of_cells(type_, [*cells, None, None], "refused")
    return made.clear_missing(np.arange(len(made)) == len(cells) + 1).with_missing(
        np.arange(len(made)) == len(cells) + 1, "blank"
    )


@pytest.mark.parametrize(
    ("cells", "settings", "values", "left"),
    [
        (of_two_reasons("integer", [5]), ["-9"], [5, -9, -9], []),
        (of_two_reasons("integer", [5]), ["refused=-8"], [5, -8, None], ["blank"]),
        (of_two_reasons("integer", [5]), ["-9", "refused=-8"], [5, -8, -9], []),
        (of_two_reasons("integer", [5]), ["-9.5"], ["5", "-9.5", "-9.5"], []),
        (of_two_reasons("number", [0.5]), ["-9"], [0.5, -9.0, -9.0], []),
        (of_two_reasons("integer", [5]), ["."], ["5", ".", "."], []),
        (of_two_reasons("string", ["a"]), ["-9", "refused=."], ["a", ".", "-9"], []),
        (of_two_reasons("boolean", [True]), ["-9"], ["true", "-9", "-9"], []),
        (of_two_reasons("date", [DAY]), ["-9"], [DAY, None, None], ["refused", "blank"]),
        (of_two_reasons("integer", [5]), ["x:-7", "y:-6"], [5, -7, -7], []),
        (column([5, 6]), ["-9"], [5, 6], []),
    ],
)
def test_codes_in_missing_cells(cells: Column, settings: list[str], values: list[Any], left: list[str]) -> None:
    types = {"x": cells.type, "y": "integer"}
    missing = MissingCodes.resolve(parse_missing_codes(settings), types, "t")
    codes = choose_codes(before := Table({"x": cells}), Occurring.of(before), missing)
    made = fill_codes(cells, codes["x"], TextForm())
    assert made.cells() == values
    assert [reason for reason in reasons(made) if reason] == left


def test_a_word_as_code_leaves_decimal_separator_and_places_in_force() -> None:
    cells = Column.of_cells("number", [1.2345, None, 2.675])
    form = TextForm(decimal=",", digits=2)
    assert fill_codes(cells, {"blank": "NULL"}, form).cells() == ["1,23", "NULL", "2,68"]


def free_code(holding: Table) -> str:
    counted = find_free_code(holding.dictionary, Occurring.of(holding, CANDIDATES))  # as in parts
    assert counted == find_free_code(holding.dictionary, Occurring.of(holding))
    return counted


def test_a_code_that_is_free() -> None:
    assert free_code(table(x=[1, 2], s=["a", "b"])) == "-9"
    assert free_code(table(x=[1, -9], s=["-99", "b"])) == "-999"
    settings = Dictionary({"x": Variable(minimum=-20), "y": Variable(allowed=("-99",))})
    assert free_code(table(dictionary=settings, x=[1], y=[1])) == "-999"
    coded_ = Dictionary({"x": Variable(codes="c")}, {"c": {"-9": "none of these"}})
    assert free_code(table(dictionary=coded_, x=[1])) == "-99"
    assert could_hold(Dictionary({"x": Variable(minimum=-20, maximum=-10)}), "x", "-9") is False
    with pytest.raises(DataError) as caught:
        free_code(table(x=[-int("9" * length) for length in range(1, 9)]))
    assert "‹missing_code=NUMBER›" in caught.value.todo


def test_short_names_by_hand() -> None:
    names = ["sleep_minutes_m0", "sleep_minutes_m12", "heart_rate", "heart_rate_variability", "crew", "a b c", "9lives"]
    assert make_short_names(names, 8) == {
        "sleep_minutes_m0": "sleep_0", "sleep_minutes_m12": "sleep_12", "heart_rate": "heart",
        "heart_rate_variability": "hevariab", "crew": "crew", "a b c": "a_b_c", "9lives": "v9lives",
    }  # fmt: skip


WORDS = st.lists(st.sampled_from(["sleep", "heart", "rate", "m", "é", "12", "3", "A"]), min_size=1, max_size=5)


@given(st.lists(WORDS.map("_".join), unique=True, min_size=1, max_size=12), st.integers(4, 12))
def test_short_names_are_short_and_unlike_whatever_the_capitals(names: list[str], most: int) -> None:
    found = make_short_names(names, most)
    assert list(found) == names
    assert all(0 < len(name) <= most and not name[0].isdigit() for name in found.values())
    assert len({name.lower() for name in found.values()}) == len(names)


def test_plain_letters() -> None:
    settings = Dictionary({"größe": Variable(label="Größe", codes="c")}, {"c": {"ä": "Ähre"}})
    letters = PlainLetters()
    made = letters.convert_table(Table({"größe": column(["ä", "a", None, "ä"])}, settings, name="t", first_row=5))
    (name,) = made.names
    assert name.isascii()
    assert (made.first_row, made[name].cells()) == (5, ["a", "a", None, "a"])
    entry = made.dictionary.of(name)
    assert (entry.label.isascii(), made.dictionary.labels_of(name)) == (True, {"a": "Ahre"})
    assert letters.collisions == ['"ä" and "a"']
    # Two cells and one code hold ä.
    assert letters.changes["ä", "a"] == 3
