"""Text in several arrays, dates in said forms, decimal commas, stray cells, and what a column of text resembles."""

from __future__ import annotations

import datetime
import importlib

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import UsageError
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import Type
from lomrix.core.table.variable import Variable
from lomrix.core.text.chunks import read_text_chunks
from lomrix.core.text.dates import guess_date_form, guess_date_forms, parse_dates_in_forms, require_date_forms
from lomrix.core.text.reading import read_text_column
from lomrix.core.text.stray import find_stray_cells
from tests.tables import reasons

DAY = datetime.date(2024, 3, 5)


def texts(cells: list[str]) -> pa.Array:
    return pa.array([cell or None for cell in cells], pa.large_string())


CELLS = [
    "1",
    "20",
    "-3",
    "",
    "4.5",
    "1.200",
    "900",
    "1e3",
    "007",
    " 5",
    "-9",
    "n/a",
    "abc",
    "2024-03-05",
    "99999999999999999",
]


@given(
    st.lists(st.lists(st.sampled_from(CELLS) | st.sampled_from(CELLS[:4]), max_size=4), min_size=1, max_size=4),
    st.sampled_from([None, "integer", "number", "string"]),
    st.booleans(),
)
def test_text_in_several_arrays_is_read_as_in_one(parts: list[list[str]], type_: Type | None, coded: bool) -> None:
    variable = Variable(type=type_, missing={"-9": "refused"} if coded else {})
    chunks = pa.chunked_array([texts(part).cast(pa.string()) for part in parts], pa.string())
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(importlib.import_module("lomrix.core.text.chunks"), "FEW_ROWS", 0)
        found, notes = read_text_chunks("x", chunks, variable)
    expected, output = read_text_column("x", texts([cell for part in parts for cell in part]), variable)
    assert (found.type, found.cells(), reasons(found)) == (expected.type, expected.cells(), reasons(expected))
    assert [note.text for note in notes] == [note.text for note in output]


@pytest.mark.parametrize(
    ("parts", "type_", "cells", "why"),
    [
        ([["1", "20"], ["-3", ""]], "integer", [1, 20, -3, None], [None, None, None, "blank"]),
        ([["1.5", ""], ["2.25"]], "number", [1.5, None, 2.25], [None, "blank", None]),
        ([["1"], ["2.5"]], "number", [1.0, 2.5], [None, None]),
        ([["1"], ["x"]], "string", ["1", "x"], [None, None]),
        ([], "string", [], []),
    ],
)
def test_plain_numbers_in_several_arrays(
    monkeypatch: pytest.MonkeyPatch, parts: list[list[str]], type_: Type, cells: list[object], why: list[str | None]
) -> None:
    monkeypatch.setattr(importlib.import_module("lomrix.core.text.chunks"), "FEW_ROWS", 0)
    found, _ = read_text_chunks("x", pa.chunked_array([texts(part) for part in parts], pa.large_string()))
    assert (found.type, found.cells(), reasons(found)) == (type_, cells, why)


@pytest.mark.parametrize(
    ("odd", "type_"),
    [({2345: "05"}, "integer"), ({2345: "05", 4001: "07"}, "integer"), ({2345: "1234567890123456.5"}, "number")],
)
def test_the_one_cell_among_thousands_that_keeps_a_column_text_is_named(odd: dict[int, str], type_: str) -> None:
    cells = {at: str(20 + at % 60) for at in range(5000)} | odd
    found, notes = read_text_column("age", texts(list(cells.values())))
    assert found.type == "string"
    (note,) = notes
    assert (note.kind, note.count, note.examples) == (
        "digits-kept", len(odd), tuple((at + 2, text) for at, text in odd.items()),
    )  # fmt: skip
    assert f"use ‹type=age={type_}›" in note.text


