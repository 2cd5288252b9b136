"""Which cells of two columns are equal."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.table.column import Column
from lomrix.core.table.pool import chain_pools
from lomrix.core.table.reasons import join_reasons, renumber_why

NUMERIC = {"integer", "number"}


def encode_texts(first: Column, second: Column) -> tuple[Array, Array]:
    """Return numbers that are equal where the texts of two columns are."""
    for column, other, is_swapped in ((first, second, False), (second, first, True)):
        if len(other.strings) != 1:
            continue
        if column.stored is None and not column.strings.is_encoded:  # comparing each text is cheaper than encoding
            equal = pc.equal(column.strings.strings, other.strings.strings[0]).fill_null(False)
            codes = equal.to_numpy(zero_copy_only=False).view(np.int8)
            constant = np.ones(len(column), np.int8)
            return (constant, codes) if is_swapped else (codes, constant)
        column = column.encode()
        position = column.strings.strings.index(other.strings.strings[0]).as_py()
        codes = np.full(len(column), position if position >= 0 else -2, np.int32)
        return (codes, column.values) if is_swapped else (column.values, codes)
    first, second = first.encode(), second.encode()  # mostly known by now, and few
    pool, start = chain_pools(first.strings, second.strings)
    numbers = np.append(pool.distinct()[0], np.int32(-1))
    return numbers[first.values], numbers[np.where(second.values < 0, -1, second.values + start)]


def equal_cells(first: Column, second: Column) -> npt.NDArray[np.bool_]:
    """Return where two columns of one type and length hold equal values; missing cells are not compared."""
    left, right = encode_texts(first, second) if first.type == "string" else (first.values, second.values)
    return np.asarray(left == right)


def equal_numbers(whole: npt.NDArray[np.int64], decimal: npt.NDArray[np.float64]) -> npt.NDArray[np.bool_]:
    """Return where an integer equals a float exactly, also beyond 53 bits."""
    in_range = np.abs(decimal) < 2.0**63
    return np.asarray(in_range & (decimal == whole) & (np.where(in_range, decimal, 0.0).astype(np.int64) == whole))


def same_cells(before: Column, now: Column) -> npt.NDArray[np.bool_]:
    """Return where two columns of one length hold the same value, or are missing for the same reason.

    The number 1 and the text 1 are the same, 1 and 01 are not.
    """
    reasons = join_reasons(before.reasons, now.reasons)
    present = np.zeros(len(before), np.uint8)
    first, second = (
        present if column.why is None else renumber_why(column.why, column.reasons, reasons) for column in (before, now)
    )
    missing_alike = (first == second) & (first != 0)
    both = (first == 0) & (second == 0)
    if before.type == now.type:
        equal = equal_cells(before, now)
    elif {before.type, now.type} == NUMERIC:
        whole, decimal = (before, now) if before.type == "integer" else (now, before)
        equal = equal_numbers(whole.values, decimal.values)
    else:
        equal = equal_cells(before.widen("string"), now.widen("string"))
    return np.asarray((equal & both) | missing_alike)
