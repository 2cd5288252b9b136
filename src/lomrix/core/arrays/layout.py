"""Layouts: columns side by side laid out one under the other, row by row."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[Any]


def interleaved(columns: Sequence[Array | None], rows: int, filler: Any, dtype: Any) -> Array:
    """Put columns one under the other so that each row's values stand together.

    Parameters
    ----------
    columns
        Arrays of `rows` values each, one per occasion; None for an occasion without a column.
    rows
        Number of rows.
    filler
        What stands where there is no column.
    dtype
        Type of the result.

    Returns
    -------
    Array of `rows` times the number of columns: row 0 at each occasion, row 1 at each occasion, and so on.
    """
    wide = np.empty((rows, len(columns)), dtype=dtype)
    # Blocks of rows keep the writing in the processor's cache, however many occasions there are.
    block = max(1, 65_536 // max(1, len(columns)))
    for start in range(0, rows, block):
        part = wide[start : start + block]
        for place, column in enumerate(columns):
            part[:, place] = filler if column is None else column[start : start + block]
    return wide.reshape(-1)


def repeated_rows(rows: int, times: int) -> Array:
    """Row numbers, each as often as there are occasions."""
    return np.repeat(np.arange(rows), times)


def tiled(values: Array, rows: int) -> Array:
    """The occasions' values over and over, once for each row."""
    return np.tile(values, rows)


def side_by_side(values: Array, cells: Array | None, rows: int, times: int, filler: Any) -> Array:
    """Put values that stand below each other beside each other: the inverse of `interleaved`.

    Parameters
    ----------
    values
        One value for each row of the long layout.
    cells
        Where each stands among the `rows` times `times` cells, row by row; None where they fill all cells in order.
    rows, times
        Rows of the wide layout, and occasions.
    filler
        What stands in cells without a value.

    Returns
    -------
    Array of shape (times, rows): one contiguous column for each occasion.
    """
    if cells is None:
        grid = values.reshape(rows, times)
    else:
        flat = np.full(rows * times, filler, values.dtype)
        flat[cells] = values
        grid = flat.reshape(rows, times)
    wide = np.empty((times, rows), values.dtype)
    # Blocks of rows keep the reading in the processor's cache, however many occasions there are.
    block = max(16, 65_536 // max(1, times))
    for start in range(0, rows, block):
        wide[:, start : start + block] = grid[start : start + block].T
    return wide