@pytest.mark.parametrize(
    ("odd", "type_", "cell", "expected"),
    [
        ("2024-03-05 14:07", "datetime", datetime.datetime(2024, 3, 5, 14, 7), []),
        ("n/a", "date", None, ["token"]),
        ("2.5", "string", "2.5", ["stray-text"]),
    ],
)
def test_hours_among_thousands_of_dates(odd: str, type_: str, cell: object, expected: list[str]) -> None:
    cells = [f"2024-04-{1 + at % 30:02}" for at in range(5000)]
    found, notes = read_text_column("d", texts([*cells[:2345], odd, *cells[2346:]]))
    assert (found.type, found.cells()[2345], [note.kind for note in notes]) == (type_, cell, expected)
    # A sample that shows it leads to the same.
    few, notes = read_text_column("d", texts([*cells[:3], odd, *cells[3:6]]))
    assert (few.type, few.cells()[3], [note.kind for note in notes]) == (type_, cell, expected)


@pytest.mark.parametrize(
    ("cells", "type_", "values"),
    [
        (["9223372036854775807", "12", "+3"], "integer", [2**63 - 1, 12, 3]),
        (["9223372036854775808", "12"], "string", ["9223372036854775808", "12"]),
        (["-9223372036854775808", "n/a"], "integer", [-(2**63), None]),
        (["007", "8"], "integer", [7, 8]),
        (["12", "2.0", "1e3"], "integer", [12, 2, 1000]),
        (["0.1", "1e400"], "string", ["0.1", "1e400"]),
        (["0.1", "1e-400"], "string", ["0.1", "1e-400"]),
    ],
)
def test_a_type_that_is_stated(cells: list[str], type_: Type, values: list[object]) -> None:
    stated: Type = "number" if "." in cells[0] else "integer"
    found, notes = read_text_column("x", texts(cells), Variable(type=stated))
    assert (found.type, found.cells()) == (type_, values)
    assert bool([note for note in notes if note.kind == "stray-text"]) == (type_ == "string")


def test_decimals_where_whole_numbers_were_stated() -> None:
    found, notes = read_text_column("x", texts(["1", "2.5", "", "2.5", "3.0"]), Variable(type="integer"))
    assert (found.type, found.cells()) == ("number", [1.0, 2.5, None, 2.5, 3.0])
    assert [(note.kind, note.examples) for note in notes] == [("not-whole", ((3, "2.5"), (5, "2.5")))]
    assert "2 cells have decimals" in notes[0].text


@pytest.mark.parametrize(
    ("cells", "missing", "type_", "values"),
    [
        (["none", "absent", "none"], {}, "string", ["none", "absent", "none"]),
        (["none", "none"], {"none": "no answer"}, "integer", [None, None]),
        (["n/a", "-"], {}, "integer", [None, None]),
    ],
)
def test_words_alone_in_a_column(cells: list[str], missing: dict[str, str], type_: str, values: list[object]) -> None:
    found, _ = read_text_column("x", texts(cells), Variable(missing=missing))
    assert (found.type, found.cells()) == (type_, values)
    if missing:
        assert reasons(found) == ["no answer", "no answer"]


@pytest.mark.parametrize(
    ("cells", "type_", "values"),
    [
        (["1,5", "2", "-0,25"], "number", [1.5, 2.0, -0.25]),
        (["1,5", "n/a", ""], "number", [1.5, None, None]),
        (["1,5", "1.234"], "string", ["1,5", "1.234"]),
        (["12", "7"], "integer", [12, 7]),
        (["a,b", "c"], "string", ["a,b", "c"]),
    ],
)
def test_decimal_commas(cells: list[str], type_: str, values: list[object]) -> None:
    found, notes = read_text_column("x", texts(cells), decimal=",")
    assert (found.type, found.cells()) == (type_, values)
    shown = [value for note in notes if note.kind == "stray-text" for _, value in note.examples]
    assert shown == (["1.234"] if "1.234" in cells else [])


def test_missing_codes_among_decimal_commas() -> None:
    found, _ = read_text_column("x", texts(["1,5", "-9", "-9,0"]), Variable(missing={"-9": "refused"}), decimal=",")
    assert (found.cells(), reasons(found)) == ([1.5, None, None], [None, "refused", "refused"])


