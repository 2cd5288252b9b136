"""Lines of columns: of fixed width, or of numbers that go on in a new line where a line is full."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import text_bytes
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.files.text_of_cells import in_form
from lomrix.files.text_writer import ROWS_IN_A_PART, Codes, first_row_with


@dataclass(frozen=True)
class Place:
    """Where a column stands in its record.

    Parameters
    ----------
    name
        The column.
    line, start, width
        The line of the record, and in it the first sign and the number of signs, counted from 1.
    decimals
        Decimal places that its numbers have at most.
    is_text
        Whether it stands to the left, as texts do, and not to the right.
    """

    name: str
    line: int
    start: int
    width: int
    decimals: int
    is_text: bool

    @property
    def end(self) -> int:
        """The last sign."""
        return self.start + self.width - 1


def found_places(columns: Mapping[str, Column], form: TextForm, codes: Codes) -> tuple[Place, ...]:
    """Measure the columns and give each its place, one blank between two.

    Raises
    ------
    FileError
        Where a text holds a line break, or one column is wider than a line may be.
    """
    places: list[Place] = []
    line, start = 1, 1
    for name, column in columns.items():
        require_one_line(name, column)
        width, decimals = 1, 0
        for cells in parts(column, form, codes.get(name, ())):
            width = max(width, pc.max(pc.utf8_length(cells)).as_py() or 0)
            decimals = max(decimals, decimal_places(column, cells, form.decimal))
        if form.line_max and width > form.line_max:
            raise FileError(
                f"{name} is wider than a line of {form.line_max} signs.",
                where=f"its longest cell has {width:,} signs",
                todo="Say a larger ‹line_max›, or leave the column out.",
            )
        if form.line_max and start + width - 1 > form.line_max:
            line, start = line + 1, 1
        places.append(Place(name, line, start, width, decimals, column.type not in ("integer", "number")))
        start += width + 1
    return tuple(places)


def require_one_line(name: str, column: Column) -> None:
    """Stop where a text holds a line break, which would end its record."""
    for sign in "\n\r":
        row = first_row_with(column, sign)
        if row is not None:
            raise FileError(
                "A text holds a line break, which would end its row.",
                where=f"{name}, row {row}",
                todo="Take it out first, or leave the column out.",
            )


def parts(column: Column, form: TextForm, codes: Sequence[str]) -> Iterator[pa.Array]:
    """The cells of a column as texts, some rows at a time; a missing one is an empty text."""
    for start in range(0, len(column), ROWS_IN_A_PART):
        yield in_form(column.part(start, start + ROWS_IN_A_PART), {}, form, codes).fill_null("")


def decimal_places(column: Column, cells: pa.Array, sign: str) -> int:
    """How many decimal places the numbers among some cells have at most."""
    if column.type != "number":
        return 0
    at = pc.find_substring(cells, sign)
    places = pc.if_else(pc.less(at, 0), 0, pc.subtract(pc.subtract(pc.utf8_length(cells), at.cast(pa.int64())), 1))
    return int(pc.max(places).as_py() or 0)


def as_scalar(text: str) -> pa.Scalar:
    """A text as Arrow joins it with others."""
    return pa.scalar(text, pa.large_string())


def records(
    columns: Mapping[str, Column], places: Sequence[Place], form: TextForm, codes: Codes, between: str | None
) -> Iterator[pa.Buffer]:
    """The records as text, some rows at a time.

    Parameters
    ----------
    columns, places
        The columns, and where they stand.
    form, codes
        How cells are written.
    between
        The sign between two cells; None where each is padded to its width.
    """
    rows = len(next(iter(columns.values()))) if columns else 0
    for start in range(0, rows, ROWS_IN_A_PART):
        lines: dict[int, list[pa.Array]] = {}
        for place in places:
            part = columns[place.name].part(start, start + ROWS_IN_A_PART)
            cells = in_form(part, {}, form, codes.get(place.name, ())).fill_null("")
            if between is None:
                pad = pc.utf8_rpad if place.is_text else pc.utf8_lpad
                cells = pad(cells, place.width)
            lines.setdefault(place.line, []).append(cells)
        whole = [pc.binary_join_element_wise(*cells, as_scalar(between or " ")) for cells in lines.values()]
        text = pc.binary_join_element_wise(*whole, as_scalar(""), as_scalar("\n"))
        starts, data = text_bytes.offsets_and_data(text)
        yield pa.py_buffer(data[starts[0] : starts[-1]].tobytes())
