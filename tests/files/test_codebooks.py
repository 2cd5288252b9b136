"""Codebooks of studies as dictionaries, and what of them is not used."""

from __future__ import annotations

import tomllib
from pathlib import Path

import pytest
import xlsxwriter

from lomrix.files.codebook import parse_codes
from tests.tables import lomrix

CODEBOOK = """name,question,values,type
f1,Trouble falling asleep,"0=never; 1=rarely, at night; -9=refused; -8=not asked",numeric
f2,Wakes at night,"0=never
1=rarely, at night",ordinal
sex,,m: male | f: female,text
sleep,Hours of sleep,,
"""


@pytest.mark.parametrize(
    ("cell", "codes"),
    [
        ("1 = yes", {"1": "yes"}),
        ("1=yes, 2=no", {"1": "yes", "2": "no"}),
        ("1=yes, at once; 2=no, never; 3=x", {"1": "yes, at once", "2": "no, never", "3": "x"}),
        ("a: 8:00\nb: 9:00", {"a": "8:00", "b": "9:00"}),
        (r"1 = a\;b; 2 = c", {"1": "a;b", "2": "c"}),
        ("watch", {}),
        ("0 to 10", {}),
        ("", {}),
    ],
)
def test_the_codes_in_a_cell(cell: str, codes: dict[str, str]) -> None:
    assert parse_codes(cell) == codes


def test_a_codebook_becomes_a_dictionary_in_which_equal_lists_are_one(tmp_path: Path) -> None:
    (tmp_path / "codebook.csv").write_text(CODEBOOK)
    _, error = lomrix("dictionary", "convert", "codebook.csv", "--out", "d.toml", cwd=tmp_path, status=3)
    renames = error.split("--rename ")[1].split(".")[0]
    assert renames == "name=variable,question=label,values=codes"
    options = ("--rename", renames, "--missing-text", "-9,-8", "--out", "d.toml")
    assert "4 variables and 2 lists" in lomrix("dictionary", "convert", "codebook.csv", *options, cwd=tmp_path)[0]
    assert tomllib.loads((tmp_path / "d.toml").read_text()) == {
        "variables": {
            "f1": {"label": "Trouble falling asleep", "type": "number", "codes": "f1",
                   "missing": {"-9": "refused", "-8": "not asked"}},
            "f2": {"label": "Wakes at night", "codes": "f1"},
            "sex": {"type": "string", "codes": "sex"},
            "sleep": {"label": "Hours of sleep"},
        },
        "codes": {"f1": {"0": "never", "1": "rarely, at night"}, "sex": {"m": "male", "f": "female"}},
    }  # fmt: skip


@pytest.mark.parametrize(
    ("line", "where"),
    [
        ("f1,a,1=x;1=y,", "f1: the code 1 is given twice"),
        ("f2,a,,\nf2,b,,", "f2: the variable is listed twice"),
        ("f3,a,see paper,", "f3: there is no list of codes named see paper"),
        (",a,1=x,", "the variable has no name"),
        ("f4,a,,kind", "f4: Input should be 'integer', 'number', 'string', 'date', 'datetime' or 'boolean'"),
    ],
)
def test_an_invalid_row_is_named_and_a_workbook_with_it_is_read_all_the_same(
    line: str, where: str, tmp_path: Path
) -> None:
    rows = [["variable", "label", "codes", "type"], *(row.split(",") for row in line.split("\n"))]
    (tmp_path / "codebook.csv").write_text("\n".join(map(",".join, rows)) + "\n")
    _, error = lomrix("dictionary", "show", "codebook.csv", cwd=tmp_path, status=3)
    assert f"Row {len(rows)} of the variables is not valid.\nwhere  {where}\n" in error
    book = xlsxwriter.Workbook(str(tmp_path / "data.xlsx"))
    for name, cells in (("data", [["f1"], [1]]), ("variables", rows)):
        sheet = book.add_worksheet(name)
        for number, row in enumerate(cells):
            sheet.write_row(number, 0, row)
    book.close()
    shown = lomrix("profile", "data.xlsx", cwd=tmp_path)[0]
    assert f"its worksheet variables is not used as a dictionary: {where}." in shown


def test_a_file_of_data_is_no_codebook(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("name,age\nx,1\n")
    _, error = lomrix("dictionary", "convert", "a.csv", "--out", "d.toml", cwd=tmp_path, status=3)
    assert "it has no column variable" in error
    assert "--rename" not in error


def test_columns_that_a_dictionary_does_not_have_are_noted(tmp_path: Path) -> None:
    (tmp_path / "d.csv").write_text("variable,label,colour,text\nx,First,red,a\n")
    (tmp_path / "x.csv").write_text("x\n1\n")
    note = "columns colour, text are not used; a dictionary has variable, label, type"
    assert note in lomrix("dictionary", "convert", "d.csv", "--out", "d.toml", cwd=tmp_path)[0]
    assert f"! d.csv: {note}" in lomrix("tally", "x.csv", "x", "-d", "d.csv", cwd=tmp_path)[0]


def test_names_that_clash_and_missing_codes_that_no_variable_has(tmp_path: Path) -> None:
    (tmp_path / "d.csv").write_text('variable,name,values\nx,y,"1=a;2=b"\n')
    convert = ("dictionary", "convert", "d.csv", "--out", "d.toml", "--rename")
    assert "Two columns would be named variable." in lomrix(*convert, "name=variable", cwd=tmp_path, status=2)[1]
    shown = lomrix(*convert, "values=codes", "--missing-text", "2,-9", cwd=tmp_path)[0]
    assert "--missing-text -9 had no effect: no variable has that code." in shown
