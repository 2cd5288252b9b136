"""Nearest in time, through links, and the bound of many-to-many: agreement with the obvious way, cases by hand."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.arrays.nearest import find_nearest
from lomrix.core.errors import DataError, SettingError, UsageError
from lomrix.core.steps.merge.settings import Merge
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from tests.tables import merging, parts_of, reasons, rows, table

PAIRS = st.lists(st.tuples(st.integers(-1, 2), st.integers(0, 9)), min_size=0, max_size=10)


def slow(base: list[tuple[int, int]], added: list[tuple[int, int]], within: int, side: str, ties: str) -> list[int]:
    found = []
    for code, time in base:
        near = []
        for row, (other, time_) in enumerate(added):
            fits = {"before": time_ <= time, "after": time_ >= time, "either": True}[side]
            if code >= 0 and other == code and fits and abs(time_ - time) <= within:
                loses_tie = (time_ > time) if ties == "before" else (time_ < time)
                near.append((abs(time_ - time), loses_tie, row))
        found.append(min(near)[2] if near else -1)
    return found


@given(
    PAIRS,
    PAIRS,
    st.integers(0, 5),
    st.sampled_from(["either", "before", "after"]),
    st.sampled_from(["before", "after"]),
)
def test_nearest_agrees_with_the_slow_version(base: Any, added: Any, within: int, side: Any, ties: Any) -> None:
    one, two = (np.array(pairs, np.int64).reshape(-1, 2) for pairs in (base, added))
    found = find_nearest(one[:, 0], one[:, 1].astype(float), two[:, 0], two[:, 1].astype(float), within, side, ties)
    assert found.tolist() == slow(base, added, within, side, ties)


def day(text: str | None) -> datetime.date | None:
    return None if text is None else datetime.date.fromisoformat(text)


def visits_and_draws() -> tuple[Table, Table]:
    visits = {"id": Column.of_cells("string", ["a", "a", "b", "c"]),
              "seen": Column.of_cells("date", map(day, ["2024-01-10", "2024-02-10", "2024-01-10", None]))}  # fmt: skip
    draws = {"id": Column.of_cells("string", ["a", "a", "b"]),
             "drawn": Column.of_cells("date", map(day, ["2024-01-25", "2024-01-08", "2024-03-01"])),
             "iron": Column.of_cells("integer", [1, 2, 3])}  # fmt: skip
    return Table(visits, name="visits"), Table(draws, name="draws")


def test_draws_near_visits() -> None:
    step = Merge(key=("id",), near="seen=drawn", within="16d", rows="base")
    made = step.apply(merging(*visits_and_draws())).table
    assert made["iron"].cells() == [2, 1, None, None]
    assert made["drawn_distance"].cells() == [-2, -16, None, None]
    assert reasons(made["iron"])[2] == "unmatched"
    after = step.with_settings(side="after", rows="matched")
    assert after.apply(merging(*visits_and_draws())).table["iron"].cells() == [1]
    once = Merge(key=("id",), near="seen=drawn", within="40d", once=True, expect="one-to-one")
    result = once.apply(merging(*visits_and_draws()))
    # One pair for each of a's visits; b's draw is 51 days off; b, c and that draw have no match.
    assert rows(result.table.only(["id", "iron"])) == [("a", 2), ("a", 1), ("b", None), ("c", None), ("b", 3)]


@pytest.mark.parametrize("expect", ["one-to-one", "one-to-many"])
def test_nearness_is_held_to_what_was_expected(expect: Any) -> None:
    visits, _ = visits_and_draws()
    step = Merge(key=("id",), near="seen=drawn", within="40d", side="after", expect=expect)
    two = Table({"id": Column.of_cells("string", ["a"]), "drawn": Column.of_cells("date", [day("2024-02-11")])})
    with pytest.raises(DataError, match="1 row of table would match several rows"):
        step.apply(merging(visits, two))
    step.with_settings(expect="many-to-one").apply(merging(visits, two))


@pytest.mark.parametrize(
    ("settings", "name"),
    [
        ({"near": "a=b", "within": "soon"}, "within"),
        ({"near": "a=b", "within": "-3d"}, "within"),
        ({"near": "a=b", "within": "3 weeks"}, "within"),
        ({"near": "a="}, "near"),
        ({"near": "a=b"}, "within"),
        ({"within": "3d"}, "within"),
        ({"once": True}, "once"),
        ({"side": "after"}, "side"),
        ({"ties": "after"}, "ties"),
    ],
)
def test_what_nearness_reports_must_go_together(settings: dict[str, Any], name: str) -> None:
    with pytest.raises(SettingError) as caught:
        Merge(key=("id",), **settings)
    assert caught.value.setting == name


def test_windows_have_the_unit_of_what_they_span() -> None:
    with pytest.raises(UsageError, match="has no unit"):
        Merge(key=("id",), near="seen=drawn", within="3").apply(merging(*visits_and_draws()))


def test_ids_through_links_with_their_own_account() -> None:
    old, new = table("old", old_id=["1", "2", "3"], y=[1, 2, 3]), table("new", new_id=["A", "C"], x=[10, 30])
    links = table("links", old_id=["1", "2", "9"], new_id=["A", "B", "C"])
    result = Merge(key=("old_id=new_id",), rows="base").apply(merging(old, new, links=links))
    assert rows(result.table) == [("1", 1, "A", 10), ("2", 2, "B", None), ("3", 3, "3", None)]
    parts = parts_of(result.account.balances[1])
    whole = {"lead to a row of new": 1, "lead to no row of new": 1, "not needed": 1}
    assert parts == whole
    doubled = table("links", old_id=["1", "1"], new_id=["A", "B"])
    with pytest.raises(DataError, match="old_id repeats in links"):
        Merge(
            key=("old_id=new_id",),
        ).apply(merging(old, new, links=doubled))


def test_many_to_many_is_bounded() -> None:
    base, added = table("l", k=["a"] * 30), table("r", k=["a"] * 30, x=list(range(30)))
    with pytest.raises(DataError, match="would make 900 rows"):
        Merge(key=("k",), expect="many-to-many", most_rows=800).apply(merging(base, added))
    assert len(Merge(key=("k",), expect="many-to-many", most_rows=900).apply(merging(base, added)).table) == 900
