"""The distinct values of a column as texts, and what they show."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column

# Decimals among whole numbers are reported if they are at most this share.
FEW = 0.05


def encode_as_texts(column: Column) -> tuple[npt.NDArray[np.int32], list[str], Array]:
    """Return each cell's position among the distinct texts (-1: missing), those texts in the order of their first rows,
    and their numbers of cells.
    """
    if column.type == "string":
        column = column.compact()
        order = order_by_appearance(column.values, len(column.strings))
        texts = column.strings.strings.take(pa.array(order)).to_pylist()
        positions = np.append(np.argsort(order).astype(np.int32), np.int32(-1))[column.values]
    else:
        encoded = column.to_arrow().dictionary_encode()
        indices = encoded.indices
        positions = np.asarray((indices.fill_null(-1) if indices.null_count else indices).to_numpy(), np.int32)
        values = encoded.dictionary.to_numpy(zero_copy_only=False)
        texts = [strip_point(text) for text in Column.of(column.type, values).to_text().to_pylist()]
    return positions, texts, np.bincount(positions[positions >= 0], minlength=len(texts))


def order_by_appearance(positions: npt.NDArray[np.int32], count: int) -> npt.NDArray[np.int64]:
    """Return which of `count` distinct values come first, second … in the rows, each of which occurs."""
    first = np.zeros(count, np.int64)
    rows = np.flatnonzero(positions >= 0)[::-1]
    first[positions[rows]] = rows  # of a repeated position the last assignment counts, which is the first row
    return np.argsort(first)


def strip_point(text: str) -> str:
    """Remove a needless decimal point: 3.0 is 3."""
    return text.removesuffix(".0")


def find_not_listed(column: Column, listed: list[str]) -> Array:
    """Return the rows whose value is not among the listed values or ranges."""
    positions, texts, _ = encode_as_texts(column)
    is_bad = np.append(_are_not_listed(column, texts, listed), False)
    return np.flatnonzero(is_bad[positions])


def find_texts_not_listed(column: Column, listed: list[str]) -> list[str]:
    """Return the distinct values that are not among the listed values or ranges, as texts."""
    _, texts, counts = encode_as_texts(column)
    bad = _are_not_listed(column, texts, listed) & (np.asarray(counts) > 0)
    return [texts[index] for index in np.flatnonzero(bad).tolist()]


def _are_not_listed(column: Column, texts: list[str], listed: list[str]) -> npt.NDArray[np.bool_]:
    codes = CodeList(dict.fromkeys(listed, ""))
    fits = [codes.code_of(text, as_numbers=column.type != "string") is not None for text in texts]
    return ~np.array(fits, np.bool_)
