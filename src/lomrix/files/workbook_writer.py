"""Workbooks as outputs: the data on one sheet, what they mean on two others."""

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
from lomrix.core.table.notes import FIRST_ROW, Note, rows_and_columns
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.described_sink import DescribedSink
from lomrix.files.dictionary_text import dictionary_sheets
from lomrix.files.missing import Missing

MOST_ROWS = 1_048_576
MOST_COLUMNS = 16_384
LONGEST_CELL = 32_767
# The serial numbers of days begin to be those of the calendar here.
FIRST_DAY = np.datetime64("1900-03-01")
# Sheets show 15 digits of a number; longer whole numbers would be changed by whoever edits the cell.
LARGEST_WHOLE = 10**15 - 1
MOST_EXAMPLES = 3
# The sheets that tell what the data mean.
DESCRIBING = ("variables", "codes")
NARROWEST, WIDEST = 6, 60
# Cells that are looked at for the width of a column.
SAMPLE = 1_000


@dataclass
class Writer(DescribedSink):
    """A workbook: the data on the first sheet, the dictionary on two others; the descriptor stands beside it."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        require_fitting(content, self.path.name)
        missing = self.missing(content)
        self.notes = [note for name, column in content.columns.items() for note in beyond_a_sheet(name, column)]
        title = sheet_title(content.name)
        sheets: dict[str, tuple[Table, Mapping[str, Missing]]] = {title: (content, missing)}
        known = content.dictionary.for_columns(content.names)
        if known.variables and title.lower() not in DESCRIBING:
            described = dictionary_sheets(known)
            sheets |= {name: (described[name], {}) for name in DESCRIBING if len(described[name])}
        write_sheets(part, sheets)
        return self.described(part, descriptor.descriptor(content, missing, primary_key=self.delivery.primary_key))


def require_fitting(table: Table, file: str) -> None:
    """Stop where a sheet cannot hold a table.

    Raises
    ------
    FileError
        Naming what is too much.
    """
    if len(table) >= MOST_ROWS or len(table.names) > MOST_COLUMNS:
        raise FileError(
            f"{file} was not written: a sheet holds {MOST_ROWS - 1:,} rows and {MOST_COLUMNS:,} columns.",
            where=f"the table has {rows_and_columns(len(table), len(table.names))}",
            todo="Write .csv or .parquet.",
        )
    for name, column in table.columns.items():
        if column.type != "string" or not len(column):
            continue
        lengths = pc.utf8_length(column.to_arrow()).fill_null(0).to_numpy(zero_copy_only=False)
        if lengths.max() > LONGEST_CELL:
            raise FileError(
                f"{file} was not written: a cell of a sheet holds {LONGEST_CELL:,} signs.",
                where=f"{name}, row {int(lengths.argmax()) + FIRST_ROW}: {lengths.max():,} signs",
                todo="Write .csv or .parquet.",
            )


def sheet_cells_of(column: Column) -> list[object]:
    """The cells of a column as a sheet can hold them without a change: as text what its numbers and days cannot."""
    cells: list[object] = list(column.cells())
    rows = rows_beyond_a_sheet(column)
    if len(rows):
        for row, text in zip(rows.tolist(), column.take(rows).to_text().to_pylist(), strict=True):
            cells[row] = text
    return cells


def rows_beyond_a_sheet(column: Column) -> npt.NDArray[np.int64]:
    """Rows whose cell no number or day of a sheet can hold: whole numbers of 16 digits, days before 1900."""
    if column.type == "integer":
        odd = np.abs(column.values) > LARGEST_WHOLE
    elif column.type == "date":
        odd = column.values < FIRST_DAY
    elif column.type == "datetime":
        # Times of day are fractions of a number there, good for thousandths of a second.
        odd = (column.values < FIRST_DAY) | (column.values.astype("datetime64[ms]") != column.values)
    else:
        return np.zeros(0, np.int64)
    return np.flatnonzero(odd & ~column.is_missing)


def beyond_a_sheet(name: str, column: Column) -> list[Note]:
    """What is told of the cells of a column that are written as text."""
    rows = rows_beyond_a_sheet(column)
    if column.type == "number" and (minus := np.flatnonzero((column.values == 0) & np.signbit(column.values))).size:
        examples = tuple((int(row) + FIRST_ROW, "-0.0") for row in minus[:MOST_EXAMPLES])
        return [Note("a sheet has no minus before 0: -0.0 is written as 0.", name, examples, "minus-zero", len(minus))]
    if not len(rows):
        return []
    shown = column.take(rows[:MOST_EXAMPLES]).to_text().to_pylist()
    text = f"written as text, since a sheet has no such {column.type}; other programs see text there."
    examples = tuple(zip((rows[:MOST_EXAMPLES] + FIRST_ROW).tolist(), shown, strict=True))
    return [Note(text, name, examples, "beyond-a-sheet", len(rows))]


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
    from xlsxwriter.worksheet import Worksheet

    class Sheet17(Worksheet):  # type: ignore[misc]
        """A sheet whose numbers keep all 17 digits."""

        def _xml_number_element(self, number: float, attributes: Any = ()) -> None:
            told = "".join(f' {key}="{value}"' for key, value in attributes)
            text = repr(float(number)).removesuffix(".0")
            self.fh.write(f"<c{told}><v>{text}</v></c>")

    # The moment of making is fixed, so that the same table gives the same bytes.
    book = xlsxwriter.Workbook(str(path), {"strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"created": datetime.datetime(2000, 1, 1)})
    formats = {
        "date": book.add_format({"num_format": "yyyy-mm-dd"}),
        "datetime": book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"}),
        # What stands there as text stays text when a person edits it.
        "string": book.add_format({"num_format": "@"}),
    }
    head = book.add_format({"bold": True, "bottom": 1})
    for title, (table, missing) in tables.items():
        sheet = book.add_worksheet(title, Sheet17)
        for place, (name, column) in enumerate(table.columns.items()):
            sheet.write_string(0, place, name, head)
            told = missing[name].texts if name in missing else {}
            words = ["", *(told.get(reason, "") for reason in column.reasons)]
            cells = sheet_cells_of(column)
            why = column.why.tolist() if column.why is not None else [0] * len(cells)
            filled = [words[number] if number else cell for cell, number in zip(cells, why, strict=True)]
            sheet.write_column(FIRST_ROW - 1, place, filled, formats.get(column.type))
            sheet.set_column(place, place, width_of(name, filled), formats.get(column.type))
        sheet.freeze_panes(FIRST_ROW - 1, 0)
        if len(table):
            sheet.autofilter(0, 0, len(table), len(table.names) - 1)
    try:
        book.close()
    except xlsxwriter.exceptions.FileCreateError as error:
        # What the system said stands inside the library's own error.
        cause = error.args[0] if error.args else error
        raise cause if isinstance(cause, OSError) else OSError(str(error)) from error


def width_of(name: str, cells: Sequence[object]) -> int:
    """A width in which the name, beside the sign of the filter, and the first cells can be read."""
    longest = max((len(str(cell)) for cell in cells[:SAMPLE] if cell is not None), default=0)
    return min(max(longest + 1, len(name) + 3, NARROWEST), WIDEST)
