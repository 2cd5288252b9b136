"""Stray cells: the few that keep a column of text from being numbers or dates."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from lomrix.core.table.column import Column
from lomrix.core.table.numbers import Type
from lomrix.core.table.variable import NO_ENTRY, Variable
from lomrix.core.text import rules
from lomrix.core.text.reading import SAMPLE, Reading
from lomrix.core.text.similarity import guess_type
from lomrix.core.text.values import choose_sample, match_texts

# Why a stray cell has no value in the type of the others.
UNREADABLE = "unreadable"


@dataclass(frozen=True)
class StrayCells:
    """The stray cells of a column (True in `cells`), the `type` of the others, and the column in that type with its
    stray cells missing.
    """

    type: Type
    cells: npt.NDArray[np.bool_]
    others: Column


def find_stray_cells(column: Column, variable: Variable = NO_ENTRY) -> StrayCells | None:
    """Find cells that keep a column of text from being numbers or dates; None if it is just text."""
    sample = column.take(choose_sample(len(column), SAMPLE)).to_arrow()
    reading = Reading("", sample, variable, variable.form)
    kinds = reading.sample_kinds(len(sample))
    type_ = variable.type or guess_type(kinds)
    if column.type != "string" or type_ in ("string", "boolean") or not kinds:
        return None
    if type_ == "integer" and variable.type is None:
        type_ = "number"
    column = column.encode()
    texts = pc.utf8_trim_whitespace(column.strings.strings)
    type_, parsed, fits = reading.parse(type_, texts)
    is_token = [reading.get_reason(text) is not None for text in texts.to_pylist()]
    if match_texts(texts, rules.ID_LIKE)[~fits].any() and variable.type is None:
        return None
    stray = np.append(~fits & ~np.array(is_token, np.bool_), False)[column.values]
    if not stray.any():
        return None
    type_ = "number" if type_ == "integer" and parsed.dtype != np.int64 else type_
    unfit = np.append(~fits, True)[column.values]
    others = Column.of(type_, parsed[column.values], np.where(unfit, 1, 0).astype(np.uint8), (UNREADABLE,))
    return StrayCells(type_, stray, others)
