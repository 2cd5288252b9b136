"""Text values of a server as dates, timestamps and decimals, if our types can hold them."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from sqlalchemy import types

from lomrix.core.table.notes import Note
from lomrix.files.arrow_columns import EXACT_DIGITS, TOO_MANY_DIGITS

NOT_A_DATE = "kept as text: it holds dates outside the calendar."


def to_arrow_type(kind: Any) -> pa.DataType:
    """Return the Arrow type that holds all values of a server's type; text if none does."""
    if isinstance(kind, types.Boolean):
        return pa.bool_()
    if isinstance(kind, types.Integer) or kind.__visit_name__ == "YEAR":
        return pa.uint64() if getattr(kind, "unsigned", False) else pa.int64()
    if isinstance(kind, types.Float):
        return pa.float64()
    if isinstance(kind, types.Numeric) and kind.precision is not None and kind.precision <= EXACT_DIGITS:
        return pa.float64()
    # Dates and long numbers are examined before conversion: some fit no calendar and no number.
    return pa.string()


Batch = Sequence[tuple[Any, ...]]


def fetch_batches(cursor: Any, size: int) -> Iterator[Batch]:
    """Yield the rows of a cursor in batches."""
    while rows := cursor.fetchmany(size):
        yield rows


def group_batches(batches: Iterator[Batch], count: int | None) -> Iterator[Iterator[Batch]]:
    """Yield `count` batches at a time (None: all of them), at least once."""
    first = next(batches, None)
    if first is None:
        yield iter(())
    while first is not None:
        yield itertools.chain([first], itertools.islice(batches, None if count is None else max(count - 1, 0)))
        first = next(batches, None)


def convert_table(table: pa.Table, kinds: Sequence[Any]) -> tuple[pa.Table, list[Note]]:
    """Convert text columns of a pyarrow Table to dates, timestamps and numbers, by the server's types."""
    notes: list[Note] = []
    columns = {}
    for name, kind in zip(table.column_names, kinds, strict=True):
        columns[name], more_notes = convert_column(name, table.column(name), kind)
        notes += more_notes
    return pa.table(columns), notes


def convert_column(name: str, cells: pa.ChunkedArray, kind: Any) -> tuple[pa.ChunkedArray, list[Note]]:
    """Convert one column; also return notes."""
    notes: list[Note] = []
    if pa.types.is_uint64(cells.type):
        try:
            return cells.cast(pa.int64()), notes
        except pa.ArrowInvalid:
            text = "kept as text: it holds whole numbers beyond 64 bits with a sign."
            return cells.cast(pa.string()), [Note(text, name, kind="digits-kept")]
    if not pa.types.is_string(cells.type):
        return cells, notes
    if isinstance(kind, types.DateTime):
        if getattr(kind, "timezone", False):
            message = "its timestamps have a zone on the server and were converted to UTC."
            notes = [Note(message, name, kind="offset")]
            cells = pc.replace_substring_regex(cells, r"\+00(:?00)?$", "")
        return cast_or_keep(name, cells, pa.timestamp("us"), notes)
    if isinstance(kind, types.CHAR):  # its padding means nothing
        return pc.utf8_rtrim(cells, " "), notes
    if isinstance(kind, types.Date):
        return cast_or_keep(name, cells, pa.date32(), notes)
    if isinstance(kind, types.Numeric):
        if has_few_digits(cells):
            return cells.cast(pa.float64()), notes
        return cells, [Note(TOO_MANY_DIGITS, name, kind="digits-kept")]
    return cells, notes


def cast_or_keep(
    name: str, cells: pa.ChunkedArray, type_: pa.DataType, notes: list[Note]
) -> tuple[pa.ChunkedArray, list[Note]]:
    """Cast texts to times; keep them, with a note, if one cannot be cast."""
    try:
        return cells.cast(type_), notes
    except pa.ArrowInvalid:
        return cells, [Note(NOT_A_DATE, name, kind="odd-moment")]


def has_few_digits(cells: pa.ChunkedArray) -> bool:
    """Return whether no number has more digits than float64 holds."""
    digits = pc.utf8_length(pc.replace_substring_regex(cells, r"^-?0*\.?0*|\.|0+$", ""))
    return (pc.max(digits).as_py() or 0) <= EXACT_DIGITS
