"""Input that nobody expects gets a plain error or a right result, never a crash."""

from __future__ import annotations

import os
import re
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet
import pytest

from tests.tables import lomrix

PLAIN = "id,x\n1,5\n2,99\n"
AGES = "id,age\n1,20\n2,15 est\n3,31\n"
STRAY = '! b.age: kept as text: 1 of 3 cells is not a number. (row 3 "15 est")\nerror  '
TERMS = " + ".join(["x"] * 1000)
ODD: list[tuple[dict[str, str], list[str], int, str]] = [
    ({}, ["subset", "a.csv", "--encoding", "idna"], 3, "Unknown encoding idna"),
    ({}, ["subset", "a.csv", "--delimiter", "é"], 2, "not a single plain character"),
    ({}, ["subset", "a.csv", "--type", "x=boolean:%d"], 2, "only dates have a form"),
    ({}, ["subset", "a.csv", "--where", f"{TERMS} > 5"], 2, "operations inside each other"),
    ({"l.csv": "row,variable,old,new\n²,x,99,7\n"}, ["correct", "a.csv", "--ledger", "l.csv"], 1, "no row ²"),
    ({"d.csv": "d\n"}, ["export", "d.csv", "--type", "d=date", "--to", "d.dat", "--form", "bare"], 0, "0 rows"),
    ({"b.csv": "id,x\n3,absent\n4,none\n"}, ["subset", "b.csv", "--where", "x == 'none'", "--out", "-"], 0, "4,none"),
    ({"b.csv": "id,x\n3,NA\n4,n/a\n"}, ["aggregate", "b.csv", "--by", "id", "--stat", "x: mean"], 0, "2 groups"),
    (
        {"b.csv": "g,x\nZ,1\na,2\nB,3\n"},
        ["aggregate", "b.csv", "--by", "g", "--out", "-", "--quiet"],
        0,
        "a,1\nB,1\nZ,1",
    ),
    ({}, ["subset", "x" * 300 + ".csv"], 3, "where  File name too long\nnext   Check the path."),
    ({}, ["subset", "a.csv", "--out", "x" * 300 + ".csv"], 3, "where  File name too long\nnext   Check the path."),
    ({"b.csv": AGES}, ["derive", "b.csv", "y = age + 1"], 2, STRAY),
    ({"b.csv": AGES}, ["aggregate", "b.csv", "--by", "id", "--stat", "age: mean"], 2, STRAY),
    ({"b.csv": AGES}, ["derive", "b.csv", "y = age + 1", "--json"], 2, '"kind": "stray-text"'),
    ({}, ["recode", "a.csv", "--map", "x: 99=high"], 0, "! x: was integer and is now text"),
    ({}, ["recode", "a.csv", "--map", "x: 99=high, 5=low"], 0, "2 cells changed in x."),
    ({}, ["recode", "a.csv", "--map", "x: 99=9"], 0, "1 cell changed in x."),
    ({"b.csv": 'id,t\n1,"' + "x" * 20_000_000 + '"\n'}, ["subset", "b.csv"], 3, "larger than 8 MB"),
]


@pytest.mark.parametrize(("files", "words", "status", "expected"), ODD, ids=[" ".join(one[1])[:40] for one in ODD])
def test_what_nobody_expects(
    tmp_path: Path, files: dict[str, str], words: list[str], status: int, expected: str
) -> None:
    for name, text in {"a.csv": PLAIN, **files}.items():
        (tmp_path / name).write_text(text)
    out, err = lomrix(*words, cwd=tmp_path, status=status)
    assert expected in out + err


def test_links_that_lead_in_a_circle(tmp_path: Path) -> None:
    (tmp_path / "one.csv").symlink_to("two.csv")
    (tmp_path / "two.csv").symlink_to("one.csv")
    (tmp_path / "a.csv").write_text(PLAIN)
    for words in (["subset", "one.csv"], ["subset", "a.csv", "--out", "one.csv"]):
        _, err = lomrix(*words, cwd=tmp_path, status=3)
        assert err.startswith("error  A link leads back to itself.\nwhere  ") and "one.csv\nnext" in err


def test_a_foreign_descriptor_that_reports_nonsense(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text(PLAIN)
    field = '{"name":"x","type":"integer","constraints":{"minimum":"abc"}}'
    schema = f'{{"fields":[{{"name":"id","type":"integer"}},{field}]}}'
    (tmp_path / "a.csv.resource.json").write_text(f'{{"name":"a","path":"a.csv","schema":{schema}}}')
    _, err = lomrix("subset", "a.csv", cwd=tmp_path, status=3)
    assert "field x" in err and "move it away" in err


def test_a_file_name_that_is_not_a_text(tmp_path: Path) -> None:
    name = os.fsdecode(b"\xff\xfe.csv")
    (tmp_path / name).write_text(PLAIN)
    out, _ = lomrix("subset", name, cwd=tmp_path)
    assert "2 rows" in out and "\\udcff" in out


def test_decimals_of_more_digits_than_a_number_holds(tmp_path: Path) -> None:
    from decimal import Decimal

    exact = pa.array([Decimal("0.12345678901234567890"), Decimal("1.00000000000000000000")])
    plain = pa.array([Decimal("0.50000000000000000000"), Decimal("1.25000000000000000000")])
    pyarrow.parquet.write_table(pa.table({"x": exact, "y": plain}), tmp_path / "a.parquet")
    out, _ = lomrix("subset", "a.parquet", "--out", "-", cwd=tmp_path)
    assert out.splitlines()[1] == "0.12345678901234567890,0.5"


def test_an_error_is_broken_between_words_in_a_window_and_nowhere_else(tmp_path: Path) -> None:
    names = [f"column_number_{number}" for number in range(9)]
    (tmp_path / "wide.csv").write_text(",".join(names) + "\n" + ",".join("1" * 9) + "\n")
    _, window = lomrix("subset", "wide.csv", "--columns", "zz", cwd=tmp_path, status=2, width=50, terminal=True)
    _, piped = lomrix("subset", "wide.csv", "--columns", "zz", cwd=tmp_path, status=2, width=50)
    assert piped == f"error  No column zz in wide.\nnext   Its columns are {', '.join(names)}.\n"
    plain = re.sub(r"\x1b\[[0-9;]*m", "", window)
    assert plain.split() == piped.split() and max(map(len, plain.splitlines())) <= 50
