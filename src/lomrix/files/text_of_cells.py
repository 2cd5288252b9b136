"""Columns as the text written to a file, with a text for each reason that has one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.steps.cells_in_form import format_cells
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import is_whole
from lomrix.core.table.pool import to_positions

SAMPLE = 512


def format_column(column: Column, texts: Mapping[str, str]) -> pa.Array:
    """Return a column as an Arrow array to be written, with texts in its missing cells."""
    texts_used = {reason: text for reason, text in texts.items() if text}
    if not texts_used or column.why is None:
        if column.type == "number" and is_repetitive(column.values):
            return format_distinct(column, {})
        return column.to_text() if column.type in ("datetime", "boolean") else column.to_arrow()
    are_integers = all(map(is_whole, texts_used.values()))
    if column.type == "integer" and are_integers:
        return fill_integers(column, texts_used)
    return format_distinct(column, texts_used)


def format_in_form(column: Column, texts: Mapping[str, str], form: TextForm, codes: Sequence[str] = ()) -> pa.Array:
    """Return a column as text in a stated form; missing codes among its values are written unchanged."""
    cells = format_cells(column, form, codes)
    if cells is None:
        return format_column(column, texts).cast(pa.large_string())
    if column.why is None:
        return cells
    reason_texts = pa.array([None, *(texts.get(reason) or None for reason in column.reasons)], pa.large_string())
    return pc.if_else(pa.array(column.why != 0), reason_texts.take(pa.array(column.why)), cells)


def is_repetitive(values: Array) -> bool:
    """Return whether most values repeat, by a sample."""
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    return len(values) > SAMPLE and len(np.unique(sample)) <= SAMPLE // 2


def fill_integers(column: Column, texts: Mapping[str, str]) -> pa.Array:
    """Fill missing integers whose texts are integers too, without formatting."""
    assert column.why is not None
    numbers = np.zeros(len(column.reasons) + 1, np.int64)
    for number, reason in enumerate(column.reasons, start=1):
        numbers[number] = int(texts.get(reason, 0))
    has_no_text = np.array([False, *(reason not in texts for reason in column.reasons)])
    values = np.where(column.why != 0, numbers[column.why], column.values)
    is_null = has_no_text[column.why]
    return pa.array(values, mask=is_null if is_null.any() else None)


def format_distinct(column: Column, texts_used: Mapping[str, str]) -> pa.Array:
    """Format the distinct values, then look them up for every cell, which is faster."""
    if column.type == "string":
        texts, positions = column.strings.strings, column.values
    elif is_repetitive(column.values):
        encoded = column.to_arrow().dictionary_encode()
        values = encoded.dictionary.to_numpy(zero_copy_only=False)
        texts, positions = Column.of(column.type, values).to_text(), to_positions(encoded.indices)
    else:
        texts, positions = column.to_text(), np.arange(len(column), dtype=np.int32)
    if column.why is None:
        return texts.take(pa.array(positions))
    # Tokens follow the texts; a reason without a text is a null.
    reason_texts = pa.array([texts_used.get(reason) for reason in column.reasons], pa.large_string())
    longer = pa.concat_arrays([texts, reason_texts])
    indexes = len(texts) + column.why.astype(np.int32) - 1
    return longer.take(pa.array(np.where(column.why != 0, indexes, positions)))
