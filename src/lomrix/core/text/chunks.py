"""Columns of text in chunks: plain numbers chunk by chunk, all others at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import cast

import numpy as np
import pyarrow as pa

from lomrix.core.arrays import text_bytes
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.renaming import concatenate_whys
from lomrix.core.table.variable import NO_ENTRY, Variable
from lomrix.core.text.reading import GLANCE, Reading, read_text_column
from lomrix.core.text.similarity import guess_number_type

# Columns of up to this many rows are concatenated first.
FEW_ROWS = 50_000
# Like `map`.
Each = Callable[[Callable[[pa.Array], Column | None], Iterable[pa.Array]], Iterable[Column | None]]


def read_text_chunks(
    name: str,
    chunks: pa.ChunkedArray,
    variable: Variable = NO_ENTRY,
    date_format: str = "",
    decimal: str = ".",
    thousands: str = "",
    each: Each = map,
) -> tuple[Column, list[Note]]:
    """Turn text cells in several Arrow arrays into one typed column, as `read_text_column` does.

    Plain numbers are cast array by array, which saves concatenating their text; `each` may do so in parallel.
    """
    if chunks.num_chunks > 1 and len(chunks) > FEW_ROWS and not date_format and decimal == "." and not thousands:
        column = _read_plain_numbers(name, chunks, variable, each)
        if column is not None:
            return column, []
    # Always one array: large strings hold any amount of text.
    whole = cast(pa.Array, chunks.cast(pa.large_string()).combine_chunks())
    return read_text_column(name, whole, variable, date_format, decimal, thousands)


def _read_plain_numbers(name: str, chunks: pa.ChunkedArray, variable: Variable, each: Each) -> Column | None:
    """Read a column whose every cell is a plain number or blank, with nothing to note; None otherwise."""
    if variable.type not in (None, "integer", "number"):
        return None
    largest = Reading(name, max(chunks.chunks, key=len), variable)
    type_ = variable.type or guess_number_type(largest.sample_kinds(GLANCE))
    # Only all cells show whether points are between thousands.
    if type_ is None or (variable.type is None and largest.may_be_grouped()):
        return None

    def plain(chunk: pa.Array) -> Column | None:
        return None if text_bytes.has_byte(chunk, b" ") else Reading(name, chunk, variable).cast(type_)

    parts = []
    for column in each(plain, chunks.chunks):
        if column is None or column.type != type_:
            return None
        parts.append(column)
    why, reasons = concatenate_whys(parts)
    return Column(type_, np.concatenate([part.values for part in parts]), why, reasons)
