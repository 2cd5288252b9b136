"""Values of many texts at once: which fit a pattern, dates of the calendar, whole numbers."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import text_bytes
from lomrix.core.arrays.types import Array
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW, Note
from lomrix.core.table.types import Type
from lomrix.core.text import rules

ARROW_TYPES = {
    "integer": pa.int64(),
    "number": pa.float64(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}
# A number that could be written with fewer signs.
LONGER = r"^\s*\+|[.]\d*0\s*$|[.]\s*$|[eE]|^\s*-?0\d|^\s*-?[.]"
# Bytes of a whole number.
WHOLE_BYTES = 8


def matches(texts: pa.Array, pattern: str) -> npt.NDArray[np.bool_]:
    """True where the whole text fits the pattern."""
    return np.array(pc.match_substring_regex(texts, f"^({pattern})$").to_numpy(zero_copy_only=False), dtype=np.bool_)


def parsed_dates(type_: Type, texts: pa.Array) -> pa.Array:
    """ISO dates or datetimes as an Arrow array; null where a text is none, or no day of the calendar."""
    pattern = rules.DATE if type_ == "date" else f"{rules.DATE}|{rules.DATETIME}"
    array = pc.if_else(pa.array(matches(texts, pattern)), texts, pa.scalar(None, pa.large_string()))
    try:
        return array.cast(ARROW_TYPES[type_])
    except pa.ArrowInvalid:
        real = pc.strptime(pc.utf8_slice_codeunits(array, 0, 10), format="%Y-%m-%d", unit="s", error_is_null=True)
        again = pc.strftime(real, format="%Y-%m-%d").cast(pa.large_string())
        same = pc.equal(again, pc.utf8_slice_codeunits(array, 0, 10))
        return pc.if_else(same, array, pa.scalar(None, pa.large_string())).cast(ARROW_TYPES[type_])


def values_of(array: pa.Array, type_: Type) -> Array:
    """An Arrow array's values, with anything in the null cells."""
    if array.null_count and type_ == "integer":
        return np.frombuffer(array.buffers()[1], np.int64, len(array), array.offset * WHOLE_BYTES)
    return np.asarray(array.to_numpy(zero_copy_only=False))


def as_whole(column: Column | None, strings: pa.Array) -> Column | None:
    """Numbers as whole numbers where no text has a decimal point or an exponent: +5 is 5."""
    if column is None or any(text_bytes.has_byte(strings, sign) for sign in (b".", b"e", b"E")):
        return column
    return Column.of("integer", np.nan_to_num(column.values).astype(np.int64), column.why, column.reasons)


def mask_of(rows: Array, length: int) -> npt.NDArray[np.bool_]:
    """True at the given rows."""
    mask = np.zeros(length, np.bool_)
    mask[rows] = True
    return mask


def shortened_numbers(name: str, column: Column, texts: pa.ChunkedArray) -> Note | None:
    """What is told of numbers whose text is longer than it need be: 31.0, +5, 1e3; None where there are none.

    Parameters
    ----------
    name, column
        The column as it was read.
    texts
        Its cells as they stood in the file.
    """
    if column.type not in ("integer", "number"):
        return None
    cells: pa.Array = pa.concat_arrays(texts.chunks) if texts.num_chunks else pa.nulls(0, pa.string())
    longer = np.flatnonzero(pc.fill_null(pc.match_substring_regex(cells, LONGER), False).to_numpy(zero_copy_only=False))
    if not len(longer):
        return None
    examples = tuple((int(at) + FIRST_ROW, cells[int(at)].as_py()) for at in longer[:5])
    text = "numbers are written in their shortest form, so that 31.0 comes back as 31."
    return Note(text, name, examples, "shortened", len(longer), done=True)
