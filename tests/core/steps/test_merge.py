"""Merge: agreement with a slow obvious version, relationships, overlap, and accounts that balance."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, UnbalancedAccountError
from lomrix.core.steps.account import Balance, Part
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.merge.likely_partners import _find_neighbours, find_near_misses
from lomrix.core.steps.merge.settings import Merge
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from tests.tables import correcting, merging, reasons, rows, table

NUMBERS = st.one_of(st.none(), st.integers(-3, 4), st.sampled_from([10**12, -(10**12)]))
TEXTS = st.one_of(st.none(), st.sampled_from(["A1", "A2", "B1", "a1", "A1 ", "10", "010", "é"]))
SHAPED = st.one_of(st.none(), st.integers(0, 9).map(lambda number: f"K{number:03d}"))


def slow_merge(base: list[Any], added: list[Any], kept: str) -> list[tuple[int | None, int | None]]:
    """The obvious way: for each base row compare it with every added row."""
    pairs: list[tuple[int | None, int | None]] = []
    used = set()
    for row, key in enumerate(base):
        partners = [other for other, theirs in enumerate(added) if None not in key and theirs == key]
        used.update(partners)
        pairs += [(row, other) for other in partners] or ([(row, None)] if kept != "matched" else [])
    if kept == "all":
        pairs += [(None, other) for other in range(len(added)) if other not in used]
    return pairs


KINDS = {"integer": NUMBERS, "string": TEXTS, "shaped": SHAPED}


def keyed(name: str, keys: list[tuple[Any, ...]], kinds: list[str], own: str) -> Table:
    columns = {
        f"k{at}": Column.of_cells("integer" if kind == "integer" else "string", [key[at] for key in keys])
        for at, kind in enumerate(kinds)
    }
    return Table({**columns, own: Column.of_cells("integer", range(len(keys)))}, name=name)


@given(st.data(), st.sampled_from(["all", "matched", "base"]))
def test_agrees_with_the_slow_version(data: st.DataObject, kept: Any) -> None:
    kinds = data.draw(st.lists(st.sampled_from(sorted(KINDS)), min_size=1, max_size=3))
    keys = st.lists(st.tuples(*(KINDS[kind] for kind in kinds)), min_size=1, max_size=12)
    base, added = data.draw(keys), data.draw(keys)
    step = Merge(key=tuple(f"k{at}" for at in range(len(kinds))), expect="many-to-many", rows=kept)
    result = step.apply(merging(keyed("base", base, kinds, "b"), keyed("added", added, kinds, "a")))
    found = list(zip(result.table["b"].cells(), result.table["a"].cells(), strict=True))
    assert found == slow_merge(base, added, kept)
    total = {balance.what: balance.total for balance in result.account.balances}
    assert total["rows of the result"] == len(found)
    cells = [result.table[f"k{at}"].cells() for at in range(len(kinds))]
    assert list(zip(*cells, strict=True)) == [
        base[mine] if mine is not None else added[theirs] for mine, theirs in found
    ]


def test_reasons_follow_and_unmatched_cells_report_so() -> None:
    base = table("roster", crew=["1", "2", "3"], age=[40, None, 29])
    added = table("sleep", crew=["2", "4"], hours=[7.5, 6.0])
    made = Merge(key=("crew",)).apply(merging(base, added)).table
    assert rows(made) == [("1", 40, None), ("2", None, 7.5), ("3", 29, None), ("4", None, 6.0)]
    assert reasons(made["age"]) == [None, "blank", None, "unmatched"]
    assert reasons(made["hours"]) == ["unmatched", None, "unmatched", None]


@pytest.mark.parametrize(
    ("base", "added", "found"),
    [
        (["a", "b"], ["b", "c"], "one-to-one"),
        (["a", "a"], ["a", "c"], "many-to-one"),
        (["a", "b"], ["a", "a"], "one-to-many"),
        (["a", "a", None, None], ["b", None, None], "many-to-one"),
        ([None, None], [None, None], "one-to-one"),
    ],
)
def test_relationship_is_found(base: list[str], added: list[str], found: str) -> None:
    one = Table({"k": Column.of_cells("string", base)})
    two = Table({"k": Column.of_cells("string", added), "x": Column.of_cells("integer", range(len(added)))})
    assert Merge(key=("k",)).apply(merging(one, two)).account.facts["relationship"] == found


def test_many_to_many_is_refused_and_both_sides_are_named() -> None:
    base, added = table("left", k=["a", "a", "b"]), table("right", k=["a", "c", "c"], x=[1, 2, 3])
    with pytest.raises(DataError) as caught:
        Merge(key=("k",)).apply(merging(base, added))
    assert "a (rows 2, 3)" in caught.value.where
    assert "c (rows 3, 4)" in caught.value.where
    assert Merge(key=("k",), expect="many-to-many").apply(merging(base, added)).table["x"].cells() == [1, 1, None, 2, 3]


def test_expectation_is_held() -> None:
    base, added = table("left", k=["a", "a"]), table("right", k=["a"], x=[1])
    with pytest.raises(DataError, match="many-to-one, but expected one-to-one"):
        Merge(key=("k",), expect="one-to-one").apply(merging(base, added))
    Merge(key=("k",), expect="many-to-one").apply(merging(base, added))


def test_integer_and_text_ids_meet_only_without_loss() -> None:
    base, added = table("left", k=[412, 7]), table("right", k=["412", "007"], x=[1, 2])
    result = Merge(key=("k",), rows="base").apply(merging(base, added))
    assert result.table["x"].cells() == [1, None]
    assert any(note.kind == "key-types" for note in result.account.notes)
    numbers = table("left", k=[412.0, 7.5])
    assert Merge(key=("k",), rows="base").apply(merging(numbers, table("r", k=[412, 7], x=[1, 2]))).table[
        "x"
    ].cells() == [1, None]


def test_differing_overlap_stops_and_names_the_cells() -> None:
    base = table("roster", k=["a", "b", "c"], sex=[1, 2, None])
    added = table("wave", k=["a", "b", "c", "d"], sex=[1, 1, 2, 2])
    with pytest.raises(DataError) as caught:
        Merge(key=("k",)).apply(merging(base, added))
    assert caught.value.where == "sex: 1 cell differs: b (row 3) 2 against 1"
    for rule, cells in (("base", [1, 2, None, 2]), ("added", [1, 1, 2, 2]), ("fill", [1, 2, 2, 2])):
        assert Merge(key=("k",), overlap=rule).apply(merging(base, added)).table["sex"].cells() == cells
    both = Merge(key=("k",), overlap="both").apply(merging(base, added)).table
    assert both["sex_from_wave"].cells() == [1, 1, 2, 2]


SIDES = st.lists(
    st.tuples(st.sampled_from("abcd"), st.one_of(st.none(), st.sampled_from(["x", "y"]))), min_size=1, max_size=6
)


@given(
    SIDES,
    SIDES,
    st.sampled_from(["check", "base", "added", "fill", "both"]),
    st.sampled_from(["all", "matched", "base"]),
)
def test_overlap_rules_agree_with_the_obvious_way(base: Any, added: Any, rule: Any, kept: Any) -> None:
    one, two = (
        Table(
            {
                "k": Column.of_cells("string", [k for k, _ in side]),
                "v": Column.of_cells("string", [v for _, v in side]),
            },
            name=name,
        )
        for side, name in ((base, "l"), (added, "r"))
    )
    pairs = slow_merge([(k,) for k, _ in base], [(k,) for k, _ in added], kept)
    mine = [base[row][1] if row is not None else None for row, _ in pairs]
    theirs = [added[row][1] if row is not None else None for _, row in pairs]
    step = Merge(key=("k",), expect="many-to-many", rows=kept, overlap=rule, second_name="{column}2")
    if rule == "check" and any(None not in (a, b) and a != b for a, b in zip(mine, theirs, strict=True)):
        with pytest.raises(DataError):
            step.apply(merging(one, two))
        return
    made = step.apply(merging(one, two)).table
    expected = []
    for (row, other), a, b in zip(pairs, mine, theirs, strict=True):
        whole = {
            "check": a or b,
            "fill": a or b,
            "base": a if row is not None else b,
            "added": b if other is not None else a,
        }
        expected.append(whole.get(rule, a))
    assert made["v"].cells() == expected
    if rule == "both":
        assert made["v2"].cells() == theirs


def test_agreeing_overlap_of_texts_is_one_column() -> None:
    base, added = table("l", k=["a", "b"], ship=["tern", None]), table("r", k=["b", "a"], ship=["gannet", "tern"])
    assert Merge(key=("k",)).apply(merging(base, added)).table["ship"].cells() == ["tern", "gannet"]


def test_status_reports_where_rows_came_from_and_its_name_must_be_free() -> None:
    base, added = table("l", k=["a", "b"]), table("r", k=["b", "c"], x=[1, 2])
    made = Merge(key=("k",), status="source").apply(merging(base, added)).table
    assert made["source"].cells() == [2, 1, 3]
    assert made.dictionary.labels_of("source")["3"] == "only in r"
    with pytest.raises(DataError, match="column x already exists"):
        Merge(key=("k",), status="x").apply(merging(base, added))


def test_differing_cells_become_a_ledger() -> None:
    base, added = table("l", k=["a", "b"], x=[1, 2]), table("r", k=["b", "a"], x=[3, 1])
    with pytest.raises(DataError) as caught:
        Merge(key=("k",)).apply(merging(base, added))
    ledger = caught.value.extras["conflicts"]
    assert isinstance(ledger, Table)
    assert rows(ledger) == [("b", "3", "x", "2", "set", "3", "l and r differ")]
    settled = Correct().apply(correcting(base, ledger)).table
    assert Merge(key=("k",)).apply(merging(settled, added)).table["x"].cells() == [1, 3]


def test_several_files_at_once_keep_the_base_order_and_show_where_rows_came_from() -> None:
    base = table("a", k=["2", "1"])
    result = Merge(key=("k",), status="source").apply(
        merging(base, table("b", k=["1", "3"], x=[1, 3]), table("c", k=["3", "2", "4"], y=[3, 2, 4]))
    )
    assert rows(result.table) == [("2", None, 2, 3), ("1", 1, None, 2), ("3", 3, 3, 4), ("4", None, 4, 7)]
    labels = ["in a and b and c", "in a and b", "in a and c", "in b and c", "only in a", "only in b", "only in c"]
    assert list(result.table.dictionary.labels_of("source").values()) == labels
    assert [part.summary[:1] for part in result.account.parts] == ["b", "c"]
    assert [balance.what for balance in result.account.balances if not balance.quiet].count("distinct keys") == 2


@pytest.mark.parametrize(
    ("mine", "theirs", "cause"),
    [
        ("0417", "0417 ", "spaces"),
        ("Tern", "tern", "case"),
        ("0417", "417", "leading zeros"),
        (" TERN", "tern", "spaces and case"),
        ("Bo\u00a0Li", "Bo Li", "spaces"),
        ("A\u030ase", "\u00c5se", "characters"),
        ("O\u2019Neill\u200b", "o'neill", "case and characters"),
        ("417", "417.0", "a stored number"),
        ("KW-12", "kw12", "a dash or another sign"),
        ("razorbil", "razorbill", "spelling"),
        ("0417", "0418", None),
        ("tern", "fulmar", None),
    ],
)
def test_near_misses_report_what_keeps_keys_apart(mine: str, theirs: str, cause: str | None) -> None:
    found = find_near_misses(pa.array([mine], pa.large_string()), pa.array(["zzz", theirs], pa.large_string()))
    assert (found[mine].partner, found[mine].differs_by) == (theirs, cause) if cause else not found


def test_neighbours_find_what_comparing_all_pairs_finds() -> None:
    keys = ["razorbil", "shaerwater", "gulillemot", "pufin", "nothing"]
    names = ["razorbill", "shearwater", "guillemot", "puffin", "tern"]
    assert {key: found[0] for key, found in _find_neighbours(keys, names).items()} == dict(
        zip(keys[:4], names, strict=False)
    )


def test_keys_that_look_alike_meet_and_cells_that_do_are_told_apart() -> None:
    base = table("l", k=["A\u030ase", "Bo\u00a0Li", "Ann\u200b"], x=["e\u0301", "b", "c"])
    added = table("r", k=["\u00c5se", "Bo Li", "Ann"], x=["\u00e9", "b", "c"])
    step = Merge(key=("k",), tidy_keys=("spaces", "characters"), expect="one-to-one")
    assert rows(step.with_settings(take="k").apply(merging(base, added)).table) == list(rows(base))
    with pytest.raises(DataError) as caught:
        step.apply(merging(base, added))
    assert caught.value.where.endswith("e\u0301 against \u00e9 (they look alike, but have other characters)")


def test_tidied_keys_meet_and_are_counted() -> None:
    base, added = table("l", k=["0417", "b", "C"]), table("r", k=["417 ", "b", "c"], x=[1, 2, 3])
    result = Merge(key=("k",), tidy_keys=("spaces", "case", "zeros")).apply(merging(base, added))
    assert rows(result.table) == [("0417", 1), ("b", 2), ("C", 3)]
    assert {note.kind: note.count for note in result.account.notes}["tidied"] == 2
    with pytest.raises(DataError) as caught:
        Merge(key=("k",), tidy_keys=("zeros",)).apply(merging(table("l", k=["01", "1"]), added))
    assert caught.value.where == '"01" and "1"'


def test_all_unmatched_keys_are_listed_with_their_likely_partner() -> None:
    base, added = table("l", k=["0417", "0417", "x"]), table("r", k=["417", "y"], n=[1, 2])
    found = Merge(key=("k",)).apply(merging(base, added), {"unmatched"}).extras["unmatched"]
    assert rows(found) == [
        ("l", "0417", "2", "2", "417", "leading zeros", "100.0"),
        ("l", "x", "1", "4", None, None, None),
        ("r", "417", "1", "2", "0417", "leading zeros", "100.0"),
        ("r", "y", "1", "3", None, None, None),
    ]


def test_an_account_that_does_not_balance_stops() -> None:
    with pytest.raises(UnbalancedAccountError, match="3 is not 1 kept"):
        Balance("rows", 3, (Part("kept", 1), Part("left out", 1)))
