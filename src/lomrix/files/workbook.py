"""Workbooks of several formats, as people type them, with title lines above and dates as dates."""

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
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import FIRST_ROW, Note, pluralize
from lomrix.core.text.reading import read_text_column
from lomrix.core.text.times import format_duration
from lomrix.core.wording import to_utf8
from lomrix.files import descriptor
from lomrix.files.codebook import note_unused
from lomrix.files.dictionary_text import VARIABLE_HEADS, parse_sheets
from lomrix.files.file_source import Cells, Described, FileSource, shift_note
from lomrix.files.footers import FOOTER_ROWS, count_footer, note_footer, note_likely_footer
from lomrix.files.header_rows import HEAD_ROWS, find_header
from lomrix.files.reading import SHEET_OPTIONS, ReadSettings
from lomrix.files.text_layout import name_columns
from lomrix.files.workbook_errors import column_number, find_errors, find_uncalculated
from lomrix.files.workbook_writer import DESCRIBING

# Worksheets up to this many cells are read in any case; larger ones if not nearly all are empty.
MOST_EMPTY = 5_000_000
FEWEST_FILLED = 100
LARGEST_SHEET = 1 << 30
# Where a part of a workbook announces a count.
COUNTS = {
    "xl/sharedStrings.xml": re.compile(rb'\b(?:uniqueCount|count)="(\d+)"'),
    "content.xml": re.compile(rb'<text:s [^>]*text:c="(\d+)"'),
}
LARGEST_COUNT = 100_000
SHEET_PART = re.compile(r"xl/worksheets/[^/]+\.xml")
THREE_LETTERS = re.compile(rb'<c r="([A-Z]{3})\d')
TWO_LETTERS = re.compile(rb'<c r="([A-Z]{2})\d')
Row = Sequence[object]
NO_ERRORS = Note(
    "cells with errors such as #DIV/0! are read as blank; saved as .xlsx they are missing for a reason of their own.",
    kind="old-format",
)


@dataclass(frozen=True)
class Worksheet:
    """One worksheet: its name, column names, rows of data, number of rows above these, what they say of the variables,
    and notes.
    """

    name: str
    names: list[str]
    body: list[Row]
    above: int
    described: Dictionary
    notes: tuple[Note, ...]