@pytest.mark.parametrize(("strays", "expected"), [(1, True), (2, True), (3, True), (4, False)])
def test_strays_are_reported_where_they_are_the_fewer(strays: int, expected: bool) -> None:
    cells = ["1", "2", "3"] + [f"x{at}" for at in range(strays)]
    found, notes = read_text_column("x", texts(cells))
    assert found.type == "string"
    assert [note.count for note in notes if note.kind == "stray-text"] == ([strays] if expected else [])


# -------------------------------------------------------------------- dates


@pytest.mark.parametrize(
    ("text", "form", "expected"),
    [
        ("5/3/2024", "%d/%m/%Y", "2024-03-05"),
        ("05.03.24", "%d.%m.%y", "2024-03-05"),
        ("5 MAR 2024", "%d %b %Y", "2024-03-05"),
        ("March 5, 2024", "%B %d, %Y", "2024-03-05"),
        ("2024-03-05 14:07:09", "%Y-%m-%d %H:%M:%S", "2024-03-05T14:07:09"),
        ("29/02/2024", "%d/%m/%Y", "2024-02-29"),
        ("29/02/2023", "%d/%m/%Y", None),
        ("31/04/2024", "%d/%m/%Y", None),
        ("1/2/24", "%d/%m/%Y", None),
        ("1/2/2024 ", "%d/%m/%Y", None),
        ("soon", "%d/%m/%Y", None),
        ("2024-03-05 14:07:09.250", "%Y-%m-%d %H:%M:%S.%f", "2024-03-05T14:07:09.250"),
        ("2024-065", "%Y-%j", "2024-03-05"),
        ("2024-065|5/3/2024", "%Y-%j", None),
        ("2024/03/05", "%d/%m/%Y|%Y/%m/%d", "2024-03-05"),
        ("5.3.65", "%d.%m.%y", "2065-03-05"),
        ("5.3.65", "%d.%m.%Y|%d.%m.%y..2024", "1965-03-05"),
        ("5.3.24", "%d.%m.%y..2024", "2024-03-05"),
        ("5.3.25", "%d.%m.%y..2024", "1925-03-05"),
        ("29.2.00", "%d.%m.%y..1999", None),  # 1900 had no such day
    ],
)
def test_dates_in_a_stated_form(text: str, form: str, expected: str | None) -> None:
    times, fits = parse_dates_in_forms(texts([text, "1/1/2000"]), form)
    assert fits[0] == (expected is not None)
    if expected is not None:
        assert times[0] == np.datetime64(expected, "us")


def test_an_odd_date_stays_text_and_is_named() -> None:
    found, notes = read_text_column("d", texts(["05/03/2024", "31/02/2024", ""]), Variable(type="date"), "%d/%m/%Y")
    assert (found.type, [note.examples for note in notes]) == ("string", [((3, "31/02/2024"),)])
    found, _ = read_text_column("d", texts(["05/03/2024", "", "n/a"]), date_format="%d/%m/%Y")
    assert (found.type, found.cells(), reasons(found)) == ("date", [DAY, None, None], [None, "blank", "n/a"])


@pytest.mark.parametrize("form", ["", "dd/mm/yyyy", "%d/%Q/%Y", "%d/%m/%Y|", "%d %d", "%d.%m.%Y..2024"])
def test_what_is_not_a_form_of_dates(form: str) -> None:
    with pytest.raises(UsageError) as caught:
        require_date_forms(form)
    assert "is not a date form" in caught.value.what


@pytest.mark.parametrize(
    ("text", "form"),
    [
        ("31/12/2024", "%d/%m/%Y"), ("12/31/24", "%m/%d/%y"), ("05/06/2024", "?%d/%m/%Y"), ("32/01/2024", ""),
        ("0/1/2024", ""), ("1/0/2024", ""), ("13/13/2024", ""), ("2024/3/5", "%Y/%m/%d"), ("5-Mar-24", "%d-%b-%y"),
        ("5 March 2024", "%d %B %Y"), ("Mar 5, 2024", "%b %d, %Y"), ("5 Xyz 2024", ""), ("x", ""),
        ("31.12.2024 14:07", "%d.%m.%Y %H:%M"), ("31.12.2024 14:07:09", "%d.%m.%Y %H:%M:%S"),
        ("2024/12/31T14:07", "%Y/%m/%dT%H:%M"),
    ],
)  # fmt: skip
def test_the_form_of_a_date(text: str, form: str) -> None:
    assert guess_date_form(text) == form
    if form and "?" not in form:
        assert parse_dates_in_forms(texts([text]), form)[1].all()


