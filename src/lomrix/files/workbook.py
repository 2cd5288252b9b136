"""Workbooks: .xlsx and .ods, as people type them, with title lines above and dates as dates."""

from __future__ import annotations

import datetime
import re
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import pyarrow as pa

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW, Note, counted
from lomrix.core.text.reading import typed_column
from lomrix.core.wording import in_utf8
from lomrix.files import descriptor
from lomrix.files.dictionary_text import dictionary_of_sheets
from lomrix.files.file_source import Cells, Described, FileSource, shifted
from lomrix.files.header_rows import FOOTER_ROWS, HEAD_ROWS, footer_length, footer_note, found_header
from lomrix.files.reading import ReadSettings
from lomrix.files.text_layout import column_names
from lomrix.files.workbook_errors import column_number, error_cells, formulas_without_value
from lomrix.files.workbook_writer import DESCRIBING

# Sheets of so many places are read whatever share of them is empty; larger ones if not nearly all are.
MOST_EMPTY = 5_000_000
FEWEST_FILLED = 100
LARGEST_SHEET = 1 << 30
# Where a part of a workbook says how much of something follows.
COUNTS = {
    "xl/sharedStrings.xml": re.compile(rb'\b(?:uniqueCount|count)="(\d+)"'),
    "content.xml": re.compile(rb'<text:s [^>]*text:c="(\d+)"'),
}
LARGEST_COUNT = 100_000
SHEET_PART = re.compile(r"xl/worksheets/[^/]+\.xml")
WIDE = re.compile(rb'<c r="([A-Z]{3})\d')
MIDDLING = re.compile(rb'<c r="([A-Z]{2})\d')
Row = Sequence[object]


@dataclass(frozen=True)
class Sheet:
    """One sheet of a workbook: its name, its header, the rows below, and where the header stands."""

    name: str
    names: list[str]
    body: list[Row]
    header_at: int
    notes: tuple[Note, ...]


class Reader(FileSource):
    """One sheet of a workbook."""

    @cached_property
    def found(self) -> Sheet:
        """The sheet that was named, else the first that holds something."""
        name, rows, notes = sheet_cells(self.path, self.sheet)
        head = rows[: HEAD_ROWS + self.settings.rows_named]
        is_known = descriptor.find_beside(self.path) is not None
        header = found_header(head, self.settings, self.path.name, is_known=is_known)
        body = rows[header.last + 1 :]
        while body and not last_filled(body[-1]):
            body.pop()
        count = footer_length(body[-FOOTER_ROWS * 25 :], self.settings.skip_last)
        if self.settings.skip_last:
            left = body[len(body) - count :]
            notes.append(footer_note(left, header.last + 2 + len(body) - count, self.settings.skip_last))
            body = body[: len(body) - count]
            while body and not last_filled(body[-1]):
                body.pop()
        # A remark beside the table makes a column of its own; one without name and cells is none.
        width = max([last_filled(header.cells), *map(last_filled, body)])
        header = replace(header, cells=[*header.cells, *[""] * width][:width])
        names, name_notes = column_names(header, self.path)
        return Sheet(name, names, body, header.last, (*header.notes, *name_notes, *notes))

    @cached_property
    def described(self) -> Described:
        """What the descriptor says; where there is none, what two sheets of the workbook itself say."""
        found = super().described
        if found.dictionary.variables or self.settings.all_text or self.sheet in DESCRIBING:
            return found
        sheets = {}
        for name in DESCRIBING:
            if has_sheet(self.path, name):
                sheets[name] = Reader(self.path, ReadSettings(all_text=True), name).read().table
        if "variables" not in sheets or "variable" not in sheets["variables"].names:
            return found
        return replace(found, dictionary=dictionary_of_sheets(**sheets))

    def look(self) -> tuple[list[str], descriptor.Resource | None]:
        """The header."""
        return self.found.names, None

    def cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """The cells as text, typed column by column."""
        sheet, columns, notes = self.found, dict[str, Column](), list[Note]()
        # Blank rows at the end are only known from the descriptor.
        body = [*sheet.body, *([[]] * (self.described.rows - len(sheet.body)))]
        body = body if rows is None else body[rows.start : rows.stop]
        place_of = {name: place for place, name in enumerate(sheet.names)}
        for name in names:
            place = place_of[name]
            cells = [cell_text(row[place]) if place < len(row) else None for row in body]
            variable = self.settings.variable(name, self.described.dictionary)
            strings = pa.array(cells, pa.large_string())
            columns[name], more = typed_column(
                name, strings, variable, self.date_form(name), self.decimal(name), self.settings.thousands
            )
            notes += [shifted(note, sheet.header_at) for note in more]
        told = sheet.name if self.sheet else in_utf8(self.path.stem)
        return Cells(columns, (*sheet.notes, *notes), FIRST_ROW + sheet.header_at, told)


def has_sheet(path: Path, name: str) -> bool:
    """True where a workbook has a sheet of that name."""
    from python_calamine import CalamineError, CalamineWorkbook

    try:
        return name in CalamineWorkbook.from_path(str(path)).sheet_names
    except CalamineError:
        return False


