"""Workbooks as people type them, and as other programs write them."""

from __future__ import annotations

import datetime
import zipfile
from pathlib import Path

import pytest
import xlsxwriter

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.files.interface import ReadResult
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_source
from lomrix.files.workbook_writer import require_fitting
from tests.tables import lomrix, reasons, rows


def read(path: Path, sheet: str = "") -> ReadResult:
    return open_source(f"{path}#{sheet}" if sheet else str(path), ReadSettings()).read()


def test_title_lines_dates_and_whole_numbers(tmp_path: Path) -> None:
    book = xlsxwriter.Workbook(str(tmp_path / "b.xlsx"))
    sheet = book.add_worksheet("Draws")
    sheet.write_row(0, 0, ["Laboratory list"])
    sheet.write_row(2, 0, ["id", "level", "drawn"])
    day = book.add_format({"num_format": "dd/mm/yyyy"})
    for row, (who, level) in enumerate([("007", 5.0), ("008", 61.0)], start=3):
        sheet.write_row(row, 0, [who, level])
        sheet.write_datetime(row, 2, datetime.datetime(2024, 3, row), day)
    sheet.merge_range(6, 0, 7, 0, "009")
    book.add_worksheet("Other").write(0, 0, "x")
    book.close()
    found = read(tmp_path / "b.xlsx")
    assert found.table["id"].cells() == ["007", "008", None, "009"]
    assert found.table["level"].cells() == [5, 61, None, None]
    assert found.table["drawn"].cells()[:2] == [datetime.date(2024, 3, 3), datetime.date(2024, 3, 4)]
    assert {note.kind for note in found.notes} == {"title", "sheet", "merged"}
    assert found.table.first_row == 4
    assert read(tmp_path / "b.xlsx", "Other").table.names == ["x"]
    with pytest.raises(FileError, match="no worksheet Nowhere"):
        read(tmp_path / "b.xlsx", "Nowhere")


def open_document(path: Path, rows: str) -> None:
    name = "urn:oasis:names:tc:opendocument:xmlns"
    content = (
        f'<?xml version="1.0"?><office:document-content xmlns:office="{name}:office:1.0" '
        f'xmlns:table="{name}:table:1.0" xmlns:text="{name}:text:1.0" xmlns:calcext="urn:org:calcext" '
        'office:version="1.2"><office:body>'
        f'<office:spreadsheet><table:table table:name="A">{rows}</table:table></office:spreadsheet></office:body>'
        "</office:document-content>"
    )
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    with zipfile.ZipFile(path, "w") as book:
        book.writestr("mimetype", kind)
        book.writestr("content.xml", content)
        book.writestr("META-INF/manifest.xml", f'<manifest:manifest xmlns:manifest="{name}:manifest:1.0"/>')


def cell(text: str, kind: str = 'office:value-type="string"', more: str = "") -> str:
    return f"<table:table-cell {kind} {more}><text:p>{text}</text:p></table:table-cell>"


def test_an_open_document_sheet(tmp_path: Path) -> None:
    cells = [["id", "x", "on"], ["01", "2.5", "2024-03-05"]]
    kinds = {1: 'office:value-type="float" office:value="{}"', 2: 'office:value-type="date" office:date-value="{}"'}
    rows = ""
    for at, line in enumerate(cells):
        made = ""
        for place, text in enumerate(line):
            made += cell(text, kinds[place].format(text)) if at and place in kinds else cell(text)
        rows += f"<table:table-row>{made}</table:table-row>"
    open_document(tmp_path / "b.ods", rows)
    table = read(tmp_path / "b.ods").table
    assert [table[name].cells() for name in table.names] == [["01"], [2.5], [datetime.date(2024, 3, 5)]]


def test_errors_of_a_sheet_are_reasons(tmp_path: Path) -> None:
    book = xlsxwriter.Workbook(str(tmp_path / "b.xlsx"))
    book.add_worksheet("First").write(0, 0, "x")
    sheet = book.add_worksheet("Rates & more")
    sheet.write_row(0, 0, ["id", "x", "y"])
    sheet.write_row(1, 0, [1, 2.5])
    sheet.write_formula(1, 2, "=1/0", None, "#DIV/0!")
    sheet.write_row(3, 0, [3])
    sheet.write_formula(3, 1, "=A9", None, "#N/A")
    sheet.write_row(3, 2, [7])
    book.close()
    found = read(tmp_path / "b.xlsx", "Rates & more")
    assert [reasons(found.table[name]) for name in ("x", "y")] == [[None, "blank", "#N/A"], ["#DIV/0!", "blank", None]]
    assert [note.text for note in found.notes if note.kind == "token"] == [
        '"#N/A" means missing among the values, once.',
        '"#DIV/0!" means missing among the values, once.',
    ]
    error = cell("#DIV/0!", 'office:value-type="string" office:string-value="" calcext:value-type="error"')
    number = 'office:value-type="float" office:value="4"'
    rows = f"<table:table-row>{cell('id')}{cell('x')}{cell('y')}{cell('z')}</table:table-row>"
    more = 'table:number-columns-repeated="2"'
    line = f"<table:table-row table:number-rows-repeated='2'>{cell('4', number, more)}{cell('4', number, more)}"
    rows += f"{line}</table:table-row><table:table-row>{cell('4', number, more)}{error}{cell('4', number)}"
    open_document(tmp_path / "b.ods", f"{rows}</table:table-row>")
    table = read(tmp_path / "b.ods").table
    assert [table[name].cells() for name in table.names] == [[4, 4, 4], [4, 4, 4], [4, 4, None], [4, 4, 4]]
    assert reasons(table["y"]) == [None, None, "#DIV/0!"]


