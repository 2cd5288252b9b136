"""Between our columns and Arrow tables, whose nulls cannot say why."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.text_bytes import offsets_and_data
from lomrix.core.arrays.types import Array
from lomrix.core.errors import FileError
from lomrix.core.table.column import DTYPES, FILLERS, Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.pool import Pool, positions_of
from lomrix.core.table.reasons import BLANK, UNDEFINED, Why
from lomrix.core.table.types import Type
from lomrix.core.text.reading import FEW_ROWS, typed_column
from lomrix.core.text.values import values_of
from lomrix.files.reading import ReadSettings

# So many digits any number holds.
EXACT_DIGITS = 15
METADATA = b"lomrix"
# Types that a format may have made narrower than they were stated to be.
WIDER = (("integer", "number"), ("date", "datetime"))


def columns_from_arrow(
    arrow: pa.Table, names: Sequence[str], settings: ReadSettings, beside: Dictionary, table: str
) -> tuple[dict[str, Column], list[Note]]:
    """The columns of an Arrow table; nulls are blanks.

    Parameters
    ----------
    arrow
        A pyarrow Table that has the columns.
    names
        Which of them are wanted.
    settings, beside
        What was said about them, and what the descriptor says.
    table
        How messages call it.

    Raises
    ------
    FileError
        Where a column holds lists, records or bytes.
    """

    def converted(one: str) -> tuple[Column, list[Note]]:
        variable = settings.variable(one, beside)
        array, told = kept(one_array(arrow.column(one)), one)
        column = column_from_arrow(array, one, table, BLANK)
        if settings.all_text and column.type != "string":
            return column.widened("string"), told
        if column.type == "string" and variable.type not in (None, "string"):
            return typed_column(one, column.to_arrow(), variable, settings.date_format(one))
        if variable.type is not None and (column.type, variable.type) in WIDER:
            column = column.widened(variable.type)
        return with_missing_codes(column, variable.missing) if variable.missing else column, told

    if arrow.num_rows > FEW_ROWS:
        with ThreadPoolExecutor() as workers:
            found = list(workers.map(converted, names))
    else:
        found = list(map(converted, names))
    columns = {one: column for one, (column, _) in zip(names, found, strict=True)}
    return columns, [note for _, notes in found for note in notes]


def kept(array: pa.Array, name: str) -> tuple[pa.Array, list[Note]]:
    """An array as what our types can hold of it, and what a person should know where that is something else.

    Decimals with more digits than a number holds become text; moments with a zone stand in universal time.
    """
    kind = array.type
    if pa.types.is_timestamp(kind) and kind.tz is not None and kind.tz != "UTC":
        return array, [Note(f"its moments had the zone {kind.tz}; they stand in universal time.", name, kind="offset")]
    if pa.types.is_decimal(kind) and kind.precision > EXACT_DIGITS:
        try:
            is_same = pc.all(pc.equal(array.cast(pa.float64()).cast(kind), array)).as_py()
        except pa.ArrowInvalid:
            is_same = False
        if is_same is False:
            text = f"stays text: it has decimals of more than {EXACT_DIGITS} digits, which a number would cut."
            return array.cast(pa.string()).cast(pa.large_string()), [Note(text, name, kind="digits-kept")]
    return array, []


def one_array(column: pa.ChunkedArray) -> pa.Array:
    """The chunks of a column as one array."""
    if column.num_chunks == 1:
        return column.chunk(0)
    joined = column.combine_chunks()
    if isinstance(joined, pa.ChunkedArray):
        return pa.concat_arrays(joined.chunks) if joined.num_chunks else pa.array([], joined.type)
    return joined


def column_from_arrow(array: pa.Array, name: str, table: str, reason: str) -> Column:
    """One Arrow array as a column, its nulls missing for one reason.

    Raises
    ------
    FileError
        Where it holds what a cell cannot.
    """
    kind = array.type
    why = nulls_of(array) if array.null_count else None
    reasons = (reason,) if why is not None else ()
    if pa.types.is_dictionary(kind) and (
        pa.types.is_string(kind.value_type) or pa.types.is_large_string(kind.value_type)
    ):
        return Column.of_strings(positions_of(array.indices), Pool(array.dictionary), why, (reason,))
    if pa.types.is_dictionary(kind):
        return column_from_arrow(array.cast(kind.value_type), name, table, reason)
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return string_column(array.cast(pa.large_string()), why, reason)
    if pa.types.is_null(kind):
        return Column.all_missing("string", len(array), reason)
    if pa.types.is_boolean(kind):
        return Column.of("boolean", array.fill_null(False).to_numpy(zero_copy_only=False), why, (reason,))
    try:
        if pa.types.is_integer(kind):
            return Column("integer", filled(array.cast(pa.int64()), "integer", why), why, reasons)
        if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
            values = filled(array.cast(pa.float64()), "number", why)
            column = Column("number", values, why, reasons)
            undefined = np.isnan(values)
            if int(np.count_nonzero(undefined)) == array.null_count:
                return column
            return column.with_missing(undefined, UNDEFINED)
        if pa.types.is_date(kind):
            return Column.of("date", values_of(array.cast(pa.date32()), "date"), why, (reason,))
        if pa.types.is_timestamp(kind):
            plain = array.cast(pa.timestamp("us", kind.tz)).cast(pa.int64()).cast(pa.timestamp("us"))
            return Column.of("datetime", values_of(plain, "datetime"), why, (reason,))
    except pa.ArrowInvalid as error:
        raise FileError(f"The column {name} of {table} holds values that do not fit.", where=str(error)) from error
    raise FileError(
        f"The column {name} of {table} holds {kind}, which is no kind of cell.",
        todo="Write it as text, numbers, dates or booleans.",
    )


def nulls_of(array: pa.Array) -> Why:
    """1 for each null of an Arrow array, 0 for the others."""
    valid = array.buffers()[0]
    if valid is None:
        return np.asarray(array.is_null().to_numpy(zero_copy_only=False)).view(np.uint8)
    bits = np.unpackbits(np.frombuffer(valid, np.uint8), count=array.offset + len(array), bitorder="little")
    return np.asarray(bits[array.offset :] ^ 1, np.uint8)


def filled(array: pa.Array, type_: Type, why: Why | None) -> Array:
    """An Arrow array of 64-bit numbers with the type's filler in its nulls; without nulls nothing is copied."""
    if not len(array):
        return np.zeros(0, DTYPES[type_])
    values = np.frombuffer(array.buffers()[1], DTYPES[type_])[array.offset : array.offset + len(array)]
    if why is None:
        return values
    # Arrays that were read for us are filled in place; those mapped from a file are not ours to change.
    values = values if values.flags.writeable else values.copy()
    np.copyto(values, FILLERS[type_], where=why.view(np.bool_))
    return values


def string_column(strings: pa.Array, why: Why | None, reason: str) -> Column:
    """Texts as a column; an empty text is a blank."""
    starts, _ = offsets_and_data(strings)
    empty = starts[1:] == starts[:-1]
    if why is not None:
        empty &= why == 0
    column = Column.of_strings(None, Pool(strings), why, (reason,))
    if not empty.any():
        return column
    return Column.of_strings(column.values, column.strings, why, (reason,)).with_missing(empty, BLANK)


def with_missing_codes(column: Column, codes: Mapping[str, str]) -> Column:
    """Turn the dictionary's missing codes into reasons."""
    if column.type == "string":
        column = column.encoded()
        at = {text: column.strings.strings.index(text).as_py() for text in codes if text}
        for text, place in at.items():
            if place >= 0:
                column = column.with_missing(column.values == place, codes[text])
        return column
    if column.type not in ("integer", "number"):
        return column
    for code, reason in codes.items():
        try:
            column = column.with_missing(column.values == float(code), reason)
        except ValueError:
            continue
    return column
