"""Conversion between columns and Arrow tables, whose nulls have no reasons."""

from __future__ import annotations

import datetime
import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.text_bytes import get_buffers
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Words
from lomrix.core.errors import FileError
from lomrix.core.table.column import DTYPES, FILLERS, Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import FIRST_ROW, Note, pluralize
from lomrix.core.table.numbers import Type
from lomrix.core.table.pool import Pool, to_positions
from lomrix.core.table.reasons import BLANK, UNDEFINED, Why
from lomrix.core.text.chunks import FEW_ROWS
from lomrix.core.text.dates import is_local
from lomrix.core.text.reading import read_text_column
from lomrix.core.text.times import format_duration
from lomrix.core.text.values import get_values
from lomrix.files.reading import ReadSettings

# float64 holds any number of this many digits.
EXACT_DIGITS = 15
TOO_MANY_DIGITS = f"kept as text: it has decimals of more than {EXACT_DIGITS} digits, which a number would lose."
METADATA = b"lomrix"
# Types that a format may have narrowed against the declaration.
WIDER = (("integer", "number"), ("date", "datetime"))
FIRST_DAY, AFTER_LAST_DAY = np.datetime64("0001-01-01"), np.datetime64("10000-01-01")
OTHER_TYPES = "Write it as text, numbers, dates or booleans."
# Kinds of Arrow that no column holds.
AS_TEXT = (
    pa.types.is_time, pa.types.is_duration, pa.types.is_nested, pa.types.is_binary, pa.types.is_large_binary,
    pa.types.is_fixed_size_binary,
)  # fmt: skip


def columns_from_arrow(
    arrow: pa.Table, names: Sequence[str], settings: ReadSettings, beside: Dictionary, table: str
) -> tuple[dict[str, Column], list[Note]]:
    """Convert the named columns of a pyarrow Table; nulls are blanks.

    `settings` and `beside` (from the descriptor) describe them.

    Raises FileError if a column holds lists, records or bytes.
    """

    def convert(name: str) -> tuple[Column, list[Note]]:
        array, notes = prepare_array(combine_chunks(arrow.column(name)), name, settings.get_date_format(name))
        column = column_from_arrow(array, name, table, BLANK)
        notes += note_undefined(name, column)
        column, more = apply_settings(name, column, settings, beside)
        return column, [*notes, *more]

    results = map_in_threads(convert, names, most=len(names) or 1 if arrow.num_rows > FEW_ROWS else 1)
    columns = {name: column for name, (column, _) in zip(names, results, strict=True)}
    return columns, [note for _, notes in results for note in notes]


def note_undefined(name: str, column: Column) -> list[Note]:
    """Note cells that Arrow holds, but no column."""
    if UNDEFINED not in column.reasons:
        return []
    rows = np.flatnonzero(column.why == column.reasons.index(UNDEFINED) + 1)
    what = "NaN or infinity, which are no numbers" if column.type == "number" else "a day beyond the years 1 to 9999"
    text = Words(f"{{n:cell holds|cells hold}} {what}: missing, undefined.", n=len(rows))
    return [Note(text, name, tuple((int(row) + FIRST_ROW, None) for row in rows[:MOST_EXAMPLES]), UNDEFINED, len(rows))]


def apply_settings(name: str, column: Column, settings: ReadSettings, beside: Dictionary) -> tuple[Column, list[Note]]:
    """Apply type, date form and missing codes to a column that has a type already; also return notes."""
    if settings.all_text:
        return column.widen("string"), []
    variable = settings.get_variable(name, beside)
    wanted, notes = variable.type or column.type, list[Note]()
    is_stated = name in settings.types or settings.dictionary.of(name).type is not None
    if (column.type, wanted) in WIDER:
        column = column.widen(wanted)
    elif (column.type, wanted) == ("datetime", "date"):
        column, notes = narrow_to_days(name, column)
    elif wanted != column.type and (is_stated or column.type == "string"):
        typed, notes = read_text_column(name, column.to_text(), variable, settings.get_date_format(name))
        column = typed.with_missing_of(column)
    return apply_missing_codes(column, variable.missing) if variable.missing else column, notes


