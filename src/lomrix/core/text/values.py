"""Values of many texts at once: pattern matching, calendar dates, integers."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import text_bytes
from lomrix.core.arrays.types import Array
from lomrix.core.characters import unify_characters
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW, Note
from lomrix.core.table.numbers import Type
from lomrix.core.text import rules

ARROW_TYPES = {
    "integer": pa.int64(),
    "number": pa.float64(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}
# A number that could be written with fewer characters.
LONGER = r"^\s*\+|[.]\d*0\s*$|[.]\s*$|[eE]|^\s*-?0\d|^\s*-?[.]"
# Bytes of a whole number.
WHOLE_BYTES = 8


def choose_sample(rows: int, size: int) -> Array:
    """Return the first rows and about `size` of the others; all if they are no more than that."""
    if rows <= size:
        return np.arange(rows)
    return np.unique(np.concatenate([np.arange(size // 3), np.linspace(0, rows - 1, size).astype(np.int64)]))


def has_ids(strings: pa.Array) -> bool:
    """Return whether a text that would be a number looks like an id: 12E4, +49123."""
    if not any(text_bytes.has_byte(strings, byte) for byte in (b"E", b"+")):
        return False
    return bool(match_texts(strings.drop_null(), rules.ID_LIKE).any())


def match_texts(texts: pa.Array, pattern: str) -> npt.NDArray[np.bool_]:
    """Return for each text whether all of it matches the pattern."""
    return np.array(pc.match_substring_regex(texts, f"^({pattern})$").to_numpy(zero_copy_only=False), dtype=np.bool_)


def parse_iso_dates(type_: Type, texts: pa.Array) -> pa.Array:
    """Parse ISO dates or datetimes as an Arrow array; null for other texts and impossible dates."""
    pattern = rules.DATE if type_ == "date" else f"{rules.DATE}|{rules.DATETIME}"
    array = pc.if_else(pa.array(match_texts(texts, pattern)), texts, pa.scalar(None, pa.large_string()))
    try:
        return array.cast(ARROW_TYPES[type_])
    except pa.ArrowInvalid:
        parsed = pc.strptime(pc.utf8_slice_codeunits(array, 0, 10), format="%Y-%m-%d", unit="s", error_is_null=True)
        formatted = pc.strftime(parsed, format="%Y-%m-%d").cast(pa.large_string())
        same = pc.equal(formatted, pc.utf8_slice_codeunits(array, 0, 10))
        return pc.if_else(same, array, pa.scalar(None, pa.large_string())).cast(ARROW_TYPES[type_])


def collapse_spaces(texts: pa.Array) -> pa.Array:
    """Return texts without surrounding spaces, and with one space where there are several or others, such as no-break
    spaces.
    """
    return pc.replace_substring_regex(pc.utf8_trim_whitespace(texts), r"[\s\pZ]+", " ")


def unify_texts(texts: pa.Array) -> pa.Array:
    """Return distinct texts in which characters that look alike are the same."""
    if text_bytes.is_ascii(texts):
        return texts
    return pa.array([None if text is None else unify_characters(text) for text in texts.to_pylist()], pa.large_string())


def get_values(array: pa.Array, type_: Type) -> Array:
    """Return an Arrow array's values, arbitrary in null cells."""
    if array.null_count and type_ == "integer":
        return np.frombuffer(array.buffers()[1], np.int64, len(array), array.offset * WHOLE_BYTES)
    return np.asarray(array.to_numpy(zero_copy_only=False))


def to_integers(column: Column | None, strings: pa.Array) -> Column | None:
    """Return numbers as integers if no text has a decimal point or an exponent: +5 is 5."""
    if column is None or any(text_bytes.has_byte(strings, byte) for byte in (b".", b"e", b"E")):
        return column
    return Column.of("integer", np.nan_to_num(column.values).astype(np.int64), column.why, column.reasons)


def make_mask(rows: Array, length: int) -> npt.NDArray[np.bool_]:
    """Return a mask that is True at the given rows."""
    mask = np.zeros(length, np.bool_)
    mask[rows] = True
    return mask


def note_shortened_numbers(name: str, column: Column, texts: pa.ChunkedArray) -> Note | None:
    """Note numbers whose text is longer than necessary: 31.0, +5, 1e3; None if there are none."""
    if column.type not in ("integer", "number"):
        return None
    cells: pa.Array = pa.concat_arrays(texts.chunks) if texts.num_chunks else pa.nulls(0, pa.string())
    longer = np.flatnonzero(pc.fill_null(pc.match_substring_regex(cells, LONGER), False).to_numpy(zero_copy_only=False))
    if not len(longer):
        return None
    examples = tuple((int(row) + FIRST_ROW, cells[int(row)].as_py()) for row in longer[:MOST_EXAMPLES])
    text = "numbers are written in their shortest form, so that 31.0 comes back as 31."
    return Note(text, name, examples, "shortened", len(longer), done=True)
