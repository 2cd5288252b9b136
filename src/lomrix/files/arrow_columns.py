"""Between our columns and Arrow tables, whose nulls cannot say why."""

from __future__ import annotations

from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa

from lomrix.core.errors import FileError
from lomrix.core.table.column import DTYPES, FILLERS, Column, Type
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.from_text import FEW_ROWS, typed_column, values_of
from lomrix.core.table.notes import Note
from lomrix.core.table.pool import Pool, positions_of
from lomrix.core.table.reasons import BLANK, UNDEFINED, Why
from lomrix.core.table.table import Table
from lomrix.core.table.text_cells import offsets_and_data
from lomrix.files.read import ReadSettings

METADATA = b"lomrix"
# Where a column has several reasons, a column of this ending says in words why each null is missing.
REASON_COLUMN = ".reason"


def columns_from_arrow(
    arrow: Any, settings: ReadSettings, beside: Dictionary, null_reasons: Mapping[str, str], name: str
) -> tuple[dict[str, Column], list[Note]]:
    """The columns of an Arrow table; reasons come from the columns that hold them.

    Raises
    ------
    FileError
        Where a name is repeated or a column holds lists, records or bytes.
    """
    names = arrow.column_names
    if len(set(names)) < len(names):
        twice = next(one for one in names if names.count(one) > 1)
        raise FileError(f"The name {twice} stands twice in {name}.", todo="Rename one of the two columns.")
    told = {one + REASON_COLUMN for one in beside.variables} & set(names)

    def converted(one: str) -> tuple[Column, list[Note]]:
        variable = settings.variable(one, beside)
        single = null_reasons.get(one, BLANK)
        array = arrow.column(one)
        array = array.chunk(0) if array.num_chunks == 1 else array.combine_chunks()
        if isinstance(array, pa.ChunkedArray):
            array = pa.concat_arrays(array.chunks) if array.num_chunks else pa.array([], array.type)
        column = column_from_arrow(array, one, name, single)
        if one + REASON_COLUMN in told:
            column = with_reasons(column, arrow.column(one + REASON_COLUMN))
        if column.type == "string" and variable.type not in (None, "string"):
            return typed_column(one, column.to_arrow(), variable, settings.date_format(one))
        return with_missing_codes(column, variable.missing) if variable.missing else column, []

    wanted = [one for one in names if one not in told]
    if arrow.num_rows > FEW_ROWS:
        with ThreadPoolExecutor() as workers:
            found = list(workers.map(converted, wanted))
    else:
        found = list(map(converted, wanted))
    columns = {one: column for one, (column, _) in zip(wanted, found, strict=True)}
    return columns, [note for _, notes in found for note in notes]


def column_from_arrow(array: Any, name: str, table: str, reason: str) -> Column:
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


def nulls_of(array: Any) -> Why:
    """1 for each null of an Arrow array, 0 for the others."""
    valid = array.buffers()[0]
    if valid is None:
        return np.asarray(array.is_null().to_numpy(zero_copy_only=False)).view(np.uint8)
    bits = np.unpackbits(np.frombuffer(valid, np.uint8), count=array.offset + len(array), bitorder="little")
    return np.asarray(bits[array.offset :] ^ 1, np.uint8)


def filled(array: Any, type_: Type, why: Why | None) -> Any:
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


def string_column(strings: Any, why: Any, reason: str) -> Column:
    """Texts as a column; an empty text is a blank."""
    starts, _ = offsets_and_data(strings)
    empty = starts[1:] == starts[:-1]
    if why is not None:
        empty &= why == 0
    column = Column.of_strings(None, Pool(strings), why, (reason,))
    if not empty.any():
        return column
    return Column.of_strings(column.values, column.strings, why, (reason,)).with_missing(empty, BLANK)


def with_reasons(column: Column, reasons: Any) -> Column:
    """The column with the reasons that its companion column names."""
    encoded = reasons.combine_chunks()
    if isinstance(encoded, pa.ChunkedArray):
        encoded = encoded.chunk(0)
    if not pa.types.is_dictionary(encoded.type):
        encoded = encoded.dictionary_encode()
    positions = positions_of(encoded.indices)
    words = tuple(encoded.dictionary.to_pylist())
    why = (positions + 1).astype(np.uint8)
    left = column.is_missing & (why == 0)
    if left.any():
        words = (*words, BLANK)
        why[left] = len(words)
    why[~column.is_missing] = 0
    if column.type == "string":
        return Column.of_strings(column.values, column.strings, why, words)
    return Column.of(column.type, column.values, why, words)


def with_missing_codes(column: Column, codes: Any) -> Column:
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


@dataclass(frozen=True)
class ArrowForm:
    """How the columns of a table are put into Arrow, found once for the whole of it.

    Parameters
    ----------
    table
        The table.
    tokens
        By column the reason that its nulls stand for, where there is only one.
    told
        Columns with several reasons, which a further column tells.
    """

    table: Table
    tokens: dict[str, dict[str, str]]
    told: frozenset[str]

    @classmethod
    def of(cls, table: Table) -> ArrowForm:
        """Look at the reasons of each column."""
        reasons = {name: column.reason_counts() for name, column in table.columns.items()}
        tokens = {name: {next(iter(found)): ""} for name, found in reasons.items() if len(found) == 1}
        return cls(table, tokens, frozenset(name for name, found in reasons.items() if len(found) > 1))

    def part(self, start: int, stop: int) -> Any:
        """Some rows as an Arrow table."""
        arrays: dict[str, Any] = {}
        for name, whole in self.table.columns.items():
            column = whole.part(start, stop)
            arrays[name] = column.to_arrow()
            if name in self.told:
                why = np.zeros(len(column), np.uint8) if column.why is None else column.why
                indices = pa.array(why.astype(np.int16) - 1, mask=why == 0)
                words = pa.array(column.reasons, pa.string())
                arrays[name + REASON_COLUMN] = pa.DictionaryArray.from_arrays(indices, words)
        return pa.table(arrays)

    def whole(self) -> Any:
        """All rows as an Arrow table."""
        return self.part(0, len(self.table))
