"""Texts of a server as the days, moments and decimals that they are, where ours can hold them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from sqlalchemy import types

from lomrix.core.table.notes import Note

MOST_DIGITS = 38
NO_MOMENT = "stays text: it holds days or moments that no calendar here has."


def arrow_type(kind: Any) -> pa.DataType:
    """The Arrow type that holds all values of a server's type; text where none of ours does."""
    if isinstance(kind, types.Boolean):
        return pa.bool_()
    if isinstance(kind, types.Integer):
        return pa.uint64() if getattr(kind, "unsigned", False) else pa.int64()
    if isinstance(kind, types.Float):
        return pa.float64()
    if isinstance(kind, types.Numeric) and kind.precision is not None and kind.precision <= MOST_DIGITS:
        return pa.decimal128(kind.precision, kind.scale or 0)
    # Days and moments are looked at before they are taken for some: servers know others than calendars do.
    return pa.string()


def in_our_types(table: pa.Table, kinds: Sequence[Any]) -> tuple[pa.Table, list[Note]]:
    """A table with days, moments and numbers of the server where its texts are all such.

    Parameters
    ----------
    table
        A pyarrow Table.
    kinds
        The server's type of each column.
    """
    notes: list[Note] = []
    columns = {}
    for name, kind in zip(table.column_names, kinds, strict=True):
        columns[name], told = in_our_type(name, table.column(name), kind)
        notes += told
    return pa.table(columns), notes


def in_our_type(name: str, cells: pa.ChunkedArray, kind: Any) -> tuple[pa.ChunkedArray, list[Note]]:
    """One column, and what a person should know of it."""
    notes: list[Note] = []
    if pa.types.is_uint64(cells.type):
        try:
            return cells.cast(pa.int64()), notes
        except pa.ArrowInvalid:
            text = "stays text: it holds whole numbers beyond 64 bits with a sign."
            return cells.cast(pa.string()), [Note(text, name, kind="digits-kept")]
    if not pa.types.is_string(cells.type):
        return cells, notes
    if isinstance(kind, types.DateTime):
        if getattr(kind, "timezone", False):
            told = "its moments have a zone on the server; they stand in universal time."
            notes = [Note(told, name, kind="offset")]
            cells = pc.replace_substring_regex(cells, r"\+00(:?00)?$", "")
        return moments(name, cells, pa.timestamp("us"), notes)
    if isinstance(kind, types.Date):
        return moments(name, cells, pa.date32(), notes)
    if isinstance(kind, types.Numeric):  # of any number of digits
        return moments(name, cells, pa.float64(), notes) if is_short(cells) else (cells, notes)
    return cells, notes


def moments(
    name: str, cells: pa.ChunkedArray, wanted: pa.DataType, notes: list[Note]
) -> tuple[pa.ChunkedArray, list[Note]]:
    """Texts as days, moments or numbers; as they are, with a note, where one of them is none."""
    try:
        return cells.cast(wanted), notes
    except pa.ArrowInvalid:
        return cells, [Note(NO_MOMENT, name, kind="odd-moment")]


def is_short(cells: pa.ChunkedArray) -> bool:
    """True where no number has more digits than one of ours holds."""
    digits = pc.utf8_length(pc.replace_substring_regex(cells, r"^-?0*\.?0*|\.|0+$", ""))
    return (pc.max(digits).as_py() or 0) <= 15
