"""Workbooks: .xlsx and .ods, as people type them, with title lines above and dates as dates."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import pyarrow as pa

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW, Note
from lomrix.core.table.table import Table
from lomrix.core.text.reading import typed_column
from lomrix.files import descriptor
from lomrix.files.described_sink import DescribedSink
from lomrix.files.file_source import Cells, FileSource, shifted
from lomrix.files.missing import Missing
from lomrix.files.text_layout import column_names

# The header is looked for among so many rows.
HEAD_ROWS = 40
MOST_ROWS = 1_048_576
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
        at = header_row(rows)
        if at:
            text = f"{at} title lines above the header, which is row {at + 1}, were passed over."
            notes.append(Note(text, kind="title"))
        width = max(len(rows[at]), max((last_filled(row) for row in rows[at:]), default=0))
        header = [cell_text(cell) or "" for cell in [*rows[at], *[""] * width][:width]]
        while header and not header[-1] and all(last_filled(row) < len(header) for row in rows[at:]):
            header.pop()
        names, name_notes = column_names(header, self.path)
        body = rows[at + 1 :]
        while body and not last_filled(body[-1]):
            body.pop()
        return Sheet(name, names, body, at, (*name_notes, *notes))

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
            format_, decimal = self.settings.date_format(name), self.settings.decimal
            columns[name], more = typed_column(name, strings, variable, format_, decimal)
            notes += [shifted(note, sheet.header_at) for note in more]
        told = sheet.name if self.sheet else self.path.stem
        return Cells(columns, (*sheet.notes, *notes), FIRST_ROW + sheet.header_at, told)


def sheet_cells(path: Path, wanted: str) -> tuple[str, list[Row], list[Note]]:
    """Name and cells of a sheet: the one that was named, else the first that holds something."""
    from python_calamine import CalamineError, CalamineWorkbook, PasswordError

    try:
        book = CalamineWorkbook.from_path(str(path))
        names = book.sheet_names
        if wanted and wanted not in names:
            raise FileError(f"{path.name} has no sheet {wanted}.", todo=f"Its sheets are {', '.join(names)}.")
        for name in [wanted] if wanted else names:
            rows = book.get_sheet_by_name(name).to_python(skip_empty_area=False)
            if any(last_filled(row) for row in rows):
                break
        else:
            raise FileError(f"{path.name} holds no cell.", todo="Name the sheet: workbook.xlsx#Sheet")
        notes = merged_notes(book, name)
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
    if not wanted and len(names) > 1:
        others = ", ".join(one for one in names if one != name)
        notes.append(Note(f"the sheet {name} was read; others are {others}: say {path.name}#SHEET.", kind="sheet"))
    return name, list(rows), notes


def merged_notes(book: Any, name: str) -> list[Note]:
    """Merged cells hold their value in the first cell only, which a person should know."""
    ranges = getattr(book.get_sheet_by_name(name), "merged_cell_ranges", None) or []
    if not ranges:
        return []
    rows = tuple((first[0] + 1, None) for first, _ in ranges[:5])
    return [Note("merged cells: only the first cell of each holds the value.", "", rows, "merged", len(ranges))]


def last_filled(row: Row) -> int:
    """How many cells a row has up to the last that is filled."""
    return next((at for at in range(len(row), 0, -1) if row[at - 1] not in ("", None)), 0)


def header_row(rows: list[Row]) -> int:
    """The row of the header: the first that is as full as the table below it, title lines being shorter."""
    head = rows[:HEAD_ROWS]
    filled = [sum(cell not in ("", None) for cell in row) for row in head]
    widest = max(filled)
    for at, (row, count) in enumerate(zip(head, filled, strict=True)):
        if count >= max(1, 0.8 * widest) and all(isinstance(cell, str | int | float) for cell in row):
            return at
    return next(at for at, count in enumerate(filled) if count)


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


@dataclass
class Writer(DescribedSink):
    """A workbook with one sheet; the descriptor stands beside it."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        if len(content) >= MOST_ROWS:
            raise FileError(
                f"{self.path.name} was not written: a sheet holds {MOST_ROWS - 1:,} rows.",
                todo="Write .csv or .parquet.",
            )
        missing = self.missing(content)
        write_sheets(part, {sheet_title(content.name): (content, missing)})
        return self.described(part, descriptor.descriptor(content, missing))


def sheet_title(name: str) -> str:
    """A name as a sheet may have it: 31 signs, none of those that a sheet's name cannot hold."""
    return "".join("_" if sign in "[]:*?/\\" else sign for sign in name)[:31].strip("'") or "Sheet1"


def write_sheets(path: Path, tables: Mapping[str, tuple[Table, Mapping[str, Missing]]]) -> None:
    """Write tables as the sheets of one workbook.

    Parameters
    ----------
    path
        Where to write.
    tables
        By title, a table, and by column how its missing cells are written.
    """
    import xlsxwriter

    # The moment of making is fixed, so that the same table gives the same bytes.
    book = xlsxwriter.Workbook(str(path), {"strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"created": datetime.datetime(2000, 1, 1)})
    formats = {
        "date": book.add_format({"num_format": "yyyy-mm-dd"}),
        "datetime": book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"}),
    }
    for title, (table, missing) in tables.items():
        sheet = book.add_worksheet(title)
        for place, (name, column) in enumerate(table.columns.items()):
            sheet.write_string(0, place, name)
            told = missing[name].texts if name in missing else {}
            words = ["", *(told.get(reason, "") for reason in column.reasons)]
            cells = column.cells()
            why = column.why.tolist() if column.why is not None else [0] * len(cells)
            filled = [words[number] if number else cell for cell, number in zip(cells, why, strict=True)]
            sheet.write_column(FIRST_ROW - 1, place, filled, formats.get(column.type))
    book.close()
