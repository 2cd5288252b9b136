"""Spells in steps: the one that covers a day, stretches that they cover, and what is wrong with them."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.check.settings import Check
from lomrix.core.steps.merge.settings import Merge
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from tests.tables import merging, parts_of, reasons, rows, sources, table


def day(text: str | None) -> datetime.date | None:
    return datetime.date.fromisoformat(f"2024-{text}") if text else None


VISITS = table(
    "visits", id=["a", "a", "a", "b", "c", "b", None],
    day=[day(text) for text in ("01-31", "02-10", "03-05", "01-01", "01-01", None, "01-01")],
)  # fmt: skip
POSTINGS = table(
    "postings", id=["a", "a", "b", "d"], start=[day(text) for text in ("01-01", "03-05", "02-01", "02-01")],
    end=[day("01-31"), None, day("02-29"), day("02-29")], ship=["tern", "gull", "auk", "auk"],
)  # fmt: skip
DURING: dict[str, Any] = {"key": "id", "during": "day=start..end"}


def with_spell(start: str, end: str) -> Table:
    """The postings with one more of a."""
    more = {"id": "a", "start": day(start), "end": day(end), "ship": "hulk"}
    cells: dict[str, Any] = {name: [*POSTINGS[name].cells(), cell] for name, cell in more.items()}
    return table("postings", **cells)


def dated(source: Table) -> Table:
    """Days that are read as datetimes: the whole of the last day counts."""
    values = source["day"].values.astype("M8[us]") + np.timedelta64(13, "h")
    return source.with_columns({**source.columns, "day": Column.of("datetime", values, source["day"].why, ("blank",))})


@pytest.mark.parametrize("visits", [VISITS, dated(VISITS)], ids=["dates", "datetimes"])
def test_each_row_gets_the_spell_that_covers_its_day(visits: Table) -> None:
    result = Merge(**DURING, rows="base").apply(merging(visits, POSTINGS))
    assert result.table["ship"].cells() == ["tern", None, "gull", None, None, None, None]
    assert reasons(result.table["ship"]) == [None, "no-spell", None, "no-spell", *["unmatched"] * 3]
    assert parts_of(result.account.balances[0]) == {
        "with a partner": 2, "outside every spell": 2, "without a partner": 1, "without a day": 1, "key missing": 1
    }  # fmt: skip
    assert len(Merge(**DURING, rows="matched").apply(merging(visits, POSTINGS)).table) == 2
    every = Merge(**DURING).apply(merging(visits, POSTINGS)).table
    assert every["ship"].cells()[7:] == ["auk", "auk"]


def test_overlapping_spells_are_named_and_held_to_the_expectation() -> None:
    overlapping = with_spell("03-01", "03-05")
    with pytest.raises(DataError, match="The day of 1 row is in several spells of postings") as stopped:
        Merge(**DURING).apply(merging(VISITS, overlapping))
    assert stopped.value.where == "spells that overlap: a (rows 6, 3: until 2024-03-05, from 2024-03-05)"
    result = Merge(**DURING, rows="base", expect="many-to-many").apply(merging(VISITS, overlapping))
    assert result.table["ship"].cells()[:4] == ["tern", None, "hulk", "gull"]
    # Where no day meets both, it is only noted.
    harmless = Merge(**DURING, expect="many-to-one").apply(merging(VISITS, with_spell("01-30", "01-30")))
    assert [note.count for note in harmless.account.notes if note.kind == "spell-overlap"] == [1]
    with pytest.raises(DataError, match="1 spell of postings would match several rows"):
        Merge(**DURING, expect="one-to-one").apply(merging(VISITS.take(np.array([0, 0])), POSTINGS))


def test_what_spells_cannot_be() -> None:
    ends_first = Merge(**DURING).apply(merging(VISITS, with_spell("05-02", "05-01")))
    assert [(note.text, note.examples) for note in ends_first.account.notes if note.kind == "spell-unusable"] == [
        ("1 spell that ends before it starts covers nothing.", ((6, None),))
    ]
    with pytest.raises(DataError, match="Spells need dates or numbers: start is date, end is date, day is integer"):
        Merge(**DURING).apply(merging(table(id=["a"], day=[1]), POSTINGS))
    for settings in (
        {"during": "day"},
        {"during": "day=start"},
        {"during": "day=start..end", "near": "day", "within": "3d"},
    ):
        with pytest.raises(UsageError):
            Merge(key="id", **settings)


SPELL: dict[str, Any] = {"case": "id", "spell": "start..end"}


def test_a_row_for_each_stretch() -> None:
    result = ToLong(**SPELL, every="month", until="2024-03-20").apply(sources(POSTINGS))
    assert rows(result.table.only(["id", "month", "days", "ship"])) == [
        ("a", day("01-01"), 31, "tern"), ("a", day("03-01"), 16, "gull"),
        ("b", day("02-01"), 29, "auk"), ("d", day("02-01"), 29, "auk"),
    ]  # fmt: skip
    assert [note.text for note in result.account.notes] == ["1 spell with no end stops on 2024-03-20."]
    late = ToLong(**SPELL, every="year", until="2024-02-15").apply(sources(POSTINGS))
    assert rows(late.table.only(["id", "year", "days"])) == [("a", 2024, 31), ("b", 2024, 15), ("d", 2024, 15)]
    assert parts_of(late.account.balances[0]) == {"kept": 3, "later than 2024-02-15, left out": 1}


@given(st.lists(st.tuples(st.integers(-40_000, 40_000), st.integers(0, 900)), min_size=1, max_size=4),
       st.sampled_from(["day", "week", "month", "quarter", "year"]))  # fmt: skip
def test_the_days_of_all_stretches_are_those_of_the_spells(spells: list[tuple[int, int]], every: Any) -> None:
    start = np.array([first for first, _ in spells]).astype("M8[D]")
    length = np.array([length for _, length in spells])
    source = Table({"start": Column.of("date", start), "end": Column.of("date", start + length)})
    long = ToLong(spell="start..end", every=every).apply(sources(source)).table
    assert sum(long["days"].cells()) == int((length + 1).sum())
    for spell in range(len(spells)):
        expected: dict[Any, int] = {}
        for number in range(int(length[spell]) + 1):
            date = (start[spell] + number).item()
            key = {
                "day": date, "week": date - datetime.timedelta(days=date.weekday()), "month": date.replace(day=1),
                "quarter": date.replace(month=(date.month - 1) // 3 * 3 + 1, day=1), "year": date.year,
            }[every]  # fmt: skip
            expected[key] = expected.get(key, 0) + 1
        own = [row for row in rows(long.only(["start", "end", every, "days"]))
               if row[:2] == (start[spell].item(), (start[spell] + length[spell]).item())]  # fmt: skip
        assert dict(row[2:] for row in own) == expected


def test_spells_that_have_no_stretches() -> None:
    with pytest.raises(DataError, match="1 spell has no end"):
        ToLong(**SPELL, every="month").apply(sources(POSTINGS))
    with pytest.raises(DataError, match="1 spell ends before its start"):
        ToLong(**SPELL, every="month", until="2025-01-01").apply(sources(with_spell("05-02", "05-01")))
    with pytest.raises(DataError, match="start is integer"):
        ToLong(spell="start..end", every="day").apply(sources(table(start=[1], end=[2])))
    daily = {"spell": "a..b", "every": "day"}
    for settings in ({"spell": "a..b"}, {"every": "day"}, {**daily, "header": ("{m}{n}",)}, {**daily, "until": "soon"}):
        with pytest.raises(UsageError):
            ToLong.model_validate(settings)


def test_a_check_finds_ends_before_starts_overlaps_and_gaps() -> None:
    spells = table("s", id=list("aaabb"), x=list(range(5)),
                   start=[day("01-01"), day("01-20"), day("03-01"), None, day("02-02")],
                   end=[day("01-20"), day("01-31"), day("03-31"), day("02-05"), day("02-01")])  # fmt: skip
    facts = Check(case="id", spell="start..end").apply(sources(spells)).account.facts
    assert {finding["rule"]: finding["rows"] for finding in facts["findings"]} == {
        "spell-ends-first": [6], "spell-overlap": [3], "spell-start-missing": [5], "spell-gap": [4]
    }  # fmt: skip
    assert facts["broken"] == 3
    numbers = table("s", id=["a", "a"], start=[1, 4], end=[3, 5])
    assert not Check(case="id", spell="start..end").apply(sources(numbers)).account.facts["findings"]
