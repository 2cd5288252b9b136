"""Stray cells: the few that keep a column of text from being numbers or dates."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from lomrix.core.table.column import Column
from lomrix.core.table.types import Type
from lomrix.core.table.variable import NOTHING_KNOWN, Variable
from lomrix.core.text import rules
from lomrix.core.text.likely import likely_type
from lomrix.core.text.reading import SAMPLE, Reading
from lomrix.core.text.values import matches

# Why a stray cell has no value in the type of the others.
UNREADABLE = "unreadable"


@dataclass(frozen=True)
class StrayCells:
    """The cells that keep a column of text from being numbers or dates.

    Parameters
    ----------
    type
        The type that the other cells have.
    cells
        True for each stray cell.
    others
        The column in that type, its stray cells missing.
    """

    type: Type
    cells: npt.NDArray[np.bool_]
    others: Column


def stray_cells(column: Column, variable: Variable = NOTHING_KNOWN) -> StrayCells | None:
    """Look for cells that keep a column of text from being numbers or dates; None where it is just text."""
    reading = Reading("", column.to_arrow(), variable, variable.form)
    kinds = reading.sample_kinds(SAMPLE)
    type_ = variable.type or likely_type(kinds)
    if column.type != "string" or type_ in ("string", "boolean") or not kinds:
        return None
    if type_ == "integer" and variable.type is None:
        type_ = "number"
    column = column.encoded()
    texts = pc.utf8_trim_whitespace(column.strings.strings)
    type_, parsed, fits = reading.parsed(type_, texts)
    known = [reading._reason_of(text) is not None for text in texts.to_pylist()]
    if matches(texts, rules.ID_LIKE)[~fits].any() and variable.type is None:
        return None
    stray = np.append(~fits & ~np.array(known, np.bool_), False)[column.values]
    if not stray.any():
        return None
    type_ = "number" if type_ == "integer" and parsed.dtype != np.int64 else type_
    unfit = np.append(~fits, True)[column.values]
    others = Column.of(type_, parsed[column.values], np.where(unfit, 1, 0).astype(np.uint8), (UNREADABLE,))
    return StrayCells(type_, stray, others)