def test_what_is_not_a_workbook_is_reported(tmp_path: Path) -> None:
    (tmp_path / "text.xlsx").write_text("a,b\n1,2\n")
    with pytest.raises(FileError, match="is text and not a workbook"):
        read(tmp_path / "text.xlsx")
    xlsxwriter.Workbook(str(tmp_path / "empty.xlsx")).close()
    with pytest.raises(FileError, match="is empty"):
        read(tmp_path / "empty.xlsx")


def test_cells_that_a_sheet_cannot_hold_come_back_as_they_were(tmp_path: Path) -> None:
    text = "id,d,m,n,t\n1,1850-01-02,0.30000000000000004,9007199254740993,2024-01-01 23:59:59.999999\n"
    text += "2,2024-01-02,1.5,4,\n"
    (tmp_path / "a.csv").write_text(text)
    output, _ = lomrix("subset", "a.csv", "--type", "n=integer", "--out", "a.xlsx", cwd=tmp_path)
    assert "a.xlsx.d: written as text" in output
    assert '(row 2 "9007199254740993")' in output
    out, _ = lomrix("subset", "a.xlsx", "--out", "-", "--quiet", cwd=tmp_path)
    assert out == text


def test_what_no_sheet_can_hold_is_refused_before_it_is_written(tmp_path: Path) -> None:
    (tmp_path / "long.csv").write_text(f"id,t\n1,a\n2,{'x' * 32_768}\n")
    lomrix("subset", "long.csv", "--out", "o.xlsx", cwd=tmp_path, status=3)
    one = Column.of_cells("integer", [1])
    with pytest.raises(FileError, match="16,384 columns"):
        require_fitting(Table({f"c{at}": one for at in range(16_385)}), "o.xlsx")
    assert not list(tmp_path.glob("o.*"))


@pytest.mark.parametrize(("row", "place"), [(1_048_575, 16_383), (2_000, 16_383), (1_048_575, 5)])
def test_a_stray_cell_far_away_is_an_error(tmp_path: Path, row: int, place: int) -> None:
    book = xlsxwriter.Workbook(str(tmp_path / "far.xlsx"))
    sheet = book.add_worksheet()
    sheet.write_row(0, 0, ["id", "x"])
    sheet.write_row(1, 0, [1, 2])
    sheet.write(row, place, "far")
    book.close()
    with pytest.raises(FileError, match="far away"):
        read(tmp_path / "far.xlsx")