def narrow_to_days(name: str, column: Column) -> tuple[Column, list[Note]]:
    """Return timestamps as dates if all are midnight, as other programs store dates; else unchanged, with a note."""
    days = column.values.astype("M8[D]")
    rows = np.flatnonzero((days != column.values) & ~column.is_missing)
    if not len(rows):
        return Column.of("date", days, column.why, column.reasons), []
    first = rows[:MOST_EXAMPLES]
    examples = tuple(zip((first + FIRST_ROW).tolist(), column.take(first).to_text().to_pylist(), strict=True))
    text = f"kept as timestamps: {pluralize(len(rows), 'cell has', 'cells have')} a time of day."
    return column, [Note(text, name, examples, "stray-text", len(rows))]


def prepare_array(array: pa.Array, name: str, form: str) -> tuple[pa.Array, list[Note]]:
    """Return an array as our types can hold it, and notes on changes.

    Decimals and whole numbers with more digits than numbers hold become text, and so does what is no single value;
    timestamps with a zone are converted to UTC, unless their stated form is local.
    """
    if pa.types.is_timestamp(array.type) and array.type.tz is not None and is_local(form):
        array = pc.local_timestamp(array)
    kind, notes = array.type, list[Note]()
    if pa.types.is_timestamp(kind):
        if kind.tz is not None and kind.tz != "UTC" and not form:
            text = f"its timestamps had the zone {kind.tz} and were converted to UTC; "
            text += f"‹type={name}=datetime:local› reads the time there."
            notes.append(Note(text, name, kind="offset"))
        micro = array.cast(pa.timestamp("us", kind.tz), safe=False)
        if kind.unit == "ns" and not micro.cast(kind).equals(array):
            notes.append(Note("its timestamps had nanoseconds, which were left out.", name, kind="nanoseconds"))
        return micro, notes
    if pa.types.is_uint64(kind) and (pc.max(array).as_py() or 0) >= 2**63:
        text = "kept as text: it has whole numbers that are too large."
        return array.cast(pa.large_string()), [Note(text, name, kind="digits-kept")]
    if any(is_kind(kind) for is_kind in AS_TEXT):
        return format_values(array, name), [Note(f"kept as text: it holds {kind}.", name, kind="as-text")]
    if pa.types.is_decimal(kind) and kind.precision > EXACT_DIGITS:
        try:
            is_same = pc.all(pc.equal(array.cast(pa.float64()).cast(kind), array)).as_py()
        except pa.ArrowInvalid:
            is_same = False
        if is_same is False:
            # Arrow would write 0.00 as 0E-2.
            texts = [None if value is None else f"{value:f}" for value in array.to_pylist()]
            return pa.array(texts, pa.large_string()), [Note(TOO_MANY_DIGITS, name, kind="digits-kept")]
    return array, []


def combine_chunks(column: pa.ChunkedArray) -> pa.Array:
    """Return the chunks of a column as one array."""
    if column.num_chunks == 1:
        return column.chunk(0)
    joined = column.combine_chunks()
    if isinstance(joined, pa.ChunkedArray):
        return pa.concat_arrays(joined.chunks) if joined.num_chunks else pa.array([], joined.type)
    return joined


def format_values(array: pa.Array, name: str) -> pa.Array:
    """Return values that no column holds as texts: lists and records as JSON, bytes as hexadecimal digits, durations as
    28:30:00.

    Raises FileError if Python cannot hold one.
    """

    def format_value(value: Any) -> str | None:
        if value is None or isinstance(value, str):
            return value
        if isinstance(value, bytes):
            return value.hex()
        if isinstance(value, datetime.timedelta):
            return format_duration(value)
        is_nested = isinstance(value, list | dict)
        return json.dumps(value, default=str, ensure_ascii=False) if is_nested else str(value)

    # Such columns are rare, and Arrow converts only some of them.
    try:
        return pa.array(list(map(format_value, array.to_pylist())), pa.large_string())
    except (OverflowError, ValueError) as error:
        raise FileError(
            f"The column {name} holds values that do not fit.", where=str(error), todo=OTHER_TYPES
        ) from error


def column_from_arrow(array: pa.Array, name: str, table: str, reason: str) -> Column:
    """Convert one Arrow array to a column, with one reason for its nulls.

    Raises FileError if it holds what a cell cannot.
    """
    kind = array.type
    if pa.types.is_dictionary(kind) and (not is_text_type(kind.value_type) or array.dictionary.null_count):
        array, kind = array.cast(kind.value_type), kind.value_type
    why = find_nulls(array) if array.null_count else None
    convert = _convert_text if is_text_type(kind) or pa.types.is_dictionary(kind) else _convert_values
    try:
        column = convert(array, kind, why, reason)
    except pa.ArrowInvalid as error:
        raise FileError(
            f"The column {name} of {table} holds values that do not fit.", where=str(error), todo=OTHER_TYPES
        ) from error
    if column is None:
        raise FileError(f"The column {name} of {table} holds {kind}, which a cell cannot hold.", todo=OTHER_TYPES)
    return column


