"""From a check's findings to a draft of a ledger, and from the filled ledger back."""

from __future__ import annotations

import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from lomrix.core.errors import DataError
from lomrix.core.steps.correct.settings import Correct
from lomrix.core.steps.step import Inputs
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.tables import column, correcting, lomrix, parts_of, reasons, table

CREW = "id,age,town,x\n01,34,a,5\n02,15 est,b ,-9\n3,lost,c,7\n3,200,d,8\n05,40,e,6\n" + "".join(
    f"{at},40,e,6\n" for at in range(10, 60)
)


def test_the_draft_fills_in_what_is_obvious(tmp_path: Path) -> None:
    (tmp_path / "crew.csv").write_text(CREW)
    (tmp_path / "d.toml").write_text('[variables.age]\nmaximum = 120\n[rules]\nadult = "age >= 16"\n')
    words = ("check", "crew.csv", "--key", "id", "-d", "d.toml", "--draft-ledger", "l.csv")
    out, _ = lomrix(*words, cwd=tmp_path, status=1)
    # The rule and the limit are judged wherever there is a number, whatever else is in the column.
    assert "out-of-range" in out and "missing-code" in out
    entries = [line.split(",")[1:6] for line in (tmp_path / "l.csv").read_text().splitlines()[1:]]
    assert sorted(entries) == [
        ["3", "age", "15 est", "note", "15"],
        ["3", "town", "b ", "set", "b"],
        ["3", "x", "-9", "set", ""],
        ["4", "age", "lost", "missing", "lost"],
        ["4", "id", "3", "set", "03"],
        ["5", "age", "200", "set", ""],
        ["5", "id", "3", "leave-out", ""],
    ]
    output, _ = lomrix("correct", "crew.csv", "--ledger", "l.csv", "--out", "o.csv", cwd=tmp_path)
    assert "5 of 7 corrections applied" in output and "2 left open" in output
    assert (tmp_path / "o.csv").read_text().splitlines()[1:4] == ["01,34,a,5,", "02,15,b,-9,age: 15 est", "03,,c,7,"]