def require_dense(path: Path) -> None:
    """Stop where a sheet has a few cells far away, which would be read as millions of empty ones.

    Raises
    ------
    FileError
        Naming the sheet's part and the farthest cell.
    """
    if not zipfile.is_zipfile(path):
        return
    with zipfile.ZipFile(path) as book:
        require_true_counts(path, book)
        for name in book.namelist():
            if not SHEET_PART.fullmatch(name):
                continue
            if book.getinfo(name).file_size > LARGEST_SHEET:
                raise FileError(f"{path.name} holds a sheet of more than a gigabyte.", todo="Save it as .csv.")
            content = book.read(name)
            rows, columns = farthest(content)
            cells = content.count(b"<c ")
            if rows * columns > max(MOST_EMPTY, FEWEST_FILLED * cells):
                raise FileError(
                    f"A sheet of {path.name} has cells far away from its table.",
                    where=f"{name}: {counted(cells, 'cell', 'cells')} in {rows:,} rows and {columns:,} columns",
                    todo="Delete what stands far below or far to the right, and save the workbook again.",
                )


def require_true_counts(path: Path, book: zipfile.ZipFile) -> None:
    """Stop where a workbook announces far more texts, or blanks in a row, than it can hold: memory would be asked for.

    Raises
    ------
    FileError
        With what it announces.
    """
    for part, count in COUNTS.items():
        if part not in book.namelist() or book.getinfo(part).file_size > LARGEST_SHEET:
            continue
        content = book.read(part)
        told = max(map(int, count.findall(content)), default=0)
        if told > max(len(content), LARGEST_COUNT):
            raise FileError(
                f"{path.name} announces {told:,} texts or blanks, and is far too small for them.",
                where=part,
                todo="It is damaged: open it in a spreadsheet program and save it again.",
            )


def farthest(content: bytes) -> tuple[int, int]:
    """The last row and the last column that the cells of a sheet name.

    Examples
    --------
    >>> farthest(b'<row r="2"><c r="AB2"/></row><row r="7"><c r="C7"/></row>')
    (7, 28)
    """
    last = content.rfind(b'<row r="')
    row = int(content[last + 8 :].split(b'"', 1)[0]) if last >= 0 else 0
    # Columns of three and two letters first: names of one letter need no look.
    for pattern in (WIDE, MIDDLING):
        names = set(pattern.findall(content))
        if names:
            return row, max(column_number(name.decode()) for name in names)
    return row, 26


def sheet_cells(path: Path, wanted: str) -> tuple[str, list[Row], list[Note]]:
    """Name and cells of a sheet: the one that was named, else the first that holds something."""
    from python_calamine import CalamineError, CalamineWorkbook, PasswordError

    require_dense(path)
    try:
        book = CalamineWorkbook.from_path(str(path))
        names = book.sheet_names
        if wanted and wanted not in names:
            raise FileError(f"{path.name} has no sheet {wanted}.", todo=f"Its sheets are {', '.join(names)}.")
        for name in [wanted] if wanted else names:
            rows = with_errors(book.get_sheet_by_name(name).to_python(skip_empty_area=False), path, name)
            if any(last_filled(row) for row in rows):
                break
        else:
            raise FileError(f"{path.name} holds no cell.", todo="Name the sheet: workbook.xlsx#Sheet")
        notes = merged_notes(book, name)
        notes += formula_notes(path, name) if zipfile.is_zipfile(path) else []
    except PasswordError as error:
        raise FileError(f"{path.name} is protected by a password.", todo="Save a copy without one.") from error
    except (CalamineError, ValueError) as error:
        raise FileError(
            f"{path.name} cannot be read as a workbook.",
            where=descriptor.first_line(error),
            todo="Check that it was copied whole and has its own extension.",
        ) from error
    if not any(last_filled(row) for row in rows):
        raise FileError(f"The sheet {name} of {path.name} holds no cell.", todo=f"Its sheets are {', '.join(names)}.")
    others = ", ".join(one for one in names if one != name and one not in DESCRIBING)
    if not wanted and others:
        notes.append(Note(f"the sheet {name} was read; others are {others}: say {path.name}#SHEET.", kind="sheet"))
    return name, list(rows), notes


def with_errors(rows: list[list[Any]], path: Path, sheet: str) -> list[list[Any]]:
    """The rows of a sheet with the errors that stand in it, such as #DIV/0!, as text."""
    for (row, column), text in error_cells(path, sheet).items() if zipfile.is_zipfile(path) else ():
        if row < len(rows) and column < len(rows[row]):
            rows[row][column] = text
    return rows


def merged_notes(book: Any, name: str) -> list[Note]:
    """Merged cells hold their value in the first cell only, which a person should know."""
    ranges = getattr(book.get_sheet_by_name(name), "merged_cell_ranges", None) or []
    if not ranges:
        return []
    rows = tuple((first[0] + 1, None) for first, _ in ranges[:5])
    return [Note("merged cells: only the first cell of each holds the value.", "", rows, "merged", len(ranges))]


def formula_notes(path: Path, name: str) -> list[Note]:
    """Formulas that were never calculated come as blank cells, which a person should know."""
    found = formulas_without_value(path, name)
    if not found:
        return []
    formulas = f"{counted(len(found), 'formula', 'formulas')} without a stored value"
    text = f"{formulas}, read as blank: open the workbook in a spreadsheet program, save it, and read it again."
    return [Note(text, "", tuple(found[:5]), "formula", len(found))]


def last_filled(row: Row) -> int:
    """How many cells a row has up to the last that is filled."""
    return next((at for at in range(len(row), 0, -1) if row[at - 1] not in ("", None)), 0)


def cell_text(cell: object) -> str | None:
    """A cell as text: whole numbers without a decimal point, dates as ISO dates."""
    if cell is None or cell == "":
        return None
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else repr(cell)
    if isinstance(cell, datetime.datetime):
        return cell.date().isoformat() if cell.time() == datetime.time() else cell.isoformat(sep=" ")
    return str(cell)
