"""The rules by which text becomes values, as tables of cases."""

from __future__ import annotations

import datetime

import pyarrow as pa
import pytest

from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import read_text_column
from tests.tables import reasons

DAY = datetime.date(2024, 3, 5)

CASES = [
    # cells, type, values
    (["1", "20", "-3"], "integer", [1, 20, -3]),
    (["1", "", "3"], "integer", [1, None, 3]),
    (["1", "2.5"], "number", [1.0, 2.5]),
    (["0.5", "-0.25", "1e3"], "number", [0.5, -0.25, 1000.0]),
    (["+5", "7"], "integer", [5, 7]),
    ([" 5", "7 "], "integer", [5, 7]),
    (["0412", "0007"], "string", ["0412", "0007"]),
    (["412", "0007"], "string", ["412", "0007"]),
    (["1", "01.5"], "string", ["1", "01.5"]),
    (["-05", "1"], "string", ["-05", "1"]),
    (["1234567890123456", "1"], "string", ["1234567890123456", "1"]),
    (["123456789012345", "1"], "integer", [123456789012345, 1]),
    (["0.12345678901234567", "1"], "number", [0.12345678901234566, 1.0]),
    (["nan", "inf"], "string", ["nan", "inf"]),
    (["5", "inf"], "string", ["5", "inf"]),
    (["2024-03-05", ""], "date", [DAY, None]),
    (
        ["2024-03-05 10:30", "2024-03-05T11:00:01"],
        "datetime",
        [datetime.datetime(2024, 3, 5, 10, 30), datetime.datetime(2024, 3, 5, 11, 0, 1)],
    ),
    (["2024-02-30", "2024-03-05"], "string", ["2024-02-30", "2024-03-05"]),
    (["03/04/2024", "05/04/2024"], "string", ["03/04/2024", "05/04/2024"]),
    (["true", "FALSE", ""], "boolean", [True, False, None]),
    (["yes", "no"], "string", ["yes", "no"]),
    (["NA", "north"], "string", ["NA", "north"]),
    (["", " "], "string", [None, None]),
    ([], "string", []),
]


@pytest.mark.parametrize(("cells", "type_", "values"), CASES)
def test_types(cells: list[str], type_: str, values: list[object]) -> None:
    column, _ = read_text_column("x", pa.array([cell or None for cell in cells], pa.large_string()))
    assert (column.type, column.cells()) == (type_, values)


@pytest.mark.parametrize(("cells", "type_", "values"), CASES)
def test_a_long_column_follows_the_same_rules(cells: list[str], type_: str, values: list[object]) -> None:
    # Beyond the sample size the quick ways are taken; the last cell may be the only odd one.
    filling = cells[:1] * 5000 if cells else []
    column, _ = read_text_column("x", pa.array([cell or None for cell in filling + cells], pa.large_string()))
    assert (column.type, column.cells()[len(filling) :]) == (type_, values)


def test_tokens_are_missing_among_numbers_each_with_its_own_reason() -> None:
    cells = ["1", "n/r", "", "NA", "4", "."]
    column, notes = read_text_column("x", pa.array([cell or None for cell in cells], pa.large_string()))
    assert column.cells() == [1, None, None, None, 4, None]
    assert reasons(column) == [None, "n/r", "blank", "NA", None, "."]
    assert {note.kind for note in notes} == {"token"}


@pytest.mark.parametrize("many", [1, 3000])
def test_stray_cells_keep_a_column_text_and_are_named(many: int) -> None:
    cells = ["430"] * many + ["410 est.", "425", "NA", "seven h", "431"]
    column, notes = read_text_column("sleep", pa.array(cells, pa.large_string()))
    assert column.type == "string"
    assert column.cells()[-3] == "NA"
    (note,) = notes
    assert note.kind == "stray-text"
    # The first row of data is row 2 of the sheet.
    assert note.examples == ((many + 2, "410 est."), (many + 5, "seven h"))


def test_dictionary_codes_become_reasons() -> None:
    variable = Variable(missing={"-9": "refused", "-8": "device failed", "ashore": "ashore"})
    array = pa.array(["430", "-9", "-8", "ashore", None, "-9"], pa.large_string())
    column, _ = read_text_column("sleep", array, variable)
    assert column.type == "integer"
    assert reasons(column) == [None, "refused", "device failed", "ashore", "blank", "refused"]


def test_a_declared_string_stays_text_and_a_declared_number_drops_zeros() -> None:
    array = pa.array(["12", "7"], pa.large_string())
    assert read_text_column("x", array, Variable(type="string"))[0].cells() == ["12", "7"]
    array = pa.array(["012", "7"], pa.large_string())
    assert read_text_column("x", array, Variable(type="integer"))[0].cells() == [12, 7]


def test_a_date_is_never_guessed_but_read_as_stated() -> None:
    array = pa.array(["03/04/2024", "13/04/2024"], pa.large_string())
    _, notes = read_text_column("visit", array)
    assert "‹type=visit=date:%d/%m/%Y›" in notes[0].text
    column, _ = read_text_column("visit", array, Variable(type="date"), "%d/%m/%Y")
    assert column.cells() == [datetime.date(2024, 4, 3), datetime.date(2024, 4, 13)]


def test_characters_that_look_like_others_are_reported_and_kept() -> None:
    texts = ["Bo\u00a0Li", "Ann\u200b", "A\u030ase", "\u00c5se", "O\u2019Neill", "caf\u00e9"]
    column, notes = read_text_column("my name", pa.array(texts, pa.large_string()))
    assert column.cells() == texts
    assert [(note.kind, note.count) for note in notes] == [("characters", 3)]
    assert notes[0].text.endswith("derive the plain text: plain(column('my name'))")


def test_numbers_with_other_spaces_and_minus_signs() -> None:
    texts = pa.array(["1\u00a0234", "12\u202f345,5", "999"], pa.large_string())
    column, notes = read_text_column("x", texts, decimal=",", thousands=" ")
    assert (column.cells(), notes) == ([1234, 12345.5, 999], [])
    assert [note.kind for note in read_text_column("x", texts[::2])[1]] == ["stray-text", "thousands"]
    column, notes = read_text_column("x", pa.array(["\u22125", "3", "\u20132"], pa.large_string()))
    assert column.type == "string"
    assert notes[-1].text.endswith("derive the number: to_number(plain(x))")


def test_blanks_around_are_reported_and_kept() -> None:
    column, notes = read_text_column("id", pa.array(["A1", "A2 ", " A3"], pa.large_string()))
    assert column.cells() == ["A1", "A2 ", " A3"]
    assert notes[0].kind == "spaces-around"
    assert notes[0].examples == ((3, "A2 "), (4, " A3"))
