"""Keys of a merge: called differently, led by links, in the way of other columns, or too few."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from lomrix.core.arrays.nearest import find_nearest_once
from lomrix.core.errors import DataError, LomrixError, UsageError
from lomrix.core.steps.merge.settings import Merge
from lomrix.core.steps.step import Inputs
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import lomrix, merging, parts_of, rows, table

CABINS = table("a", cabin=["h1", "h2"], kg=[5, 6])
COUNTS = table("b", code=["h2", "h3"], cabin=["other", "third"], berths=[20, 30])


def test_a_column_called_as_the_base_key_is_an_overlap() -> None:
    with pytest.raises(DataError, match="do not agree") as stopped:
        Merge(key="cabin=code").apply(merging(CABINS, COUNTS))
    assert "h2 (row 3) h2 against other" in stopped.value.where
    made = Merge(key="cabin=code", overlap="base").apply(merging(CABINS, COUNTS)).table
    assert rows(made) == [("h1", 5, None), ("h2", 6, 20), ("h3", None, 30)]
    made = Merge(key="cabin=code", overlap="both").apply(merging(CABINS, COUNTS)).table
    assert rows(made) == [("h1", 5, None, None), ("h2", 6, "other", 20), ("h3", None, "third", 30)]
    assert made.names == ["cabin", "kg", "cabin_from_b", "berths"]
    made = Merge(key="cabin=code", overlap="added").apply(merging(CABINS, COUNTS)).table
    assert [row[0] for row in rows(made)] == ["h1", "other", "third"]


def test_keys_of_one_file_alone() -> None:
    step = Merge(key=["id", "c.csv:id=person"])
    made = step.apply(merging(table("a", id=[1, 2]), table("b", id=[1], x=[10]), table("c", person=[2], y=[20])))
    assert rows(made.table) == [(1, 10, None), (2, None, 20)]
    with pytest.raises(UsageError, match="no added file"):
        Merge(key=["id", "z.csv:id=person"]).apply(merging(table("a", id=[1]), table("b", id=[1])))


def test_a_choice_need_not_fit_every_added_file(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id\n1\n2\n")
    (tmp_path / "b.csv").write_text("id,x,y\n1,10,11\n")
    (tmp_path / "c.csv").write_text("id,z\n2,20\n")
    words = ("merge", "a.csv", "b.csv", "c.csv", "--key", "id", "--take")
    out, _ = lomrix(*words, "x,z", "--out", "-", "--quiet", cwd=tmp_path)
    assert out == "id,x,z\n1,10,\n2,,20\n"
    lomrix(*words, "x,w", cwd=tmp_path, status=2)


FURTHER: list[tuple[dict[str, list[Any]], dict[str, list[Any]], str]] = [
    ({"id": [1, 1], "month": [0, 6]}, {"id": [1, 1], "month": [0, 6]}, "With month the keys would be one-to-one"),
    ({"id": [1, 1], "month": [0, 6]}, {"id": [1, 1], "month": [6, 6]}, "With month the keys would be one-to-many"),
    ({"id": [1, 1], "month": [0, 0]}, {"id": [1, 1], "day": [6, 6]}, "Correct the repeated keys"),
]


@pytest.mark.parametrize(("one", "two", "words"), FURTHER)
def test_many_to_many_keys_are_reported_what_else_to_name(one: dict[str, Any], two: dict[str, Any], words: str) -> None:
    with pytest.raises(DataError) as stopped:
        Merge(key="id").apply(merging(table("a", **one), table("b", **two)))
    assert stopped.value.todo.startswith(words)


def through(key: str, base: Table, links: Table, added: Table) -> Any:
    return Merge(key=key).apply(Inputs(base=base, added=[added], links=links))


def test_ids_that_did_not_change_need_no_link() -> None:
    links = table("l", old=["1", "7", "3"], new=["9", "4", None])
    base = table("a", old=["1", "2", "3", "4"], x=[1, 2, 3, 4])
    made = through("old=new", base, links, table("b", new=["9", "2", "3", "4"], y=[10, 20, 30, 40]))
    # 4 is the new id of 7, so that the old 4 is somebody else.
    assert rows(made.table)[:4] == [("1", 1, "9", 10), ("2", 2, "2", 20), ("3", 3, "3", 30), ("4", 4, None, None)]
    assert [note.count for note in made.account.notes if note.kind == "clash"] == [1]
    assert parts_of(made.account.parts[0].balances[0]) == {
        "with the new id": 1,
        "with their own id": 2,
        "without an id": 1,
    }


def test_the_file_of_unmatched_keys_can_be_returned_as_links(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("name,x\nrazorbill,1\ntern,2\n")
    (tmp_path / "b.csv").write_text("name,y\nrazorbil,10\ntern,20\n")
    words = ("merge", "a.csv", "b.csv", "--key", "name")
    lomrix(*words, "--unmatched", "u.csv", cwd=tmp_path)
    out, _ = lomrix(*words, "--through", "u.csv", "--out", "-", "--quiet", cwd=tmp_path)
    assert out == "name,x,y\nrazorbil,1,10\ntern,2,20\n"


def test_labels_of_both_files_are_kept_or_refused() -> None:
    def coded(name: str, value: int, **labels: str) -> Table:
        known = Dictionary({"x": Variable(codes="x")}, {"x": {key[1:]: label for key, label in labels.items()}})
        return table(name, id=[value], x=[value], dictionary=known)

    one = coded("a", 4, _4="four", _9="nine")
    made = Merge(key="id").apply(merging(one, coded("b", 6, _9="nine", _6="six"))).table
    assert made.dictionary.labels_of("x") == {"4": "four", "9": "nine", "6": "six"}
    with pytest.raises(LomrixError, match="different labels"):
        Merge(key="id").apply(merging(one, coded("b", 6, _9="neun")))
    assert Merge(key="id", other_labels="first").apply(merging(one, coded("b", 6, _9="neun"))).table.names == [
        "id",
        "x",
    ]


def test_a_status_has_the_same_codes_whatever_the_data_are() -> None:
    def status(added: list[str]) -> Any:
        step = Merge(key="k", status="s")
        return step.apply(merging(table("a", k=["1", "2"]), table("b", k=added), table("c", k=["2"]))).table

    both, one = status(["1", "2", "3"]), status(["1"])
    assert both.dictionary.labels_of("s") == one.dictionary.labels_of("s")
    assert (both["s"].cells(), one["s"].cells()) == ([2, 1, 6], [2, 3])
    with pytest.raises(UsageError, match="at most 62 files"):
        Merge(key="k", status="s").apply(merging(*[table(f"t{at}", k=["1"]) for at in range(64)]))


def test_columns_that_nearness_compares_are_both_kept() -> None:
    step = Merge(key="id", near="day", within="3")
    made = step.apply(merging(table("a", id=[1], day=[10]), table("b", id=[1], day=[12]))).table
    assert (made.names, rows(made)) == (["id", "day", "day_from_b", "day_distance"], [(1, 10, 12, 2)])


@given(st.lists(st.integers(0, 60), max_size=6, unique=True), st.lists(st.integers(0, 60), max_size=6, unique=True))
def test_each_partner_is_used_once_nearest_pairs_first(mine: list[int], theirs: list[int]) -> None:
    one, two = np.array(mine) ** 2 + 0.1, np.array(theirs) ** 2 + 0.0
    pairs = sorted((abs(a - b), i, j) for i, a in enumerate(one.tolist()) for j, b in enumerate(two.tolist()))
    near = [pair for pair in pairs if pair[0] <= 900]
    assume(len({pair[0] for pair in near}) == len(near))
    wanted = np.full(len(one), -1)
    for _, i, j in near:
        if wanted[i] < 0 and j not in wanted:
            wanted[i] = j
    keys = np.zeros(len(one), np.int64), np.zeros(len(two), np.int64)
    assert find_nearest_once(keys[0], one, keys[1], two, 900, "either", "before").tolist() == wanted.tolist()


def test_a_row_whose_partner_went_to_a_nearer_one_takes_the_next() -> None:
    step = Merge(key="id", near="t=u", within="10", once=True, rows="base")
    base, added = table("a", id=[1, 1, 1], t=[10, 11, 30]), table("b", id=[1, 1], u=[11, 15])
    made = step.apply(merging(base, added))
    assert made.table["u"].cells() == [15, 11, None]
    assert "1 row took the next nearest, 0 rows stayed" in next(
        n.text for n in made.account.notes if n.kind == "near-lost"
    )
