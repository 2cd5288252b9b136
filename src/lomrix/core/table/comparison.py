"""Comparison: which cells of two columns are the same."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.table.column import Column
from lomrix.core.table.pool import chained
from lomrix.core.table.reasons import joined_reasons, renumbered

NUMERIC = {"integer", "number"}


def text_codes(first: Column, second: Column) -> tuple[Array, Array]:
    """Numbers that are equal where the texts of two columns are."""
    for one, two, turned in ((first, second, False), (second, first, True)):
        if len(two.strings) != 1:
            continue
        if one.stored is None and not one.strings.is_encoded:  # a look at each text is cheaper than encoding
            equal = pc.equal(one.strings.strings, two.strings.strings[0]).fill_null(False)
            codes = equal.to_numpy(zero_copy_only=False).view(np.int8)
            constant = np.ones(len(one), np.int8)
            return (constant, codes) if turned else (codes, constant)
        one = one.encoded()
        place = one.strings.strings.index(two.strings.strings[0]).as_py()
        codes = np.full(len(one), place if place >= 0 else -2, np.int32)
        return (codes, one.values) if turned else (one.values, codes)
    first, second = first.encoded(), second.encoded()  # mostly known by now, and few
    pool, start = chained(first.strings, second.strings)
    numbers = np.append(pool.distinct()[0], np.int32(-1))
    return numbers[first.values], numbers[np.where(second.values < 0, -1, second.values + start)]


def equal_cells(first: Column, second: Column) -> npt.NDArray[np.bool_]:
    """True where two columns of one type and length hold equal values; what is missing does not count."""
    one, two = text_codes(first, second) if first.type == "string" else (first.values, second.values)
    return np.asarray(one == two)


def equal_numbers(whole: npt.NDArray[np.int64], decimal: npt.NDArray[np.float64]) -> npt.NDArray[np.bool_]:
    """True where a whole number is exactly the other number, also where it has more digits than that can hold."""
    held = np.abs(decimal) < 2.0**63
    return np.asarray(held & (decimal == whole) & (np.where(held, decimal, 0.0).astype(np.int64) == whole))


def same_cells(before: Column, now: Column) -> npt.NDArray[np.bool_]:
    """True where two columns hold the same value, or are missing for the same reason.

    Parameters
    ----------
    before, now
        Columns of one length, of any types: the number 1 and the text 1 are the same, 1 and 01 are not.

    Returns
    -------
    Array of bool, one for each row.
    """
    reasons = joined_reasons(before.reasons, now.reasons)
    nothing = np.zeros(len(before), np.uint8)
    mine, theirs = (nothing if one.why is None else renumbered(one.why, one.reasons, reasons) for one in (before, now))
    missing_alike = (mine == theirs) & (mine != 0)
    both = (mine == 0) & (theirs == 0)
    if before.type == now.type:
        equal = equal_cells(before, now)
    elif {before.type, now.type} == NUMERIC:
        whole, decimal = (before, now) if before.type == "integer" else (now, before)
        equal = equal_numbers(whole.values, decimal.values)
    else:
        equal = equal_cells(before.widened("string"), now.widened("string"))
    return np.asarray((equal & both) | missing_alike)