class Reader(FileSource):
    """One worksheet of a workbook."""

    options_used = SHEET_OPTIONS

    @cached_property
    def worksheet(self) -> Worksheet:
        """The named worksheet, else the first that is not empty."""
        name, rows, notes = read_worksheet(self.path, self.sheet)
        head = rows[: HEAD_ROWS + self.settings.rows_stated]
        is_known = descriptor.find_beside(self.path) is not None
        header = find_header(head, self.settings, self.path.name, is_known=is_known)
        body = rows[header.above :]
        while body and not count_filled(body[-1]):
            body.pop()
        count = count_footer(body[-FOOTER_ROWS * 25 :], self.settings.skip_last)
        if self.settings.skip_last:
            footer = body[len(body) - count :]
            notes.append(note_footer(footer, header.above + 1 + len(body) - count, self.settings.skip_last))
            body = body[: len(body) - count]
            while body and not count_filled(body[-1]):
                body.pop()
        elif not (is_known or self.settings.all_text):
            start = max(len(body) - FOOTER_ROWS, 0)
            notes += note_likely_footer(body[start:], header.above + 1 + start)
        # A remark beside the table makes a column; one without name and cells does not.
        width = max([count_filled(header.cells), *map(count_filled, body)])
        header = replace(header, cells=[*header.cells, *[""] * width][:width])
        names, name_notes = name_columns(header, self.path, numbers_names=self.settings.number_names, is_known=is_known)
        all_notes = (*header.notes, *name_notes, *notes)
        return Worksheet(name, names, body, header.above, header.describe(names), all_notes)

    @cached_property
    def described(self) -> Described:
        """The descriptor; if there is none, the dictionary on two worksheets of the workbook itself."""
        result = super().described
        if result.dictionary.variables or self.settings.all_text or self.sheet in DESCRIBING:
            return result
        sheets = {}
        for name in DESCRIBING:
            if has_sheet(self.path, name):
                sheets[name] = Reader(self.path, ReadSettings(all_text=True), name).read().table
        if "variables" not in sheets or "variable" not in sheets["variables"].names:
            return result
        try:
            dictionary = parse_sheets(sheets)
        except FileError as error:  # another program's worksheet of that name
            text = f"its worksheet variables is not used as a dictionary: {error.where}."
            return replace(result, notes=(*result.notes, Note(text, kind="dictionary")))
        unused = note_unused(sheets["variables"].names, VARIABLE_HEADS)
        return replace(result, dictionary=dictionary, notes=(*result.notes, *unused))

    def read_header(self) -> tuple[list[str], descriptor.Resource | None]:
        """Return the header."""
        return self.worksheet.names, None

    def read_labels(self) -> Dictionary:
        """Return the labels and units of the variables."""
        return self.worksheet.described

    def read_cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Read the cells as text, typed column by column."""
        sheet, columns, notes = self.worksheet, dict[str, Column](), list[Note]()
        # Blank rows at the end are only known from the descriptor.
        body = [*sheet.body, *([[]] * (self.described.rows - len(sheet.body)))]
        body = body if rows is None else body[rows.start : rows.stop]
        index_of = {name: index for index, name in enumerate(sheet.names)}
        for name in names:
            index = index_of[name]
            cells = [format_cell(row[index]) if index < len(row) else None for row in body]
            variable = self.settings.get_variable(name, self.described.dictionary)
            strings = pa.array(cells, pa.large_string())
            columns[name], more = read_text_column(
                name, strings, variable, self.find_date_form(name), self.find_decimal(name), self.settings.thousands
            )
            notes += [shift_note(note, sheet.above - 1) for note in more]
        name_shown = sheet.name if self.sheet else to_utf8(self.path.stem)
        return Cells(columns, (*sheet.notes, *notes), FIRST_ROW + sheet.above - 1, name_shown)


def list_sheets(path: Path) -> list[str]:
    """List the worksheets of a workbook; none if it is none."""
    from python_calamine import CalamineError, CalamineWorkbook

    try:
        return list(CalamineWorkbook.from_path(str(path)).sheet_names)
    except CalamineError:
        return []


def has_sheet(path: Path, name: str) -> bool:
    """Return whether a workbook has a worksheet of that name."""
    return name in list_sheets(path)


def require_dense(path: Path) -> None:
    """Stop if a worksheet has a few cells far away, which would be read as millions of empty ones.

    Raises FileError naming the part and the farthest cell.
    """
    if not zipfile.is_zipfile(path):
        return
    with zipfile.ZipFile(path) as book:
        require_plausible_counts(path, book)
        for name in book.namelist():
            if not SHEET_PART.fullmatch(name):
                continue
            if book.getinfo(name).file_size > LARGEST_SHEET:
                raise FileError(f"{path.name} holds a worksheet of more than a gigabyte.", todo="Save it as .csv.")
            content = book.read(name)
            rows, columns = find_farthest(content)
            cells = content.count(b"<c ")
            if rows * columns > max(MOST_EMPTY, FEWEST_FILLED * cells):
                raise FileError(
                    f"A worksheet of {path.name} has cells far away from its table.",
                    where=f"{name}: {pluralize(cells, 'cell')} in {rows:,} rows and {columns:,} columns",
                    todo="Delete the cells far below or far to the right, and save the workbook again.",
                )


def require_plausible_counts(path: Path, book: zipfile.ZipFile) -> None:
    """Stop if a workbook announces far more texts, or spaces in a row, than it can hold, which would exhaust memory.

    Raises FileError with the announced number.
    """
    for part, count in COUNTS.items():
        if part not in book.namelist() or book.getinfo(part).file_size > LARGEST_SHEET:
            continue
        content = book.read(part)
        announced = max(map(int, count.findall(content)), default=0)
        if announced > max(len(content), LARGEST_COUNT):
            raise FileError(
                f"{path.name} announces {announced:,} texts or spaces, but is far too small for them.",
                where=part,
                todo="It is damaged: open it in a spreadsheet program and save it again.",
            )


def find_farthest(content: bytes) -> tuple[int, int]:
    """Return the last row and the last column that has a cell.

    >>> find_farthest(b'<row r="2"><c r="AB2"/></row><row r="7"><c r="C7"/></row>')
    (7, 28)
    """
    last = content.rfind(b'<row r="')
    row = int(content[last + 8 :].split(b'"', 1)[0]) if last >= 0 else 0
    # Columns with three and two letters first; those with one letter do not matter.
    for pattern in (THREE_LETTERS, TWO_LETTERS):
        names = set(pattern.findall(content))
        if names:
            return row, max(column_number(name.decode()) for name in names)
    return row, 26


def read_worksheet(path: Path, requested: str) -> tuple[str, list[Row], list[Note]]:
    """Return name and cells of a worksheet: the named one, else the first that is not empty."""
    from python_calamine import CalamineError, CalamineWorkbook, PasswordError

    require_dense(path)
    try:
        book = CalamineWorkbook.from_path(str(path))
        names = book.sheet_names
        if requested and requested not in names:
            raise FileError(
                f"{path.name} has no worksheet {requested}.", todo=f"Its worksheets are {', '.join(names)}."
            )
        for name in [requested] if requested else names:
            rows = add_errors(book.get_sheet_by_name(name).to_python(skip_empty_area=False), path, name)
            if any(count_filled(row) for row in rows):
                break
        else:
            what = f"The worksheet {requested} of {path.name}" if requested else path.name
            raise FileError(f"{what} is empty.", todo=f"Its worksheets are {', '.join(names)}.")
        notes = [NO_ERRORS] if path.suffix.lower() in (".xls", ".xlsb") else []
        notes += note_merged(book, name)
        notes += note_formulas(path, name) if zipfile.is_zipfile(path) else []
    except PasswordError as error:
        raise FileError(f"{path.name} is protected by a password.", todo="Save a copy without one.") from error
    except (CalamineError, ValueError) as error:
        require_no_text(path)
        raise FileError(
            f"{path.name} cannot be read as a workbook.",
            where=descriptor.get_first_line(error),
            todo="Check that it was copied whole and has its own extension.",
        ) from error
    others = ", ".join(name_ for name_ in names if name_ != name and name_ not in DESCRIBING)
    if not requested and others:
        notes.append(Note(f"the worksheet {name} was read; others are {others}: use {path.name}#SHEET.", kind="sheet"))
    return name, list(rows), notes


def require_no_text(path: Path) -> None:
    """Stop with what to do if a file is text, or a web page, under the name of a workbook.

    Raises FileError.
    """
    with path.open("rb") as file:
        head = file.read(1000)
    if not head:
        raise FileError(f"{path.name} is empty.", todo="Check that it was saved or copied whole.")
    if not all(byte in b"\t\n\r" or byte >= 0x20 for byte in head):
        return
    is_page = head.lstrip().startswith(b"<")
    raise FileError(
        f"{path.name} is {'a web page' if is_page else 'text'} and not a workbook.",
        todo="Open it in a spreadsheet program and save it as .xlsx."
        if is_page
        else "Copy it to a name with .csv or .tsv.",
    )


def add_errors(rows: list[list[Any]], path: Path, sheet: str) -> list[list[Any]]:
    """Put the errors in a worksheet, such as #DIV/0!, into its rows as text."""
    for (row, column), text in find_errors(path, sheet).items() if zipfile.is_zipfile(path) else ():
        if row < len(rows) and column < len(rows[row]):
            rows[row][column] = text
    return rows


