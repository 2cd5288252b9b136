"""Tokens: what stands in a text file where a cell is missing, so that its reason comes back on reading."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.table.code_use import times_used
from lomrix.core.table.column import Column
from lomrix.core.table.header import NUMBER
from lomrix.core.table.pool import positions_of
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.variable import Variable

SAMPLE = 512


def tokens_of(column: Column, variable: Variable) -> dict[str, str]:
    """The text that stands for each reason of a column.

    A blank is an empty cell; a reason that the dictionary gives a code is written as that code, any other in
    its own words. A text that is a value of the column is put in brackets until it is none.
    """
    codes: dict[str, str] = {}
    for code, reason in variable.missing.items():
        codes.setdefault(reason, code)
    tokens: dict[str, str] = {}
    for reason in column.reason_counts():
        token = "" if reason == BLANK else codes.get(reason, reason)
        while token and (times_used(column, token) or token in tokens.values()):
            token = f"[{token}]"
        tokens[reason] = token
    return tokens


def as_text(column: Column, tokens: Mapping[str, str]) -> Any:
    """A column as an Arrow array to be written, tokens in its missing cells."""
    told = {reason: token for reason, token in tokens.items() if token}
    if not told or column.why is None:
        if column.type == "number" and few_distinct(column.values):
            return by_distinct(column, {})
        return column.to_text() if column.type in ("datetime", "boolean") else column.to_arrow()
    whole = all(NUMBER.fullmatch(token) and "." not in token for token in told.values())
    if column.type == "integer" and whole:
        return with_number_tokens(column, told)
    return by_distinct(column, told)


def few_distinct(values: npt.NDArray[Any]) -> bool:
    """True where a sample of the values says that most of them repeat."""
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    return len(values) > SAMPLE and len(np.unique(sample)) <= SAMPLE // 2


def with_number_tokens(column: Column, told: Mapping[str, str]) -> Any:
    """Whole numbers whose tokens are whole numbers too: no text is needed."""
    assert column.why is not None
    numbers = np.zeros(len(column.reasons) + 1, np.int64)
    for place, reason in enumerate(column.reasons, start=1):
        numbers[place] = int(told.get(reason, 0))
    untold = np.array([False, *(reason not in told for reason in column.reasons)])
    values = np.where(column.why != 0, numbers[column.why], column.values)
    empty = untold[column.why]
    return pa.array(values, mask=empty if empty.any() else None)


def by_distinct(column: Column, told: Mapping[str, str]) -> Any:
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
    # Tokens follow the texts; a reason without a token is a null.
    words = pa.array([told.get(reason) for reason in column.reasons], pa.large_string())
    longer = pa.concat_arrays([texts, words])
    at = len(texts) + column.why.astype(np.int32) - 1
    return longer.take(pa.array(np.where(column.why != 0, at, positions)))
