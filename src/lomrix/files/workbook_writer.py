"""Workbooks as outputs: the data on one worksheet, their dictionary on two others."""

from __future__ import annotations

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW, Note, format_size
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.dictionary_text import make_sheets
from lomrix.files.missing import MissingPlan
from lomrix.files.staging import DescribedSink

MOST_ROWS = 1_048_576
MOST_COLUMNS = 16_384
LONGEST_CELL = 32_767
# From this day on, serial numbers of days agree with the calendar.
FIRST_DAY = np.datetime64("1900-03-01")
# Spreadsheets keep 15 digits of a number; editing a longer one would change it.
LARGEST_WHOLE = 10**15 - 1
MOST_EXAMPLES = 3
# The worksheets with the dictionary.
DESCRIBING = ("variables", "codes")
NARROWEST, WIDEST = 6, 60
# Cells sampled for the width of a column.
SAMPLE = 1_000


@dataclass
class Writer(DescribedSink):
    """A workbook: data on the first worksheet, the dictionary on two others, and a descriptor beside it."""

    def require_room(self, rows: int, *, is_estimate: bool = False) -> None:
        """Stop if a worksheet cannot hold that many rows."""
        if rows >= MOST_ROWS * (1 + is_estimate):
            raise make_size_error(self.path.name, f"there are {'about ' if is_estimate else ''}{rows:,} rows")

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        require_fitting(content, self.path.name)
        missing = self.plan_missing(content)
        self.notes = [note for name, column in content.columns.items() for note in note_unrepresentable(name, column)]
        title = make_title(content.name)
        sheets: dict[str, tuple[Table, Mapping[str, MissingPlan]]] = {title: (content, missing)}
        dictionary = content.dictionary.for_columns(content.names)
        if dictionary.variables and title.lower() not in DESCRIBING:
            dictionary_tables = make_sheets(dictionary)
            sheets |= {name: (dictionary_tables[name], {}) for name in DESCRIBING if len(dictionary_tables[name])}
        write_sheets(part, sheets)
        return self.make_descriptor(
            part, descriptor.make_descriptor(content, missing, primary_key=self.delivery.primary_key)
        )


def make_size_error(file: str, where: str) -> FileError:
    """Make the error for a table that is too large."""
    what = f"{file} was not written: a worksheet holds {MOST_ROWS - 1:,} rows and {MOST_COLUMNS:,} columns."
    return FileError(what, where=where, todo="Write .csv or .parquet.")


def require_fitting(table: Table, file: str) -> None:
    """Stop if a worksheet cannot hold a table.

    Raises FileError naming what is too large.
    """
    if len(table) >= MOST_ROWS or len(table.names) > MOST_COLUMNS:
        raise make_size_error(file, f"the table has {format_size(len(table), len(table.names))}")
    for name, column in table.columns.items():
        if column.type != "string" or not len(column):
            continue
        lengths = pc.utf8_length(column.to_arrow()).fill_null(0).to_numpy(zero_copy_only=False)
        if lengths.max() > LONGEST_CELL:
            raise FileError(
                f"{file} was not written: a cell of a worksheet holds {LONGEST_CELL:,} characters.",
                where=f"{name}, row {int(lengths.argmax()) + FIRST_ROW}: {lengths.max():,} characters",
                todo="Write .csv or .parquet.",
            )


def to_sheet_cells(column: Column) -> list[object]:
    """Return the cells of a column as a worksheet can hold them unchanged: as text if its numbers and dates cannot."""
    cells: list[object] = list(column.cells())
    rows = find_unrepresentable(column)
    if len(rows):
        for row, text in zip(rows.tolist(), column.take(rows).to_text().to_pylist(), strict=True):
            cells[row] = text
    return cells


def find_unrepresentable(column: Column) -> npt.NDArray[np.int64]:
    """Return the rows whose cell no worksheet number or date can hold: 16-digit integers, dates before 1900."""
    if column.type == "integer":
        is_beyond = np.abs(column.values) > LARGEST_WHOLE
    elif column.type == "date":
        is_beyond = column.values < FIRST_DAY
    elif column.type == "datetime":
        # Times of day are fractions of a number there, good for thousandths of a second.
        is_beyond = (column.values < FIRST_DAY) | (column.values.astype("datetime64[ms]") != column.values)
    else:
        return np.zeros(0, np.int64)
    return np.flatnonzero(is_beyond & ~column.is_missing)