def is_text_type(kind: pa.DataType) -> bool:
    """Return whether values of an Arrow type are texts."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind))


def _convert_text(array: pa.Array, kind: pa.DataType, why: Why | None, reason: str) -> Column:
    if pa.types.is_dictionary(kind):
        return Column.of_strings(to_positions(array.indices), Pool(array.dictionary), why, (reason,))
    return make_string_column(array.cast(pa.large_string()), why, reason)


def _convert_values(array: pa.Array, kind: pa.DataType, why: Why | None, reason: str) -> Column | None:
    if pa.types.is_null(kind):
        return Column.all_missing("string", len(array), reason)
    if pa.types.is_boolean(kind):
        return Column.of("boolean", array.fill_null(False).to_numpy(zero_copy_only=False), why, (reason,))
    if pa.types.is_integer(kind):
        values = fill_nulls(array.cast(pa.int64()), "integer", why)
        return Column("integer", values, why, (reason,) if why is not None else ())
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        values = fill_nulls(array.cast(pa.float64()), "number", why)
        column = Column("number", values, why, (reason,) if why is not None else ())
        undefined = ~np.isfinite(values)
        return column if np.count_nonzero(undefined) == array.null_count else column.with_missing(undefined, UNDEFINED)
    if pa.types.is_date(kind):
        return leave_out_unknown_days("date", get_values(array.cast(pa.date32()), "date"), why, reason)
    if pa.types.is_timestamp(kind):
        timestamps = array.cast(pa.timestamp("us", kind.tz)).cast(pa.int64()).cast(pa.timestamp("us"))
        return leave_out_unknown_days("datetime", get_values(timestamps, "datetime"), why, reason)
    return None


def leave_out_unknown_days(type_: Type, values: Array, why: Why | None, reason: str) -> Column:
    """Return a column of times without those that have no text."""
    column = Column.of(type_, values, why, (reason,))
    with np.errstate(invalid="ignore"):
        is_unknown = (values < FIRST_DAY) | (values >= AFTER_LAST_DAY)
    return column.with_missing(is_unknown, UNDEFINED) if is_unknown.any() else column


def find_nulls(array: pa.Array) -> Why:
    """Return 1 for each null of an Arrow array, 0 for the others."""
    valid = array.buffers()[0]
    if valid is None:
        return np.asarray(array.is_null().to_numpy(zero_copy_only=False)).view(np.uint8)
    bits = np.unpackbits(np.frombuffer(valid, np.uint8), count=array.offset + len(array), bitorder="little")
    return np.asarray(bits[array.offset :] ^ 1, np.uint8)


def fill_nulls(array: pa.Array, type_: Type, why: Why | None) -> Array:
    """Return an Arrow array of 64-bit numbers with the type's filler in its nulls; without nulls nothing is copied."""
    if not len(array):
        return np.zeros(0, DTYPES[type_])
    values = np.frombuffer(array.buffers()[1], DTYPES[type_])[array.offset : array.offset + len(array)]
    if why is None:
        return values
    # Arrays read into memory are filled in place; memory-mapped ones must not be changed.
    values = values if values.flags.writeable else values.copy()
    np.copyto(values, FILLERS[type_], where=why.view(np.bool_))
    return values


def make_string_column(strings: pa.Array, why: Why | None, reason: str) -> Column:
    """Return texts as a column; an empty text is a blank."""
    starts, _ = get_buffers(strings)
    is_empty = starts[1:] == starts[:-1]
    if why is not None:
        is_empty &= why == 0
    column = Column.of_strings(None, Pool(strings), why, (reason,))
    if not is_empty.any():
        return column
    return Column.of_strings(column.values, column.strings, why, (reason,)).with_missing(is_empty, BLANK)


def apply_missing_codes(column: Column, codes: Mapping[str, str]) -> Column:
    """Turn the dictionary's missing codes into reasons."""
    if column.type == "string":
        column = column.encode()
        positions = {text: column.strings.strings.index(text).as_py() for text in codes if text}
        for text, position in positions.items():
            if position >= 0:
                column = column.with_missing(column.values == position, codes[text])
        return column
    if column.type not in ("integer", "number"):
        return column
    for code, reason in codes.items():
        try:
            column = column.with_missing(column.values == float(code), reason)
        except ValueError:
            continue
    return column
