"""Changes between deliveries: counted by hand, and a ledger that makes the new one of the old one."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, SettingError, UsageError
from lomrix.core.steps.changes.settings import Changes
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import lomrix, parts_of, reasons, rows, table

SEX = Dictionary({"sex": Variable(label="Sex", codes="sex")}, {"sex": {"1": "female", "2": "male"}})
OLD = table("old", SEX, id=["a", "b", "c", "d"], sex=[1, 2, 1, 2], x=[1.0, 2.0, None, 4.0], s=["u", "v", "w", "x"])


def changes(old: Table, new: Table, **settings: Any) -> Result:
    return Changes(**{"key": "id", **settings}).apply(Inputs(old=old, new=new))


def test_nothing_changed() -> None:
    result = changes(OLD, OLD)
    assert (result.account.summary, result.account.facts["broken"]) == ("old is the same as old.", False)
    assert not len(result.table)


def test_rows_columns_and_cells_by_hand() -> None:
    new = table("new", SEX, id=["b", "a", "d", "e"], sex=[2, 2, 2, 1], x=[2.0, 1.0, None, 9.0], y=[1, 1, 1, 1])
    result = changes(OLD, new)
    account = result.account
    assert [(one.total, parts_of(one)) for one in account.balances] == [
        (4, {"in both": 3, "gone": 1}),
        (4, {"in both": 3, "new": 1}),
        (6, {"as they were": 4, "changed": 2}),
    ]
    assert account.summary == "1 row new, 1 gone, 2 cells changed, 2 columns new or gone, in another order."
    assert account.listings[0].rows == (("sex", 1, 0, "a, 1 → 2"), ("x", 1, 0, "d, 4 → blank"))
    assert [listing.rows for listing in account.listings[1:]] == [((5, "e"),), ((4, "c"),)]
    assert {note.kind: note.count for note in account.notes if not note.done} == {
        "columns-that-are-gone": 1, "columns-that-are-new": 1, "order": 1,
    }  # fmt: skip
    assert rows(result.table) == [
        ("a", "2", "sex", "1", "set", "2", "as in new", None),
        ("d", "5", "x", "4", "missing", "blank", "as in new", None),
        ("c", "4", None, None, "leave-out", None, "not in new", None),
    ]


def test_numbers_that_are_nearly_equal_are_reported_apart() -> None:
    old, new = table(id=[1, 2, 3], x=[1.0, 2.0, 3.0]), table(id=[1, 2, 3], x=[1.0005, 2.1, 3.0])
    assert changes(old, new).account.facts["changed"] == 2
    account = changes(old, new, tolerance="0.001").account
    assert parts_of(account.balances[2]) == {"as they were": 1, "nearly": 1, "changed": 1}
    assert account.listings[0].rows[0][:3] == ("x", 1, 1)
    whole = changes(table(id=[1], x=[2]), table(id=[1], x=[2.0])).account
    assert (whole.facts["changed"], whole.listings[0].rows) == (0, (("x", "type", "integer", "number"),))


def test_a_changed_dictionary_is_a_change() -> None:
    other = Dictionary(
        {"sex": Variable(label="Sex at birth", codes="sex", missing={"-9": "refused"}, maximum=3)},
        {"sex": {"1": "female", "2": "man", "3": "other"}},
    )
    result = changes(OLD, Table(OLD.columns, other, name="new"))
    (listing,) = result.account.listings
    assert listing.rows == (
        ("sex", "label", "Sex", "Sex at birth"),
        ("sex", "missing codes", "", "-9 refused"),
        ("sex", "maximum", "", "3"),
        ("sex", "code 2", "male", "man"),
        ("sex", "code 3", "", "other"),
    )
    assert result.account.facts["broken"]


def test_a_column_without_values_has_no_other_type() -> None:
    account = changes(table(id=[1, 2], x=[None, None]), table(id=[1, 2], x=[None, 5])).account
    assert account.facts["changed"] == 1
    assert [listing.title for listing in account.listings] == ["changed cells"]


def test_the_reason_of_a_missing_cell_counts() -> None:
    old = Table({"id": OLD["id"], "x": Column.of_cells("integer", [1, None, None, 2], "refused")})
    new = Table({"id": OLD["id"], "x": Column.of_cells("integer", [1, None, 3, None], "lost")})
    result = changes(old, new)
    assert [row[3:6] for row in rows(result.table)] == [
        ("refused", "missing", "lost"), ("refused", "set", "3"), ("2", "missing", "lost"),
    ]  # fmt: skip


def test_keys_that_repeat_or_are_missing() -> None:
    with pytest.raises(DataError, match="2 rows of table repeat their key") as stopped:
        changes(OLD, table(id=["a", "a"], x=[1.0, 2.0]))
    assert stopped.value.where == "row 2: a, row 3: a"
    account = changes(table(id=["a", None], x=[1, 2]), table(id=["a"], x=[1])).account
    assert parts_of(account.balances[0]) == {"in both": 1, "without a key": 1}
    with pytest.raises(UsageError, match="No column idd"):
        changes(OLD, OLD, key="idd")
    for settings in ({"key": ""}, {"key": "id", "tolerance": "-1"}, {"key": "id", "tolerance": "x"}):
        with pytest.raises(SettingError):
            Changes(**settings)


CELL = st.one_of(st.none(), st.integers(0, 3))
SIDE = st.dictionaries(st.integers(0, 6), st.tuples(CELL, st.one_of(st.none(), st.sampled_from("abc"))), min_size=1)


def side(cells: dict[int, tuple[int | None, str | None]], reason: str) -> Table:
    return Table(
        {
            "id": Column.of_cells("integer", list(cells)),
            "x": Column.of_cells("integer", [one[0] for one in cells.values()], reason),
            "s": Column.of_cells("string", [one[1] for one in cells.values()], reason),
        }
    )


@given(SIDE, SIDE, st.sampled_from(["refused", "blank"]))
def test_the_ledger_makes_the_new_delivery_of_the_old_one(
    before: dict[int, tuple[int | None, str | None]], after: dict[int, tuple[int | None, str | None]], reason: str
) -> None:
    old, new = side(before, "refused"), side(after, reason)
    result = changes(old, new)
    made = Correct().apply(Inputs(source=old, ledger=result.table)).table
    shared = [case for case in before if case in after]
    assert made["id"].cells() == shared
    for place, name in enumerate(("x", "s")):
        expected = [after[case][place] for case in shared]
        texts = [None if cell is None else str(cell) for cell in expected]
        assert made[name].to_text().to_pylist() == texts
        assert reasons(made[name]) == [reason if cell is None else None for cell in expected]


def test_the_program_shows_changes_by_its_exit_status(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n01,5\n02,6\n03,7\n")
    (tmp_path / "b.csv").write_text("id,x\n01,5\n02,8\n")
    out, _ = lomrix("changes", "a.csv", "b.csv", "--key", "id", "--out", "led.csv", cwd=tmp_path, status=1)
    assert "1 gone, 1 cell changed." in out
    lomrix("correct", "a.csv", "--ledger", "led.csv", "--out", "c.csv", cwd=tmp_path)
    assert (tmp_path / "c.csv").read_text() == "id,x\n01,5\n02,8\n"
    same, _ = lomrix("changes", "c.csv", "b.csv", "--key", "id", cwd=tmp_path)
    assert "b is the same as c." in same
