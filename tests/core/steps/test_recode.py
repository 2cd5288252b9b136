"""Recoding: maps, labels, and an account that is true."""

from __future__ import annotations

import datetime
from typing import Any

import pytest

from lomrix.core.errors import LomrixError, UsageError
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, parts_of, reasons, sources, table

LABELS = Dictionary({"x": Variable(codes="x")}, {"x": {"1": "low", "2": "middle", "3": "high"}})


def recoded(cells: list[Any], dictionary: Dictionary | None = None, **settings: Any) -> Result:
    return Recode(**settings).apply(sources(table(x=cells, dictionary=dictionary or Dictionary())))


def changed(result: Result) -> int:
    balance = next(one for one in result.account.balances if (one.what, one.of) == ("cells", "x"))
    return parts_of(balance)["changed"]


CELLS: list[tuple[list[Any], dict[str, Any], list[Any], int]] = [
    ([1, None, 3], {"map": "x: missing=none"}, ["1", "none", "3"], 1),
    ([1, None, None], {"map": "x: missing=2"}, [1, 2, 2], 2),
    ([1, 7, 8], {"map": "x: 1=5", "others": "missing"}, [5, None, None], 3),
    ([15, 20, 25, 99], {"map": "x: 10 to 20=1, 20 to 99=2, 99=missing:refused"}, [1, 1, 2, None], 4),
    ([1.0, 2.0], {"map": "x: 1=1.0, 2=9"}, [1, 9], 1),
    (list(range(40)), {"map": "x: 0 to 39=5"}, [5] * 40, 39),
]


@pytest.mark.parametrize(("cells", "settings", "new", "count"), CELLS)
def test_the_account_counts_what_changed(
    cells: list[Any], settings: dict[str, Any], new: list[Any], count: int
) -> None:
    result = recoded(cells, **settings)
    assert (result.table["x"].cells(), changed(result)) == (new, count)


def test_ranges_of_days() -> None:
    days = [datetime.date(2024, 1, 1), datetime.date(2024, 6, 30), datetime.date(2024, 7, 1), None]
    source = Table({"x": Column.of_cells("date", days)})
    step = Recode(map="x: 2024-01-01 to 2024-06-30=first, 2024-07-01 to 2024-12-31=second")
    assert step.apply(sources(source)).table["x"].cells() == ["first", "first", "second", None]


def test_what_a_map_names_without_effect_is_reported() -> None:
    notes = {
        note.kind: note.text for note in recoded(["north", "south"], map="x: north=n, cost=c, a to f=g").account.notes
    }
    assert '"cost", "a to f"' in notes["not-found"]
    notes = {note.kind: note.text for note in recoded([10, 20], map="x: 0 to 20=1, 20 to 40=2").account.notes}
    assert notes["shared-end"] == '20 is in "0 to 20" and in "20 to 40"; it belongs to the first.'


REFUSED = [
    ({"map": ["x: 3=4", "x: 99=5"]}, "Two instructions recode x"),
    ({"map": "x: 3=4", "reverse": "x", "span": "0:100"}, "Two instructions recode x"),
    ({"map": "x: 0 to 20=1, 15 to 40=2"}, "overlap"),
    ({"map": "x: 2024-01-01 to 2024-03-01=1, 2024-02-01 to 2024-04-01=2"}, "overlap"),
    ({"map": "x: 40 to 20=1"}, "smaller to the larger"),
    ({"map": "x: 3=4, 3=5"}, "twice"),
]


@pytest.mark.parametrize(("settings", "words"), REFUSED)
def test_what_is_not_clear_is_refused(settings: dict[str, Any], words: str) -> None:
    with pytest.raises(LomrixError, match=words):
        recoded([3, 99], **settings)


def test_two_rows_of_a_map_file_for_one_value_are_refused() -> None:
    maps = table(variable=["x", "x"], old=["1", "1"], new=["2", "3"])
    with pytest.raises(UsageError, match="twice"):
        Recode().apply(Inputs(source=table(x=[1]), map_file=maps))


CODES: list[tuple[dict[str, Any], dict[str, str], bool]] = [
    ({"map": "x: 1=7"}, {"7": "low", "2": "middle", "3": "high"}, False),
    ({"map": "x: 2=1"}, {"3": "high"}, True),
    ({"map": "x: 1=missing:refused"}, {"2": "middle", "3": "high"}, False),
    ({"map": "x: 1=1", "others": "missing"}, {"1": "low"}, False),
    ({"reverse": "x", "span": "1:3"}, {"3": "low", "2": "middle", "1": "high"}, False),
]


@pytest.mark.parametrize(("settings", "labels", "is_reported"), CODES)
def test_labels_follow_their_codes_whether_they_occur_or_not(
    settings: dict[str, Any], labels: dict[str, str], is_reported: bool
) -> None:
    result = recoded([1, 2, 1], LABELS, **settings)
    assert result.table.dictionary.labels_of("x") == labels
    assert any(note.kind == "label-lost" for note in result.account.notes) is is_reported


def test_a_list_of_codes_that_others_use_stays_theirs() -> None:
    known = Dictionary({"x": Variable(codes="x"), "y": Variable(codes="x")}, LABELS.codes)
    made = Recode(map="x: 1=7").apply(sources(Table({"x": column([1]), "y": column([1])}, known))).table
    assert made.dictionary.labels_of("y") == LABELS.codes["x"]
    assert made.dictionary.labels_of("x")["7"] == "low"


def test_reasons_stay_and_new_ones_come() -> None:
    made = recoded([1, None, 3], map="x: 3=missing:refused").table["x"]
    assert reasons(made) == [None, "blank", "refused"]
