"""Where a table begins and ends in a sheet or a text, and what is said of the rest."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Any

import pytest
import xlsxwriter

from lomrix.core.errors import FileError, LomrixError
from lomrix.files.header_rows import guess_header
from lomrix.files.interface import ReadResult
from lomrix.files.reading import ReadingOptions, ReadSettings
from lomrix.files.registry import open_source
from tests.tables import lomrix, rows

HEADERS: list[tuple[list[list[Any]], int]] = [
    ([["id", "x"], [1, 5], [2, 6, "a remark"], [3, 7]], 0),
    ([[None, "id", "x"], [1, 11, 5], [2, 12, 6]], 0),
    ([["id", "2024-01-01", "2024-02-01"], [1, 2, 3], [2, 4, 6]], 0),
    ([["id", 1990, 1991], [1, 2, 3], [2, 4, 6]], 0),
    ([["Watches"], [], ["crew", 1990, 1991], ["A", 2, 3], ["B", 4, 6]], 2),
    ([["Exported", "2024-05-03"], ["id", "x", "y"], [1, 2, 3], [2, 2, 3]], 1),
    ([["", "Spring", "", "Autumn"], ["crew", "nap", "mood", "nap"], ["A", 1, 2, 3], ["B", 1, 2, 3]], 1),
    ([["one title"], ["name", "town", "ship"], ["Ann", "Bergen", "Tern"], ["Bo", "Oslo", "Gull"]], 1),
    # Rows that are all alike have no second header among them.
    ([["id"], ["1", "2", "3"], ["4", "5", "6"]], 0),
    ([["id", "x", "y", "z"], ["1", "2", "", ""], ["3", "", "", "4"]], 0),
    ([[], ["id", "x"], ["1", "2"]], 1),
    ([["id"], ["1"], ["2"]], 0),
]


@pytest.mark.parametrize(("found", "header"), HEADERS)
def test_the_header_is_not_a_title_line_and_no_data(found: list[list[Any]], header: int) -> None:
    assert guess_header(found) == header


def read(path: Path, **settings: Any) -> ReadResult:
    from lomrix.core.table.dictionary import Dictionary

    return open_source(str(path), ReadSettings.from_options(ReadingOptions(**settings), Dictionary())).read()


@pytest.mark.parametrize(
    ("last", "pattern"),
    [
        ("Total,8", "Total"),
        ("Mean (n=3),8", "Mean*"),
        ("Grand total,8\nSource: logbook,", "Grand total"),
        ("\nSum,8", "Sum"),
        ("Totally,8", None),
        ("Notes,8", None),
        ("Ende,", "Ende"),  # a word alone where ids have digits
        ("Total,8\nA,3\nTotal,8", None),  # several blocks, each with its total
        ("Total,8\nA,3", None),
    ],
)
def test_totals_and_remarks_at_the_end_are_noted(last: str, pattern: str | None, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text(f"crew,nap\nA1,3\nB2,5\n{last}\n")
    shown = lomrix("profile", "a.csv", cwd=tmp_path)[0]
    as_book(tmp_path / "a.xlsx", f"crew,nap\nA1,3\nB2,5\n{last}\n")
    in_book = lomrix("profile", "a.xlsx", cwd=tmp_path)[0]
    assert (f"use --skip-last {pattern}." in shown.replace('"', "")) == (pattern is not None)
    assert ("--skip-last" in in_book) == (pattern is not None)
    if pattern:
        proposed = shown.split("to read the file as noted: lomrix ")[1].splitlines()[0]
        assert "2 rows" in lomrix(*shlex.split(proposed), cwd=tmp_path)[0]


LOGBOOK = """Logbook 2024,,,,

,Spring,,Autumn,
crew,nap,mood,nap,mood
A,3,4,1,2
B,5,6,2,2

