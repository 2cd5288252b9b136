"""Lines of columns: fixed width, or numbers continued on the next line."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import text_bytes
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.files.text_of_cells import format_in_form
from lomrix.files.text_writer import ROWS_IN_A_PART, Codes, find_first_row


@dataclass(frozen=True)
class ColumnPosition:
    """Position of a column in its record: line, start and width (in characters, from 1), decimals of its numbers, and
    whether it is left-aligned text.
    """

    name: str
    line: int
    start: int
    width: int
    decimals: int
    is_text: bool

    @property
    def end(self) -> int:
        """The last character."""
        return self.start + self.width - 1


def measure_columns(columns: Mapping[str, Column], form: TextForm, codes: Codes) -> tuple[ColumnPosition, ...]:
    """Measure the columns and assign positions, with one space between.

    Raises FileError if a text holds a line break, or a column is wider than a line may be.
    """
    positions: list[ColumnPosition] = []
    line, start = 1, 1
    for name, column in columns.items():
        require_one_line(name, column)
        width, decimals = 1, 0
        for cells in iterate_parts(column, form, codes.get(name, ())):
            width = max(width, pc.max(pc.utf8_length(cells)).as_py() or 0)
            decimals = max(decimals, count_decimals(column, cells, form.decimal))
        if form.line_max and width > form.line_max:
            raise FileError(
                f"{name} is wider than a line of {form.line_max} characters.",
                where=f"its longest cell has {width:,} characters",
                todo="Use a larger ‹line_max›, or leave the column out.",
            )
        if form.line_max and start + width - 1 > form.line_max:
            line, start = line + 1, 1
        positions.append(ColumnPosition(name, line, start, width, decimals, column.type not in ("integer", "number")))
        start += width + 1
    return tuple(positions)


def require_one_line(name: str, column: Column) -> None:
    """Stop if a text holds a line break, which would end its record."""
    for character in "\n\r":
        row = find_first_row(column, character)
        if row is not None:
            raise FileError(
                "A text holds a line break, which would end its row.",
                where=f"{name}, row {row}",
                todo="Remove it first, or leave the column out.",
            )


def iterate_parts(column: Column, form: TextForm, codes: Sequence[str]) -> Iterator[pa.Array]:
    """Yield the cells of a column as text, some rows at a time; a missing one is an empty text."""
    for start in range(0, len(column), ROWS_IN_A_PART):
        yield format_in_form(column.slice(start, start + ROWS_IN_A_PART), {}, form, codes).fill_null("")


def count_decimals(column: Column, cells: pa.Array, separator: str) -> int:
    """Return the largest number of decimals among some cells."""
    if column.type != "number":
        return 0
    index = pc.find_substring(cells, separator)
    decimals = pc.if_else(
        pc.less(index, 0), 0, pc.subtract(pc.subtract(pc.utf8_length(cells), index.cast(pa.int64())), 1)
    )
    return int(pc.max(decimals).as_py() or 0)


def to_scalar(text: str) -> pa.Scalar:
    """Return a text as Arrow needs it for joining."""
    return pa.scalar(text, pa.large_string())


def format_records(
    columns: Mapping[str, Column],
    positions: Sequence[ColumnPosition],
    form: TextForm,
    codes: Codes,
    between: str | None,
) -> Iterator[pa.Buffer]:
    """Yield the records as text, some rows at a time; `between` separates cells, None pads each to its width."""
    rows = len(next(iter(columns.values()))) if columns else 0
    for start in range(0, rows, ROWS_IN_A_PART):
        lines: dict[int, list[pa.Array]] = {}
        for position in positions:
            part = columns[position.name].slice(start, start + ROWS_IN_A_PART)
            cells = format_in_form(part, {}, form, codes.get(position.name, ())).fill_null("")
            if between is None:
                pad = pc.utf8_rpad if position.is_text else pc.utf8_lpad
                cells = pad(cells, position.width)
            lines.setdefault(position.line, []).append(cells)
        lines_joined = [pc.binary_join_element_wise(*cells, to_scalar(between or " ")) for cells in lines.values()]
        text = pc.binary_join_element_wise(*lines_joined, to_scalar(""), to_scalar("\n"))
        starts, data = text_bytes.get_buffers(text)
        yield pa.py_buffer(data[starts[0] : starts[-1]].tobytes())
