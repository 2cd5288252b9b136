"""Tokens: what stands in a text file where a cell is missing, so that its reason comes back on reading."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.steps.prepare_export import times_used
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Variable
from lomrix.core.table.header import NUMBER
from lomrix.core.table.reasons import BLANK


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
        return column.to_text() if column.type in ("datetime", "boolean") else column.to_arrow()
    number_of = {reason: place for place, reason in enumerate(column.reasons, start=1)}
    numeric = column.type in ("integer", "number") and all(NUMBER.fullmatch(token) for token in told.values())
    if numeric and (column.type == "number" or not any("." in token for token in told.values())):
        values = column.values.copy()
        for reason, token in told.items():
            values[column.why == number_of[reason]] = float(token)
        empty = column.why == number_of.get(BLANK, 0) if BLANK in tokens else None
        return pa.array(values, mask=empty)
    texts = column.to_text()
    words = np.array(["", *(tokens.get(reason, "") for reason in column.reasons)], dtype=object)
    missing = column.why != 0
    cells = pa.array(words, pa.large_string()).take(pa.array(column.why[missing]))
    cells = pc.if_else(pc.equal(cells, ""), pa.scalar(None, pa.large_string()), cells)
    return pc.replace_with_mask(texts, pa.array(missing), cells)