def test_a_rule_that_cannot_be_judged_is_a_finding(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,town\n1,a\n2,b\n")
    (tmp_path / "d.toml").write_text('[rules]\nadult = "town >= 16"\n')
    out, _ = lomrix("check", "a.csv", "-d", "d.toml", cwd=tmp_path, status=1)
    assert "adult" in out and "cannot be checked" in out


def test_a_stated_type_that_a_cell_does_not_fit_is_a_finding(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,born\n1,03/05/2024\n2,4 May 2024\n3,30/12/2023\n")
    out, _ = lomrix("check", "a.csv", "--type", "born=date:%d/%m/%Y", cwd=tmp_path, status=1)
    assert "1 rule broken" in out and 'row 3 "4 May 2024"' in out and "row 2" not in out.split("look at")[0]
    lomrix("check", "a.csv", "--type", "born=date:%d/%m/%Y|%d %b %Y", cwd=tmp_path)


ENTRIES: list[tuple[dict[str, Any], str]] = [
    ({"row": "", "variable": "x", "old": "99", "new": "7"}, "neither key nor row"),
    ({"id": "A", "row": "3", "variable": "x", "old": "1", "new": "7"}, "row 3 has another key"),
    ({"id": "A", "row": "2", "variable": "x", "old": "1", "new": "7"}, ""),
    ({"id": "A", "row": "", "variable": "x", "old": "1", "new": "7"}, "the key repeats"),
    ({"id": "E", "row": "3", "variable": "zz", "old": "1", "action": "leave-out", "new": ""}, "no variable zz"),
    ({"id": "E", "row": "3", "variable": "x", "old": "2", "action": "leave-out", "new": ""}, 'holds "1", not "2"'),
    ({"id": "E", "row": "3", "variable": "", "old": "", "action": "leave-out", "new": ""}, ""),
    ({"id": "E", "row": "3", "variable": "y", "old": "", "action": "note", "new": ""}, "nothing to note"),
]


@pytest.mark.parametrize(("entry", "cause"), ENTRIES)
def test_an_entry_is_applied_to_its_own_cell_or_refused(entry: dict[str, Any], cause: str) -> None:
    source = table(id=["A", "E", "A"], x=[1, 1, 5], y=["b", None, "c"])
    ledger = Table({name: column([cell or None]) for name, cell in entry.items()})
    if not cause:
        assert Correct().apply(correcting(source, ledger)).account.facts["changed"] in ({"x": 1}, {})
        return
    with pytest.raises(DataError) as stopped:
        Correct().apply(correcting(source, ledger))
    assert cause in stopped.value.where


@pytest.mark.parametrize("row", ["0", "2", "9" * 23, "-1", "x"])
def test_a_table_without_rows_has_no_row_of_that_number(row: str) -> None:
    lines = Table(
        {name: column([cell]) for name, cell in (("row", row), ("variable", "x"), ("old", "1"), ("new", "2"))}
    )
    with pytest.raises(DataError) as stopped:
        Correct().apply(correcting(Table({"x": Column.of_cells("integer", [])}), lines))
    assert f"there is no row {row}" in stopped.value.where


def test_long_lists_of_corrections_report_how_many_follow(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n" + "".join(f"{at},1\n" for at in range(54)))
    (tmp_path / "l.csv").write_text("id,variable,old,new\n" + "".join(f"{at},x,1,2\n" for at in range(54)))
    words = ("correct", "a.csv", "--ledger", "l.csv")
    out, _ = lomrix(*words, cwd=tmp_path)
    assert "the first 30 of 54; --list all shows them all" in out and out.count('"1"') == 30
    assert lomrix(*words, "--list", "all", cwd=tmp_path)[0].count('"1"') == 54


def test_a_dictionary_keeps_its_rules_and_odd_characters_as_sheets(tmp_path: Path) -> None:
    text = '[variables.x]\nmissing = { "-9" = "ill; at home", "a=b" = "odd" }\nallowed = ["1;2", "3"]\n'
    text += '\n[rules]\nadult = "x >= 16"\n'
    (tmp_path / "d.toml").write_text(text)
    for form in ("xlsx", "csv"):
        lomrix("dictionary", "convert", "d.toml", "--out", f"e.{form}", cwd=tmp_path)
        lomrix("dictionary", "convert", f"e.{form}", "--out", "f.toml", "--overwrite", cwd=tmp_path)
        assert (tmp_path / "f.toml").read_text() == text.replace('"-9"', "-9")


def test_a_draft_keeps_what_the_file_reports_and_proposes_missing_codes(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,sex,x\n1,1,5\n2,2,-9\n3,1,7\n4,2,8\n")
    (tmp_path / "d.toml").write_text(
        '[variables.sex]\nlabel = "Sex"\ncodes = "sex"\n[codes.sex]\n1 = "man"\n2 = "woman"\n'
    )
    lomrix("subset", "a.csv", "-d", "d.toml", "--out", "b.csv", cwd=tmp_path)
    out, _ = lomrix("dictionary", "draft", "b.csv", cwd=tmp_path)
    assert '[variables.sex]\nlabel = "Sex"\n' in out and '[codes.sex]\n1 = "man"\n2 = "woman"\n' in out
    assert '# missing = { -9 = "not given" }' in out
    assert "-9 is far from" in lomrix("profile", "a.csv", cwd=tmp_path)[0]


def test_limits_of_a_draft_leave_missing_codes_out() -> None:
    from lomrix.core.steps.dictionary.draft import draft_variables

    found = draft_variables(table(x=[5, 6, -9, 8], y=[1, 2, 3, 4]), Dictionary({"y": Variable(label="known")}))
    assert [(one.name, one.span, one.codes) for one in found] == [("x", ("5", "8"), (-9,))]


def test_a_library_that_many_include_is_read_once(tmp_path: Path) -> None:
    for at in range(24):
        include = f'include = ["d{at + 1}.toml", "d{at + 1}.toml"]\n'
        (tmp_path / f"d{at}.toml").write_text(include + f'[variables.v{at}]\nlabel = "{at}"\n')
    (tmp_path / "d24.toml").write_text('[variables.x]\nlabel = "the last"\n')
    out, _ = lomrix("dictionary", "show", "d0.toml", cwd=tmp_path)
    assert "25 variables" in out and "the last" in out


def test_a_column_is_again_what_the_dictionary_states() -> None:
    known = Dictionary({"crp": Variable(type="number"), "day": Variable(type="date", form="%d/%m/%Y")})
    source = table(
        "t", known, id=[1, 2, 3, 4], crp=["12", "<50", "n/a", "1.50"], day=["05/03/2024", "bad", None, "6/3/2024"]
    )
    lines = table("l", id=["2", "2"], variable=["crp", "day"], old=["<50", "bad"], new=["50", "08/03/2024"])
    result = Correct().apply(Inputs(source=source, ledger=lines))
    assert result.table["crp"].cells() == [12.0, 50.0, None, 1.5]
    assert reasons(result.table["crp"])[2] == "n/a"
    assert result.table["day"].cells() == [datetime.date(2024, 3, day) for day in (5, 8)] + [
        None,
        datetime.date(2024, 3, 6),
    ]
    assert result.retyped == ("crp", "day")


def test_what_becomes_another_text_in_the_column_is_reported() -> None:
    source = table("t", id=[1, 2], x=[5, 6], d=[datetime.date(2024, 1, 5), datetime.date(2024, 1, 6)])
    lines = table("l", id=["1", "2"], variable=["x", "d"], old=["5", "2024-01-06"], new=["7", "2024-01-06T10:00"])
    source = Table(
        {**source.columns, "x": Column.of("integer", np.array([5, 6]))}, Dictionary({"x": Variable(type="integer")})
    )
    lines = Table({**lines.columns, "new": column(["007", "2024-01-06T10:00"])})
    result = Correct().apply(Inputs(source=source, ledger=lines))
    assert result.table["x"].cells() == [7, 6]
    assert result.table["d"].cells()[1] == datetime.datetime(2024, 1, 6, 10)
    assert result.account.listings[0].rows[0][-1] == '"7"'
    (note,) = [note for note in result.account.notes if note.kind == "rewritten"]
    assert 'holds "007" as 7' in note.text
    missing = Table({"id": column([1]), "x": Column.all_missing("integer", 1, "n/r")})
    same = table("l", id=["1"], variable=["x"], old=["n/r"], new=["n/r"])
    account = Correct().apply(Inputs(source=missing, ledger=same)).account
    assert parts_of(account.balances[0])["already so"] == 1


# Cells of a column of text, of which some are refused; corrections of rows; and what the column becomes.
COLUMNS: list[tuple[list[str], dict[int, tuple[str, str]], list[Any]]] = [
    (["1.50", "2", "x"], {2: ("set", "3")}, ["1.50", "2", "3"]),  # would be 1.5 as a number
    (["7", "x", "9"], {1: ("set", "8"), 0: ("missing", "lost")}, [None, 8, 9]),
    (["7", "x"], {0: ("missing", "lost"), 1: ("missing", "lost")}, [None, None]),  # no value is left
    (["7", "n/a", "x"], {2: ("set", "8.5")}, [7.0, None, 8.5]),
    (["true", "x"], {1: ("set", "false")}, [True, False]),
    (["2024-01-05 10:00:00", "x"], {1: ("set", "y")}, ["2024-01-05 10:00:00", "y"]),
]


@pytest.mark.parametrize(("cells", "changes", "expected"), COLUMNS)
def test_a_column_becomes_what_all_its_cells_are_written_as(
    cells: list[str], changes: dict[int, tuple[str, str]], expected: list[Any]
) -> None:
    text = Column.of_cells("string", [*cells, "?"]).with_missing(np.arange(len(cells) + 1) == len(cells), "refused")
    rows = [(str(row + 2), "x", cells[row], action, new) for row, (action, new) in changes.items()]
    entries = {head: column(list(part)) for head, part in
               zip(("row", "variable", "old", "action", "new"), zip(*rows, strict=True), strict=True)}  # fmt: skip
    made = Correct().apply(correcting(Table({"x": text}), Table(entries))).table["x"]
    assert made.cells() == [*expected, None]
    assert reasons(made)[-1] == "refused"
    assert made.type == ("string" if not any(expected) else Column.of_cells(made.type, expected).type)


@pytest.mark.parametrize(("new", "type_"), [("62", "integer"), ("62.25", "number"), (None, "integer"), ("x", "string")])
def test_decimals_become_integers_once_the_last_one_is_corrected(new: str | None, type_: str) -> None:
    source = table("t", id=[1, 2, 3], x=[60.0, 61.5, None], y=[1.0, 2.0, 3.0])
    action = "set" if new else "missing"
    lines = table("l", id=["2", "1"], variable=["x", "y"], old=["61.5", "1"], new=[new or "lost", "5"],
                  action=[action, "set"])  # fmt: skip
    made = Correct().apply(correcting(source, lines)).table
    assert (made["x"].type, made["y"].type) == (type_, "number")
    assert made["x"].to_text().to_pylist() == ["60", new, None]