def test_the_forms_of_several_dates() -> None:
    assert guess_date_forms(["05/06/2024", "06/07/2024"]) == "?%d/%m/%Y"
    assert guess_date_forms(["05/06/2024", "12/31/2024"]) == "%m/%d/%Y"
    assert guess_date_forms(["05/06/2024", "31/12/2024", "12/31/2024"]) == "%d/%m/%Y|%m/%d/%Y"
    assert guess_date_forms(["05/06/2024", "x"]) == "?%d/%m/%Y"
    assert guess_date_forms(["05/06/2024", "x", "y"]) == ""


@pytest.mark.parametrize("day", ["2024-02-30", "2024-13-01", "2023-02-29", "2024-03-05 25:00"])
def test_days_and_hours_that_no_calendar_has(day: str) -> None:
    stated: Type = "datetime" if ":" in day else "date"
    found, notes = read_text_column("d", texts(["2024-03-05", day, ""]), Variable(type=stated))
    assert (found.type, found.cells()) == ("string", ["2024-03-05", day, None])
    assert [note.examples for note in notes if note.kind == "stray-text"] == [((3, day),)]


# ------------------------------------------------------- strays, resemblances


@pytest.mark.parametrize(
    ("cells", "type_", "stray", "others"),
    [
        (["1", "2", "3", "15 est", "", "n/a"], "number", [3], [1.0, 2.0, 3.0, None, None, None]),
        (["2024-03-05", "2024-03-05", "2024-02-30"], "date", [2], [DAY, DAY, None]),
    ],
)
def test_cells_that_keep_a_column_text(cells: list[str], type_: str, stray: list[int], others: list[object]) -> None:
    found = find_stray_cells(Column.of_cells("string", [cell or None for cell in cells]))
    assert found is not None
    assert (found.type, np.flatnonzero(found.cells).tolist(), found.others.cells()) == (type_, stray, others)
    output = reasons(found.others)
    assert [output[at] for at in stray] == ["unreadable"] * len(stray)


@pytest.mark.parametrize("cells", [["a", "b"], ["007", "8", "x"], ["true", "maybe"], []])
def test_columns_that_are_just_text_have_no_strays(cells: list[str]) -> None:
    assert find_stray_cells(Column.of_cells("string", cells)) is None


@pytest.mark.parametrize(
    ("cells", "kind", "expected", "rows"),
    [
        (["1,5", "2", "x,y"], "decimal-comma", "looks like numbers with a decimal comma; if it is, use", [0]),
        (["2024-03-05T10:00Z", "2024-03-05 10:00:00+02:00"], "offset", "timestamps with a UTC offset", [0, 1]),
        (["05", "12", "130"], "digits-kept", "use ‹type=x=integer›", [0]),
        (["05", "12.5", "130"], "digits-kept", "use ‹type=x=number›", [0]),
        (["31/12/2024", "05/06/2024", "?"], "unclear-date", "use ‹type=x=date:%d/%m/%Y›", [0, 1]),
        (["31/12/2024 10:00", "5/6/2024 9:00"], "unclear-date", "‹type=x=datetime:%d/%m/%Y %H:%M›", [0, 1]),
    ],
)
def test_what_a_column_of_text_resembles(cells: list[str], kind: str, expected: str, rows: list[int]) -> None:
    found, notes = read_text_column("x", texts(cells))
    assert found.type == "string"
    (note,) = [note for note in notes if note.kind == kind]
    assert expected in note.text
    assert [row - 2 for row, _ in note.examples] == rows
