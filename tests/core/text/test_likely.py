"""What a column is likely to be: dates in a form that was not said, decimal commas, missing codes nobody declared."""

from __future__ import annotations

import datetime
from typing import Any

import pyarrow as pa
import pytest

from lomrix.core.table.missing_guess import guess_missing_codes
from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import read_text_column
from tests.tables import column


def typed(cells: list[str], **settings: Any) -> tuple[str, list[Any], list[str]]:
    made, notes = read_text_column("x", pa.array(cells, pa.large_string()), **settings)
    return made.type, made.cells(), [note.kind for note in notes]


DAYS = [datetime.date(2024, 5, 3), datetime.date(2024, 12, 30)]


@pytest.mark.parametrize(
    ("cells", "form", "found"),
    [
        (["03/05/2024", "30/12/2024"], "%d/%m/%Y", DAYS),
        (["3/5/2024", "30/12/2024"], "%d/%m/%Y", DAYS),
        (["3 May 2024", "30/12/2024"], "%d/%m/%Y|%d %b %Y", DAYS),
        (["03.05.24", "30.12.24"], "%d.%m.%y", DAYS),
        (["31/02/2024", "30/12/2024"], "%d/%m/%Y", None),
        (["29/02/2023", "30/12/2024"], "%d/%m/%Y", None),
        (["1/2/24", "30/12/2024"], "%d/%m/%Y", None),
        (["03/05/2024x", "30/12/2024"], "%d/%m/%Y", None),
    ],
)
def test_dates_in_a_form_that_was_stated(cells: list[str], form: str, found: list[Any] | None) -> None:
    type_, values, kinds = typed(cells, date_format=form, variable=Variable(type="date"))
    assert (type_, values) == (("date", found) if found else ("string", cells))
    assert ("stray-text" in kinds) is (found is None)


@pytest.mark.parametrize(
    ("cells", "settings"),
    [
        (["03/14/2024", "12/01/2023", "n/a"], "x=date:%m/%d/%Y"),
        (["14.03.2024", "12.01.2023"], "x=date:%d.%m.%Y"),
        (["2024/03/14", "2023/01/12"], "x=date:%Y/%m/%d"),
        (["14 March 2024", "1 May 2024"], "x=date:%d %B %Y|%d %b %Y"),
        (["Mar 14, 2024", "Jan 1, 2023"], "x=date:%b %d, %Y"),
        (["14/03/2024 08:30", "1/05/2024 17:00"], "x=datetime:%d/%m/%Y %H:%M"),
    ],
)
def test_dates_in_a_form_that_was_not_stated(cells: list[str], settings: str) -> None:
    made, notes = read_text_column("x", pa.array(cells, pa.large_string()))
    assert (made.type, [note.kind for note in notes]) == ("string", ["unclear-date"])
    assert f"type={settings}›" in notes[0].text
    form = settings.partition(":")[2]
    type_ = settings[2:].partition(":")[0]
    assert typed(cells, date_format=form, variable=Variable.model_validate({"type": type_}))[0] == type_


COMMAS = [
    (["3,5", "4", "2,25", "dead"], ".", "string", ["decimal-comma"]),
    (["3,5", "4", "2,25"], ",", "number", []),
    (["3,5", "1.234"], ",", "string", ["stray-text"]),
    (["3.5", "4"], ",", "number", []),
    (["a,b", "4"], ".", "string", ["stray-text"]),
    (["1e400", "2.5"], ".", "string", ["stray-text"]),
    (["1e-400", "2.5"], ".", "string", ["stray-text"]),
    (["0e5", "2.5"], ".", "number", []),
    (["34", "05", "100"], ".", "string", ["digits-kept"]),
    (["34", "12345678901234567"], ".", "string", ["digits-kept"]),
    (["01", "17", "20"], ".", "string", []),
    (["20", "05", "31", "33"], ".", "string", ["digits-kept"]),
    (["20", "05", "31", "33", "07"], ".", "string", []),
    (["2024-01-01T10:00+02:00", "2024-01-01T10:00Z"], ".", "string", ["offset"]),
]


@pytest.mark.parametrize(("cells", "decimal", "type_", "kinds"), COMMAS)
def test_texts_that_may_be_numbers(cells: list[str], decimal: str, type_: str, kinds: list[str]) -> None:
    assert typed(cells, decimal=decimal)[::2] == (type_, kinds)


def test_integers_keep_every_digit_or_stay_text() -> None:
    most, more = str(2**63 - 1), str(2**63)
    assert typed([most, "1"], variable=Variable(type="integer"))[:2] == ("integer", [2**63 - 1, 1])
    assert typed([more, "1"], variable=Variable(type="integer"))[:2] == ("string", [more, "1"])


CODES: list[tuple[list[Any], dict[str, Any], list[int]]] = [
    ([34, 51, 28, -9, 47], {}, [-9]),
    ([34.5, 51, 28, 999, 47], {}, [999]),
    ([1, 3, 2, 9, 8, 3], {}, [8, 9]),
    ([5, 6, 7, 8, -9], {}, [-9]),
    ([1, 7, 5, 9, 3, 4], {}, []),
    ([-12, 3, 8, -9, 4], {}, []),
    ([34, 51, 28, -9, -99, 999, 47], {}, [-99, -9, 999]),
    ([34, 51, 28, -9, 47], {"missing": {"-9": "refused"}}, []),
    ([34, 51, 28, -9, 47], {"minimum": 0}, []),
    ([34, 51, 28, 55, 47], {}, []),
    (["34", "-9"], {}, []),
    ([1, 2, -9], {}, []),
]


@pytest.mark.parametrize(("cells", "entry", "codes"), CODES)
def test_missing_codes_that_nobody_declared(cells: list[Any], entry: dict[str, Any], codes: list[int]) -> None:
    assert guess_missing_codes(column(cells), Variable(**entry), {}) == codes