def test_a_workbook_carries_its_dictionary(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,sex,sum,free\n007,1,1234567890123456,=1+1\n012,2,5,@all\n003,,6,+5\n")
    (tmp_path / "d.toml").write_text(
        '[variables.sex]\nlabel = "Sex"\ncodes = "sex"\nunit = "code"\n[codes.sex]\n1 = "female"\n2 = "male"\n'
    )
    output, _ = lomrix("export", "a.csv", "-d", "d.toml", "--type", "sum=integer", "--to", "a.xlsx", cwd=tmp_path)
    assert "written as text" in output and "12 cells compared, all equal" in output
    with zipfile.ZipFile(tmp_path / "a.xlsx") as book:
        first = book.read("xl/worksheets/sheet1.xml").decode()
        assert '<autoFilter ref="A1:D4"' in first and 'state="frozen"' in first and "<cols>" in first
        assert "<f>" not in first
    (tmp_path / "a.xlsx.resource.json").unlink()
    for sheet in ("a.xlsx", "a.xlsx#a"):
        output, error = lomrix("tally", sheet, "sex", cwd=tmp_path)
        assert "female" in output and "others are" not in output + error
    back = read(tmp_path / "a.xlsx").table
    assert back["id"].cells() == ["007", "012", "003"]
    assert back["free"].cells() == ["=1+1", "@all", "+5"]
    assert back["sum"].cells() == [1234567890123456, 5, 6]
    assert back.dictionary.of("sex").label == "Sex" and back.dictionary.labels_of("sex")["2"] == "male"
    assert read(tmp_path / "a.xlsx", "codes").table["label"].cells() == ["female", "male"]
    output, _ = lomrix("export", "a.xlsx", "--to", "b.xlsx", "--show-labels", "sex", cwd=tmp_path)
    assert read(tmp_path / "b.xlsx").table["sex"].cells() == ["female", "male", None]


def test_texts_stay_texts_when_a_person_edits_them(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n007,1\n")
    lomrix("subset", "a.csv", "--out", "a.xlsx", cwd=tmp_path)
    with zipfile.ZipFile(tmp_path / "a.xlsx") as book:
        styles = book.read("xl/styles.xml").decode()
    assert 'formatCode="@"' in styles or 'numFmtId="49"' in styles


def test_times_and_durations_in_cells(tmp_path: Path) -> None:
    with xlsxwriter.Workbook(tmp_path / "t.xlsx") as book:
        sheet, hours = book.add_worksheet(), book.add_format({"num_format": "[h]:mm"})
        sheet.write_column(0, 0, ["bed", "22:45"])
        sheet.write_datetime(2, 0, datetime.time(0, 10), book.add_format({"num_format": "hh:mm"}))
        sheet.write_column(0, 1, ["sum"])
        sheet.write_datetime(1, 1, datetime.timedelta(hours=28.5), hours)
        sheet.write_datetime(2, 1, datetime.timedelta(hours=7), hours)
    assert rows(read(tmp_path / "t.xlsx").table) == [("22:45", "28:30:00"), ("00:10:00", "7:00:00")]


def test_formulas_that_no_program_calculated_are_reported(tmp_path: Path) -> None:
    with xlsxwriter.Workbook(tmp_path / "f.xlsx") as book:
        sheet = book.add_worksheet()
        for at, row in enumerate([["id", "x", "twice"], [1, 5], [2, 7]]):
            sheet.write_row(at, 0, row)
        sheet.write_formula("C2", "=B2*2", None, "")
        sheet.write_formula("C3", "=B3*2", None, 14)
    found = read(tmp_path / "f.xlsx")
    note = next(note for note in found.notes if note.kind == "formula")
    assert (note.count, note.examples, found.table["twice"].cells()) == (1, ((2, "C2"),), [None, 14])


def test_workbooks_of_other_formats(tmp_path: Path) -> None:
    found = read(Path(__file__).with_name("roster.xls"))
    days = [datetime.date(2024, 3, day) for day in (1, 2, 3)]
    assert rows(found.table)[1] == ("K002", days[1], 3.0, True)
    assert found.table["joined_on"].cells() == days
    assert [note.kind for note in found.notes] == ["old-format"]
    book = xlsxwriter.Workbook(str(tmp_path / "b.xlsx"))
    book.add_worksheet().write_column(0, 0, ["x", 5])
    book.close()
    (tmp_path / "b.xlsx").rename(tmp_path / "b.xlsm")
    assert rows(read(tmp_path / "b.xlsm").table) == [(5,)]


@pytest.mark.parametrize(
    ("content", "what", "todo"),
    [
        (b"a\tb\n1\t2\n", "b.xls is text and not a workbook.", "Copy it to a name with .csv or .tsv."),
        (b"", "b.xls is empty.", "Check that it was saved or copied whole."),
        (b"\n<html><table>", "b.xls is a web page and not a workbook.", "Open it in a spreadsheet program"),
        (b"\xd0\xcf\x11\xe0\x00", "b.xls cannot be read as a workbook.", "Check that it was copied whole"),
    ],
)
def test_what_is_no_workbook_is_reported_as_what_it_is(tmp_path: Path, content: bytes, what: str, todo: str) -> None:
    (tmp_path / "b.xls").write_bytes(content)
    with pytest.raises(FileError) as stopped:
        read(tmp_path / "b.xls")
    assert stopped.value.what == what and stopped.value.todo.startswith(todo)


def test_a_pattern_names_several_worksheets(tmp_path: Path) -> None:
    book = xlsxwriter.Workbook(str(tmp_path / "waves.xlsx"))
    for name, cells in (
        ("2020", [["id", "x"], ["a", 1]]),
        ("2021", [["id", "x"], ["a", 2]]),
        ("codes", [["codes"], [1]]),
    ):
        sheet = book.add_worksheet(name)
        for number, row in enumerate(cells):
            sheet.write_row(number, 0, row)
    book.close()
    for pattern in ("waves.xlsx#20*", "waves.xlsx#*"):
        words = ("stack", pattern, "--mark", "year", "--case", "id", "--out", "o.csv", "--overwrite")
        assert "2 files became 2 rows" in lomrix(*words, cwd=tmp_path)[0]
        assert (tmp_path / "o.csv").read_text() == "year,id,x\n2020,a,1\n2021,a,2\n"
    assert "matches 2 worksheets" in lomrix("profile", "waves.xlsx#20*", cwd=tmp_path, status=3)[1]
    assert "The file no.xlsx does not exist" in lomrix("stack", "no.xlsx#20*", cwd=tmp_path, status=3)[1]
    assert "Its worksheets are 2020, 2021" in lomrix("stack", "waves.xlsx#19*", cwd=tmp_path, status=3)[1]
    (tmp_path / "p.toml").write_text(
        '[[steps]]\nname = "s"\ndo = "stack"\nsource = "waves.xlsx#20*"\nmark = "year"\nout = "p.csv"\n'
    )
    lomrix("run", "p.toml", cwd=tmp_path)
    assert (tmp_path / "p.csv").read_bytes() == (tmp_path / "o.csv").read_bytes()
