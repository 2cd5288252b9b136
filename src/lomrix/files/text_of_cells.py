"""Columns as the texts that stand in a file, with a text for each reason that has one in its missing cells."""

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
from lomrix.core.table.pool import positions_of

SAMPLE = 512


def as_text(column: Column, texts: Mapping[str, str]) -> pa.Array:
    """A column as an Arrow array to be written, texts in its missing cells."""
    told = {reason: text for reason, text in texts.items() if text}
    if not told or column.why is None:
        if column.type == "number" and few_distinct(column.values):
            return by_distinct(column, {})
        return column.to_text() if column.type in ("datetime", "boolean") else column.to_arrow()
    whole = all(map(is_whole, told.values()))
    if column.type == "integer" and whole:
        return with_number_texts(column, told)
    return by_distinct(column, told)


def in_form(column: Column, texts: Mapping[str, str], form: TextForm, codes: Sequence[str] = ()) -> pa.Array:
    """A column as texts in a form that was asked for, texts in its missing cells.

    Parameters
    ----------
    column, texts
        The column, and the text that stands for each reason.
    form
        Decimal places, their sign, and how dates are written.
    codes
        Missing codes that stand in it as values: they are written as they are.
    """
    cells = format_cells(column, form, codes)
    if cells is None:
        return as_text(column, texts).cast(pa.large_string())
    if column.why is None:
        return cells
    words = pa.array([None, *(texts.get(reason) or None for reason in column.reasons)], pa.large_string())
    return pc.if_else(pa.array(column.why != 0), words.take(pa.array(column.why)), cells)


def few_distinct(values: Array) -> bool:
    """True where a sample of the values says that most of them repeat."""
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    return len(values) > SAMPLE and len(np.unique(sample)) <= SAMPLE // 2


def with_number_texts(column: Column, told: Mapping[str, str]) -> pa.Array:
    """Whole numbers whose texts are whole numbers too: no text is needed."""
    assert column.why is not None
    numbers = np.zeros(len(column.reasons) + 1, np.int64)
    for place, reason in enumerate(column.reasons, start=1):
        numbers[place] = int(told.get(reason, 0))
    untold = np.array([False, *(reason not in told for reason in column.reasons)])
    values = np.where(column.why != 0, numbers[column.why], column.values)
    empty = untold[column.why]
    return pa.array(values, mask=empty if empty.any() else None)


def by_distinct(column: Column, told: Mapping[str, str]) -> pa.Array:
    """Texts of the distinct values, then of every cell: writing a number costs more than looking it up."""
    if column.type == "string":
        texts, positions = column.strings.strings, column.values
    elif few_distinct(column.values):
        encoded = column.to_arrow().dictionary_encode()
        values = encoded.dictionary.to_numpy(zero_copy_only=False)
        texts, positions = Column.of(column.type, values).to_text(), positions_of(encoded.indices)
    else:
        texts, positions = column.to_text(), np.arange(len(column), dtype=np.int32)
    if column.why is None:
        return texts.take(pa.array(positions))
    # Tokens follow the texts; a reason without a text is a null.
    words = pa.array([told.get(reason) for reason in column.reasons], pa.large_string())
    longer = pa.concat_arrays([texts, words])
    at = len(texts) + column.why.astype(np.int32) - 1
    return longer.take(pa.array(np.where(column.why != 0, at, positions)))
