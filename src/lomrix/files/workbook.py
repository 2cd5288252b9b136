"""Workbooks: .xlsx and .ods, as people type them, with title lines above and dates as dates."""

from __future__ import annotations

import datetime
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pyarrow as pa

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.from_text import typed_column
from lomrix.core.table.notes import FIRST_ROW, Note
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.delimited import column_names
from lomrix.files.read import Read, ReadSettings
from lomrix.files.tokens import tokens_of

# The header is looked for among so many rows.
HEAD_ROWS = 40
MOST_ROWS = 1_048_576


def read_table(path: Path, settings: ReadSettings) -> Read:
    """Read one sheet of a workbook.

    Raises
    ------
    FileError
        Where it is protected, damaged, empty, or has no such sheet.
    """
    name, rows, notes = sheet_cells(path, settings.sheet)
    at = header_row(rows)
    if at:
        notes.append(Note(f"{at} title lines above the header, which is row {at + 1}, were passed over.", kind="title"))
    width = max(len(rows[at]), max((last_filled(row) for row in rows[at:]), default=0))
    header = [cell_text(cell) or "" for cell in [*rows[at], *[""] * width][:width]]
    while header and not header[-1] and all(last_filled(row) < len(header) for row in rows[at:]):
        header.pop()
    names, name_notes = column_names(header, path)
    body = rows[at + 1 :]
    while body and not last_filled(body[-1]):
        body.pop()
    resource = descriptor.found_beside(path)
    beside, history = Dictionary(), ()
    if resource is not None and [field.name for field in resource.schema_.fields] == names:
        beside, history = resource.dictionary(), resource.history  # type: ignore[assignment]
    columns: dict[str, Column] = {}
    for place, column_name in enumerate(names):
        if column_name not in settings.names_needed(names):
            continue
        cells = [cell_text(row[place]) if place < len(row) else None for row in body]
        strings = pa.array(cells, pa.large_string())
        variable = settings.variable(column_name, beside)
        column, more = typed_column(column_name, strings, variable, settings.date_format(column_name), settings.decimal)
        columns[column_name] = column
        notes += [shifted(note, at) for note in more]
    dictionary = settings.dictionary.for_reading(columns).joined(beside).without_tokens()
    name = name if settings.sheet else path.stem
    table = Table(columns, dictionary, history, name, FIRST_ROW + at)
    return Read(table, (*name_notes, *notes), tuple(names))


def shifted(note: Note, rows: int) -> Note:
    """A note whose rows are counted as the sheet counts them, title lines among them."""
    return Note(
        note.text, note.column, tuple((row + rows, value) for row, value in note.examples), note.kind, note.count
    )


def sheet_cells(path: Path, wanted: str) -> tuple[str, list[list[Any]], list[Note]]:
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
    return name, rows, notes


def merged_notes(book: Any, name: str) -> list[Note]:
    """Merged cells hold their value in the first cell only, which a person should know."""
    ranges = getattr(book.get_sheet_by_name(name), "merged_cell_ranges", None) or []
    if not ranges:
        return []
    rows = tuple((first[0] + 1, None) for first, _ in ranges[:5])
    return [Note("merged cells: only the first cell of each holds the value.", "", rows, "merged", len(ranges))]


def last_filled(row: list[Any]) -> int:
    """How many cells a row has up to the last that is filled."""
    return next((at for at in range(len(row), 0, -1) if row[at - 1] not in ("", None)), 0)


def header_row(rows: list[list[Any]]) -> int:
    """The row of the header: the first that is as full as the table below it, title lines being shorter."""
    head = rows[:HEAD_ROWS]
    filled = [sum(cell not in ("", None) for cell in row) for row in head]
    widest = max(filled)
    for at, (row, count) in enumerate(zip(head, filled, strict=True)):
        if count >= max(1, 0.8 * widest) and all(isinstance(cell, str | int | float) for cell in row):
            return at
    return next(at for at, count in enumerate(filled) if count)


def cell_text(cell: Any) -> str | None:
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


def write_table(table: Table, path: Path, final: Path, key: list[str]) -> dict[Path, bytes]:
    """Write a workbook with one sheet; the descriptor will stand beside it.

    Raises
    ------
    FileError
        Where the table has more rows than a sheet.
    """
    if len(table) >= MOST_ROWS:
        raise FileError(
            f"{final.name} was not written: a sheet holds {MOST_ROWS - 1:,} rows.", todo="Write .csv or .parquet."
        )
    tokens = {name: tokens_of(column, table.dictionary.of(name)) for name, column in table.columns.items()}
    write_sheets(path, {table.name[:31]: table}, {table.name[:31]: tokens})
    content = descriptor.descriptor(table, tokens, key)
    digest, size = descriptor.file_hash(path), path.stat().st_size
    return {descriptor.descriptor_path(final): descriptor.descriptor_bytes(final, size, digest, content)}


def write_sheets(path: Path, tables: Mapping[str, Table], tokens: Mapping[str, Any]) -> None:
    """Write tables as the sheets of one workbook."""
    import xlsxwriter

    # The moment of making is fixed, so that the same table gives the same bytes.
    book = xlsxwriter.Workbook(str(path), {"strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"created": datetime.datetime(2000, 1, 1)})
    formats = {
        "date": book.add_format({"num_format": "yyyy-mm-dd"}),
        "datetime": book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"}),
    }
    for title, table in tables.items():
        sheet = book.add_worksheet(title or "Sheet1")
        for place, (name, column) in enumerate(table.columns.items()):
            sheet.write_string(0, place, name)
            told = tokens.get(title, {}).get(name, {})
            words = ["", *(told.get(reason, "") for reason in column.reasons)]
            cells = column.cells()
            why = column.why.tolist() if column.why is not None else [0] * len(cells)
            filled = [words[number] if number else cell for cell, number in zip(cells, why, strict=True)]
            sheet.write_column(FIRST_ROW - 1, place, filled, formats.get(column.type))
    book.close()
