"""Layouts: columns side by side laid out one under the other, row by row."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from lomrix.core.arrays.types import Array

# Up to this many gaps, copying what lies between them is quicker than looking at every place.
MOST_GAPS = 200


def interleaved(
    columns: Sequence[Array | None], rows: int, filler: Any, dtype: Any, gone: Array | None = None
) -> Array:
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
    gone
        Places in the result that are left out, in ascending order.

    Returns
    -------
    Array of `rows` times the number of columns, less those left out: row 0 at each occasion, row 1 at each
    occasion, and so on.
    """
    times = len(columns)
    gone = np.zeros(0, np.int64) if gone is None else gone
    result = np.empty(rows * times - len(gone), dtype=dtype)
    # Blocks of rows keep the writing in the processor's cache, however many occasions there are.
    block = max(1024, 65_536 // max(1, times))
    starts = np.arange(0, rows + block, block)
    limits = np.searchsorted(gone, starts * times)
    small = np.empty((block, times), dtype=dtype)
    for number, start in enumerate(starts[:-1].tolist()):
        stop = min(start + block, rows)
        out = gone[limits[number] : limits[number + 1]]
        first = start * times - int(limits[number])
        place = result[first : first + (stop - start) * times - len(out)]
        part = small[: stop - start] if len(out) else place.reshape(stop - start, times)
        for at, column in enumerate(columns):
            part[:, at] = filler if column is None else column[start:stop]
        if len(out):
            place[:] = without(part.reshape(-1), out - start * times)
    return result


def tiled(values: Array, rows: int) -> Array:
    """The occasions' values over and over, once for each row."""
    return np.tile(values, rows)


def without(values: Array, gone: Array) -> Array:
    """The values without those at some places, which are given in ascending order."""
    if len(gone) > MOST_GAPS:
        stays = np.ones(len(values), np.bool_)
        stays[gone] = False
        return values[stays]
    # Between few gaps lie long stretches, which are copied whole.
    kept = np.empty(len(values) - len(gone), values.dtype)
    start = 0
    for number, place in enumerate([*gone.tolist(), len(values)]):
        kept[start - number : place - number] = values[start:place]
        start = place + 1
    return kept


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
    Array of shape (times, rows), one column for each occasion; a view of the values where they fill all cells.
    """
    if cells is None:
        return values.reshape(rows, times).T
    flat = np.full(rows * times, filler, values.dtype)
    flat[cells] = values
    grid = flat.reshape(rows, times)
    wide = np.empty((times, rows), values.dtype)
    # Blocks of rows keep the reading in the processor's cache, however many occasions there are.
    block = max(16, 65_536 // max(1, times))
    for start in range(0, rows, block):
        wide[:, start : start + block] = grid[start : start + block].T
    return wide