def note_unrepresentable(name: str, column: Column) -> list[Note]:
    """Note the cells of a column that are written as text."""
    rows = find_unrepresentable(column)
    if column.type == "number" and (minus := np.flatnonzero((column.values == 0) & np.signbit(column.values))).size:
        examples = tuple((int(row) + FIRST_ROW, "-0.0") for row in minus[:MOST_EXAMPLES])
        return [Note("a worksheet has no -0.0: it is written as 0.", name, examples, "minus-zero", len(minus))]
    if not len(rows):
        return []
    shown = column.take(rows[:MOST_EXAMPLES]).to_text().to_pylist()
    text = f"written as text, since a worksheet has no such {column.type}; other programs see text there."
    examples = tuple(zip((rows[:MOST_EXAMPLES] + FIRST_ROW).tolist(), shown, strict=True))
    return [Note(text, name, examples, "beyond-a-sheet", len(rows))]


def make_title(name: str) -> str:
    """Return a name as a worksheet may have it: 31 characters, without forbidden ones."""
    return "".join("_" if character in "[]:*?/\\" else character for character in name)[:31].strip("'") or "Sheet1"


def write_sheets(path: Path, tables: Mapping[str, tuple[Table, Mapping[str, MissingPlan]]]) -> None:
    """Write tables as the worksheets of one workbook; for each table, how missing cells are written."""
    import xlsxwriter
    from xlsxwriter.worksheet import Worksheet

    class Sheet17(Worksheet):  # type: ignore[misc]
        """A worksheet whose numbers keep all 17 digits."""

        def _xml_number_element(self, number: float, attributes: Any = ()) -> None:
            texts = "".join(f' {key}="{value}"' for key, value in attributes)
            text = repr(float(number)).removesuffix(".0")
            self.fh.write(f"<c{texts}><v>{text}</v></c>")

    # The creation time is fixed, so that the same table gives the same bytes.
    book = xlsxwriter.Workbook(str(path), {"strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"created": datetime.datetime(2000, 1, 1)})
    formats = {
        "date": book.add_format({"num_format": "yyyy-mm-dd"}),
        "datetime": book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"}),
        # Text stays text when a person edits it.
        "string": book.add_format({"num_format": "@"}),
    }
    head = book.add_format({"bold": True, "bottom": 1})
    for title, (table, missing) in tables.items():
        sheet = book.add_worksheet(title, Sheet17)
        for index, (name, column) in enumerate(table.columns.items()):
            sheet.write_string(0, index, name, head)
            texts = missing[name].texts if name in missing else {}
            reason_texts = ["", *(texts.get(reason, "") for reason in column.reasons)]
            cells = to_sheet_cells(column)
            why = column.why.tolist() if column.why is not None else [0] * len(cells)
            values = [reason_texts[number] if number else cell for cell, number in zip(cells, why, strict=True)]
            sheet.write_column(FIRST_ROW - 1, index, values, formats.get(column.type))
            sheet.set_column(index, index, choose_width(name, values), formats.get(column.type))
        sheet.freeze_panes(FIRST_ROW - 1, 0)
        if len(table):
            sheet.autofilter(0, 0, len(table), len(table.names) - 1)
    try:
        book.close()
    except xlsxwriter.exceptions.FileCreateError as error:
        # The system's error is inside the library's error.
        cause = error.args[0] if error.args else error
        raise cause if isinstance(cause, OSError) else OSError(str(error)) from error


def choose_width(name: str, cells: Sequence[object]) -> int:
    """Return a width in which the name, beside the filter button, and the first cells can be read."""
    longest = max((len(str(cell)) for cell in cells[:SAMPLE] if cell is not None), default=0)
    return min(max(longest + 1, len(name) + 3, NARROWEST), WIDEST)