def note_merged(book: Any, name: str) -> list[Note]:
    """Note merged cells, which hold their value in the first cell only."""
    ranges = getattr(book.get_sheet_by_name(name), "merged_cell_ranges", None) or []
    if not ranges:
        return []
    rows = tuple((first[0] + 1, None) for first, _ in ranges[:5])
    return [Note("merged cells: only the first cell of each holds the value.", "", rows, "merged", len(ranges))]


def note_formulas(path: Path, name: str) -> list[Note]:
    """Note formulas that were never calculated, which are read as blank cells."""
    cells_found = find_uncalculated(path, name)
    if not cells_found:
        return []
    formulas = f"{pluralize(len(cells_found), 'formula')} without a stored value"
    text = f"{formulas}, read as blank: open the workbook in a spreadsheet program, save it, and read it again."
    return [Note(text, "", tuple(cells_found[:5]), "formula", len(cells_found))]


def count_filled(row: Row) -> int:
    """Return the number of cells up to the last that is not empty."""
    return next((index for index in range(len(row), 0, -1) if row[index - 1] not in ("", None)), 0)


def format_cell(cell: object) -> str | None:
    """Return a cell as text: whole numbers without a decimal point, dates as ISO dates, durations as 28:30:00."""
    if cell is None or cell == "":
        return None
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, float):
        return str(int(cell)) if cell.is_integer() and abs(cell) < 1e15 else repr(cell)
    if isinstance(cell, datetime.datetime):
        return cell.date().isoformat() if cell.time() == datetime.time() else cell.isoformat(sep=" ")
    if isinstance(cell, datetime.timedelta):
        return format_duration(cell)
    return str(cell)
