"""One row per key, samples and sorting: against slow obvious versions, and what is refused."""

from __future__ import annotations

import datetime
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.step import Result
from lomrix.core.steps.subset.choice import draw
from lomrix.core.steps.subset.settings import Subset
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, parts_of, rows, sources, table

DAYS = {number: datetime.date(2024, 3, number) for number in range(1, 10)}
VISITS = table(
    "visits", id=["a", "a", "a", "b", "b", None, "c"], wave=[1, 1, 2, 1, 1, 1, 1],
    day=[DAYS[5], DAYS[7], DAYS[9], DAYS[2], DAYS[1], DAYS[3], None], x=[1, 2, 3, 4, 5, 6, 7],
)  # fmt: skip


def run(source: Table, **settings: Any) -> Result:
    return Subset(**settings).apply(sources(source), ["left_out"] if {"one_per", "sample"} & set(settings) else [])


@pytest.mark.parametrize(("where", "noted"), [("x <= 2", 1), ("x <= 2 and x != -9", 0), ("id != 'a'", 0)])
def test_likely_missing_codes_in_a_condition_are_noted(where: str, noted: int) -> None:
    notes = run(table(id=["a", "b", "c", "d"], x=[1, 2, -9, 3]), where=where).account.notes
    assert [note.count for note in notes if note.kind == "missing-code"] == [1] * noted


@pytest.mark.parametrize(
    ("pick", "kept"),
    [("first", [1, 3, 4, 6, 7]), ("last", [2, 3, 5, 6, 7]), ("latest:day", [2, 3, 4, 6, 7]),
     ("earliest:day", [1, 3, 5, 6, 7]), ("latest:x", [2, 3, 5, 6, 7])],
)  # fmt: skip
def test_one_row_for_each_key(pick: str, kept: list[int]) -> None:
    result = run(VISITS, one_per="id,wave", pick=pick)
    assert result.table["x"].cells() == kept
    assert parts_of(result.account.balances[0]) == {
        "kept": 4, "key missing": 1, "not picked, left out": 2
    }  # fmt: skip
    left_out = result.extras["left_out"]
    assert sorted(left_out["x"].cells()) == sorted({*range(1, 8)} - {*kept})
    assert [row - 1 for row in left_out["left_out_row"].cells()] == left_out["x"].cells()


def test_all_choices_together_balance() -> None:
    result = run(VISITS, where="x != 4", one_per="id", pick="first", sample=2, seed=4)
    assert parts_of(result.account.balances[0]) == {
        "kept": 2, "condition false, left out": 1, "not picked, left out": 2, "not drawn, left out": 2
    }  # fmt: skip
    nothing = run(VISITS.take(np.zeros(0, np.int64)), one_per="id", pick="latest:day", sample=2, sort_by="-day")
    assert len(nothing.table) == 0


def test_equal_or_missing_dates_stop_unless_the_order_decides() -> None:
    equal = table("t", id=["a", "a", "b", "b"], day=[DAYS[5], DAYS[5], DAYS[1], None], x=[1, 2, 3, 4])
    with pytest.raises(DataError) as stopped:
        run(equal, one_per="id", pick="latest:day")
    assert stopped.value.where == "a (rows 2, 3: equal); b (rows 4, 5: day missing)"
    assert run(equal, one_per="id", pick="latest:day", ties="first").table["x"].cells() == [1, 3]
    assert run(equal, one_per="id", pick="latest:day", ties="last").table["x"].cells() == [2, 3]
    both_missing = table("t", id=["a", "a"], day=[None, DAYS[1]], x=[1, 2]).take(np.array([0, 0]))
    assert len(run(both_missing, one_per="id", pick="latest:day", ties="last").table) == 1
    with pytest.raises(UsageError, match="earliest and latest need dates"):
        run(equal, one_per="day", pick="latest:id")


CELLS = st.lists(st.tuples(st.sampled_from([None, "a", "b"]), st.sampled_from([None, 1, 2]), st.integers(1, 4)),
                 min_size=1, max_size=12)  # fmt: skip


@given(CELLS, st.sampled_from(["first", "last", "latest:y", "earliest:y"]), st.sampled_from(["first", "last"]))
def test_one_per_agrees_with_the_obvious_way(cells: list[tuple[Any, Any, int]], pick: str, ties: str) -> None:
    word, name = pick.partition(":")[::2]
    best: dict[Any, int] = {}
    for row, (key, y, _) in enumerate(cells):
        if key is None or key not in best:
            best[row if key is None else key] = row
            continue
        old = cells[best[key]][1]
        better = {"first": False, "last": True}.get(word)
        if better is None:
            sign = 1 if word == "latest" else -1
            rank = (-np.inf if y is None else sign * y, -np.inf if old is None else sign * old)
            better = rank[0] > rank[1] or (rank[0] == rank[1] and ties == "last")
        best[key] = row if better else best[key]
    source = table("t", k=["z", *(key for key, _, _ in cells)], y=[0, *(y for _, y, _ in cells)],
                   row=range(-1, len(cells)))  # fmt: skip
    settings = {"ties": ties} if name else {}
    made = run(source, one_per="k", pick=pick, **settings).table["row"].cells()
    assert made == [-1, *sorted(best.values())]