Total,8,10,3,4
Source: us,,,,
"""


def as_book(path: Path, text: str) -> Path:
    book = xlsxwriter.Workbook(str(path))
    sheet = book.add_worksheet()
    for row, line in enumerate(text.splitlines()):
        for place, cell in enumerate(line.split(",")):
            if cell:
                sheet.write(row, place, int(cell) if cell.isdigit() else cell)
    book.close()
    return path


@pytest.mark.parametrize("form", ["csv", "xlsx", "utf-16"])
@pytest.mark.parametrize("skip_last", ["2", "Tot*"])
def test_two_header_rows_and_a_footer(tmp_path: Path, form: str, skip_last: str) -> None:
    path = tmp_path / f"g.{'xlsx' if form == 'xlsx' else 'csv'}"
    if form == "xlsx":
        as_book(path, LOGBOOK)
    else:
        path.write_text(LOGBOOK, encoding=form if form != "csv" else "utf-8")
    found = read(path, header_rows="3,4", skip_last=skip_last)
    assert found.table.names == ["crew", "Spring_nap", "Spring_mood", "Autumn_nap", "Autumn_mood"]
    assert rows(found.table) == [("A", 3, 4, 1, 2), ("B", 5, 6, 2, 2)]
    assert found.table.first_row == 5
    title, footer = (next(note for note in found.notes if note.kind == kind) for kind in ("title", "footer"))
    assert title.examples == ((1, "Logbook 2024"),)
    assert footer.examples == ((8, "Total | 8 | 10 | 3 | 4"), (9, "Source: us"))


def test_two_rows_of_names_are_asked_for(tmp_path: Path) -> None:
    (tmp_path / "g.csv").write_text(LOGBOOK)
    with pytest.raises(FileError, match="nap occurs twice") as stopped:
        read(tmp_path / "g.csv")
    assert (stopped.value.where, "header_rows=3,4" in stopped.value.todo) == ("row 4, columns 2 and 4", True)
    with pytest.raises(FileError, match="no row 40"):
        read(tmp_path / "g.csv", header_rows="40")


def test_title_lines_of_a_text_shift_its_row_numbers(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text('Cabins\n"of, 2024"\n\ncabin;kg\n1;12\n2;x3\n3;9\n')
    found = read(tmp_path / "t.csv")
    assert (found.table.names, found.table.first_row) == (["cabin", "kg"], 5)
    assert next(note for note in found.notes if note.kind == "stray-text").examples == ((6, "x3"),)
    assert read(tmp_path / "t.csv", skip_rows=4, no_header=True).table.names == ["column_1", "column_2"]


@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_names_that_occur_again_are_numbered_where_that_is_wanted(tmp_path: Path, form: str) -> None:
    path, text = tmp_path / f"n.{form}", "id,note,note_2,note\n1,a,b,c\n"
    path.write_text(text) if form == "csv" else as_book(path, text)
    with pytest.raises(FileError) as stopped:
        read(path)
    assert stopped.value.todo == "Add ‹number_names› to name the second one note_3."
    found = read(path, number_names=True)
    assert found.table.names == ["id", "note", "note_2", "note_3"]
    assert [note.text for note in found.notes] == ['column 4 is named "note" as column 2 is; here it is note_3.']


TEXTS = [
    ("\nid,x\n1,2\n", ["id", "x"], [(1, 2)]),
    ("\n\n\nid,x\n", ["id", "x"], []),
    ("sep=;\nid;x\n1;2\n", ["id", "x"], [(1, 2)]),
    ("id\n1\n\n3\n", ["id"], [(1,), (None,), (3,)]),
    ("id,x\n1,2,\n3,4,\n", ["id", "x", "column_3"], [(1, 2, None), (3, 4, None)]),
]


@pytest.mark.parametrize(("text", "names", "cells"), TEXTS)
def test_lines_above_a_header_are_not_header(tmp_path: Path, text: str, names: list[str], cells: list[Any]) -> None:
    (tmp_path / "t.csv").write_text(text)
    found = read(tmp_path / "t.csv").table
    assert (found.names, rows(found)) == (names, cells)


@pytest.mark.parametrize(
    ("text", "what", "todo"),
    [
        ("x\ty\na\t1\t2\nb\t3\t4\n", "Each row of r.tsv has 3 cells, the header has 2: 1 name is missing.",
         "If the first column has no name, add ‹first_name=NAME›; else add what is missing to the header of a copy."),
        ("x\na\t1\t2\nb\t3\t4\n", "Each row of r.tsv has 3 cells, the header has 1: 2 names are missing.",
         "Add what is missing to the header of a copy."),
        ("x\ty\na\t1\nb\t3\t4\n", "A row of r.tsv has 3 cells, the header has 2.", "Correct the row in a copy"),
    ],
)  # fmt: skip
def test_rows_longer_than_the_header(tmp_path: Path, text: str, what: str, todo: str) -> None:
    (tmp_path / "r.tsv").write_text(text)
    with pytest.raises(FileError) as stopped:
        read(tmp_path / "r.tsv")
    assert stopped.value.what == what and stopped.value.todo.startswith(todo)
    if "1 name" in what:
        found = read(tmp_path / "r.tsv", first_name="crew").table
        assert (found.names, rows(found)) == (["crew", "x", "y"], [("a", 1, 2), ("b", 3, 4)])


OPEN = [
    ('id,x\n1,"tall\n2,b\n3,c\n4,"small\n5,e\n', "row 2"),
    ('id,"x\n1,2\n3,4\n', "row 1"),
    ('id,x\n1,2\n3,"4\n5,6\n', "row 3"),
]


@pytest.mark.parametrize(("text", "row"), OPEN)
def test_a_quotation_mark_left_open_is_an_error(tmp_path: Path, text: str, row: str) -> None:
    (tmp_path / "q.csv").write_text(text)
    with pytest.raises(FileError, match="is unclosed") as stopped:
        read(tmp_path / "q.csv")
    assert stopped.value.where == row


def test_lines_inside_a_cell_and_blank_lines_are_reported(tmp_path: Path) -> None:
    (tmp_path / "m.csv").write_text('id,x\n1,"a\nb"\n\n3,"c,d\n4,f"\n')
    notes = {note.kind: note for note in read(tmp_path / "m.csv").notes}
    assert notes["swallowed"].examples == ((4, None),)
    assert notes["blank-lines"].examples == ((3, None),)
    (tmp_path / "plain.csv").write_text('id,x\n1,"a\nb"\n\n\n')
    assert read(tmp_path / "plain.csv").notes == ()


def test_a_first_row_of_values_is_not_a_header(tmp_path: Path) -> None:
    (tmp_path / "n.csv").write_text("1,4.5\n2,5.5\n")
    with pytest.raises(FileError, match="has no header: its first row holds values"):
        read(tmp_path / "n.csv")
    found = read(tmp_path / "n.csv", no_header=True).table
    assert (found.names, rows(found), found.first_row) == (["column_1", "column_2"], [(1, 4.5), (2, 5.5)], 1)
    assert read(tmp_path / "n.csv", header_rows="1").table.names == ["1", "4.5"]


def test_one_bad_byte_in_a_file_of_letters_names_its_line(tmp_path: Path) -> None:
    text = "id,name\n" + "".join(f"{at},Zo\u00eb\n" for at in range(200))
    (tmp_path / "b.csv").write_bytes(text.encode() + b"200,Jos\xe9\n")
    with pytest.raises(FileError) as stopped:
        read(tmp_path / "b.csv")
    assert "line 202" in stopped.value.where


QUESTIONS = (
    "who,day,age,rate\nId,Day,How old are you?,How fast?\n{1},{2},{3},{4}\nK1,2024-03-01,34,7\nK2,2024-03-02,51,9\n"
)


@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_rows_of_labels_below_the_header_are_no_data(tmp_path: Path, form: str) -> None:
    path = tmp_path / f"q.{form}"
    path.write_text(QUESTIONS) if form == "csv" else as_book(path, QUESTIONS)
    (note,) = [note for note in read(path).notes if note.kind == "labels"]
    assert note.text.endswith("if so, use ‹label_row=2› ‹data_from=4›.")
    assert note.examples[1] == (3, "{1} | {2} | {3} | {4}")
    found = read(path, label_row=2, data_from=4)
    assert (found.table["age"].cells(), found.table.first_row) == ([34, 51], 4)
    assert [found.table.dictionary.of(name).label for name in ("who", "age")] == ["Id", "How old are you?"]
    assert [(note.text, note.examples[0][0]) for note in found.notes if note.kind == "title"] == [
        ("1 line below the header (row 1) was skipped.", 3)
    ]


@pytest.mark.parametrize(
    ("text", "proposed"),
    [
        ("id,h,w\n-,cm,kg\n1,170,70\n2,165,61\n", "‹unit_row=2›"),
        ("id,h,w\nnumber,body height,weight\n1,170,70\n2,165,61\n", "‹label_row=2›"),
        ("id,h,w\n1,170,70\n2,165,61\n3,180,80\n", ""),
        ("id,h,w\n1,n/a,refused\n2,165,61\n3,180,80\n", ""),
        ("id,h,w\n-,cm,80\n1,170,70\n2,165,61\n", ""),
        ("id,h,w\n-,cm,\n1,170,70\n2,165,61\n", ""),
        ("id,t\na,cm\nb,kg\nc,x\n", ""),
    ],
)
def test_units_are_words_above_numbers(tmp_path: Path, text: str, proposed: str) -> None:
    (tmp_path / "u.csv").write_text(text)
    notes = [note.text for note in read(tmp_path / "u.csv").notes if note.kind == "labels"]
    assert [note.endswith(f"if so, use {proposed}.") for note in notes] == [True] * bool(proposed)
    if text.startswith("id,h,w\n-,cm,kg"):
        units = read(tmp_path / "u.csv", unit_row=2).table.dictionary
        assert [units.of(name).unit for name in ("id", "h", "w")] == ["", "cm", "kg"]


@pytest.mark.parametrize(
    ("settings", "what"),
    [
        ({"label_row": 9}, "u.csv has no row 9."),
        ({"unit_row": 1}, "Row 1 of u.csv is its header."),
        (
            {"unit_row": 2, "data_from": 2},
            "The data cannot begin in row 2: the header, or what describes it, is in row 2.",
        ),
        ({"no_header": True, "data_from": 2}, "‹no_header› and ‹data_from› contradict each other."),
    ],
)
def test_rows_that_cannot_be_labels(tmp_path: Path, settings: dict[str, Any], what: str) -> None:
    (tmp_path / "u.csv").write_text("id,h\n-,cm\n1,170\n")
    with pytest.raises(LomrixError) as stopped:
        read(tmp_path / "u.csv", **settings)
    assert stopped.value.what == what


def test_rows_are_counted_without_a_header_and_below_long_labels(tmp_path: Path) -> None:
    (tmp_path / "n.csv").write_text('1,"a\nb"\n\n3,c\n')
    (blank,) = (note for note in read(tmp_path / "n.csv", no_header=True).notes if note.kind == "blank-lines")
    assert blank.examples == ((2, None),)
    (tmp_path / "l.csv").write_text('id,t\nId,"a long\nlabel"\n\n3,"c\nd"\n')
    found = read(tmp_path / "l.csv", label_row=2)
    assert (rows(found.table), found.table.dictionary.of("t").label) == ([(3, "c\nd")], "a long label")
    assert [note.examples for note in found.notes] == [((3, None),)]