@given(CELLS, st.lists(st.sampled_from(["k", "-k", "y", "-y", "n", "-n"]), min_size=1, max_size=3,
                       unique_by=lambda word: word.strip("-")))  # fmt: skip
def test_sorting_agrees_with_the_obvious_way(cells: list[tuple[Any, Any, int]], words: list[str]) -> None:
    values = {"k": [key for key, _, _ in cells], "y": [y for _, y, _ in cells], "n": [n for _, _, n in cells]}
    order = list(range(len(cells)))
    for word in reversed(words):  # the least important first; Python's sort is stable
        name, is_descending = word.strip("-"), word.startswith("-")
        present = [row for row in order if values[name][row] is not None]
        present.sort(key=lambda row, name=name: values[name][row], reverse=is_descending)  # type: ignore[misc]
        if is_descending:  # reversed keeps equal rows in order too
            present = [row for value in dict.fromkeys(values[name][row] for row in present)
                       for row in order if values[name][row] == value]  # fmt: skip
        order = present + [row for row in order if values[name][row] is None]
    kinds = {"k": "string", "y": "integer", "n": "integer"}
    filled = {name: column([{"string": "z", "integer": 9}[kinds[name]], *cells]).take(np.arange(1, len(cells) + 1))
              for name, cells in values.items()}  # fmt: skip
    made = run(Table({**filled, "row": column(list(range(len(cells))))}), sort_by=words)
    assert made.table["row"].cells() == order


def test_codes_and_ids_have_their_own_order() -> None:
    known = Dictionary({"watch": Variable(codes="w")}, {"w": {"night": "Night", "day": "Day"}})
    source = table("t", known, id=["K12", "K3", "K3", "K1"], watch=["day", "split", "night", None], x=[1, 2, 3, 4])
    assert run(source, sort_by="id").table["x"].cells() == [4, 2, 3, 1]
    result = run(source, sort_by="watch")
    assert result.table["x"].cells() == [3, 1, 2, 4]
    assert [(note.column, note.count) for note in result.account.notes] == [("watch", 1)]
    assert run(source, sort_by="-watch,-id").table["x"].cells() == [2, 1, 3, 4]


def test_a_sample_takes_whole_cases_and_so_many_of_each_group() -> None:
    long = table("t", id=[f"p{row // 3:02}" for row in range(60)], sex=[1 + row // 30 for row in range(60)],
                 x=list(range(60)))  # fmt: skip
    result = run(long, sample=4, sample_by="sex", case="id", seed=7)
    drawn = result.table["id"].cells()
    assert [drawn.count(name) for name in dict.fromkeys(drawn)] == [3] * 8
    assert result.table["sex"].cells() == [1] * 12 + [2] * 12
    # Neither the order of the rows nor another row changes who is drawn.
    turned = run(long.take(np.arange(60)[::-1]), sample=4, sample_by="sex", case="id", seed=7)
    assert set(turned.table["id"].cells()) == set(drawn)
    assert set(run(long, sample=4, sample_by="sex", case="id", seed=8).table["id"].cells()) != set(drawn)
    few = run(long, sample=30, sample_by="sex", case="id")
    assert len(few.table) == 60 and "small-sample" in [note.kind for note in few.account.notes]
    with pytest.raises(DataError, match="x varies within 20 cases"):
        run(long, sample=2, sample_by="x", case="id")


def test_a_seed_draws_the_same_on_every_machine() -> None:
    # From the stream of PCG64, which does not change between versions and machines.
    assert np.flatnonzero(draw(np.zeros(20, np.int64), 5, 1)).tolist() == [2, 9, 16, 18, 19]
    assert not draw(np.full(3, -1, np.int64), 5, 1).any()


@pytest.mark.parametrize(
    ("settings", "setting"),
    [({"one_per": "id"}, "one_per"), ({"sort_by": "x,-x"}, "sort_by"), ({"pick": "first"}, "pick"),
     ({"seed": 3}, "seed"),
     ({"sample_by": "x"}, "sample_by"), ({"one_per": "id", "pick": "first", "ties": "last"}, "ties"),
     ({"one_per": "id", "pick": "newest"}, "pick"), ({"one_per": "id", "pick": "latest:"}, "pick"),
     ({"sample": -1}, "sample")],
)  # fmt: skip
def test_settings_without_effect_are_refused(settings: dict[str, Any], setting: str) -> None:
    with pytest.raises(UsageError) as stopped:
        Subset(**settings)
    assert stopped.value.setting == setting


def test_left_out_rows_need_a_cause() -> None:
    with pytest.raises(UsageError, match="No row is left out"):
        Subset(columns="id").apply(sources(VISITS), ["left_out"])
    result = Subset(where="x > 2", columns="id,x").apply(sources(VISITS), ["left_out"])
    assert rows(result.extras["left_out"]) == [(2, "condition false", "a", 1), (3, "condition false", "a", 2)]


def test_every_second_of_a_numbered_run() -> None:
    types = dict.fromkeys([f"q{number}" for number in range(1, 14)], "integer")
    assert choose_columns("q1..q13/4", types) == ["q1", "q5", "q9", "q13"]
    with pytest.raises(UsageError, match="No column q15"):
        choose_columns("q1..q17/2", types)
