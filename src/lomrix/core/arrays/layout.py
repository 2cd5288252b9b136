"""Wide to long and back: columns side by side become rows, row by row."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from lomrix.core.arrays.types import Array

# Up to this many gaps, copying what lies between them is quicker than looking at every place.
MOST_GAPS = 200


def interleave_columns(
    columns: Sequence[Array | None], rows: int, filler: Any, dtype: Any, gone: Array | None = None
) -> Array:
    """Put columns one under the other so that each row's values are adjacent."""
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
        position = result[first : first + (stop - start) * times - len(out)]
        part = small[: stop - start] if len(out) else position.reshape(stop - start, times)
        for index, column in enumerate(columns):
            part[:, index] = filler if column is None else column[start:stop]
        if len(out):
            position[:] = drop_positions(part.reshape(-1), out - start * times)
    return result


def tile_values(values: Array, rows: int) -> Array:
    """Repeat the occasions' values once for each row."""
    return np.tile(values, rows)


def drop_positions(values: Array, gone: Array) -> Array:
    """Return the values without those at the given positions (ascending)."""
    if len(gone) > MOST_GAPS:
        stays = np.ones(len(values), np.bool_)
        stays[gone] = False
        return values[stays]
    # With few gaps, the long stretches between them are copied whole.
    kept = np.empty(len(values) - len(gone), values.dtype)
    start = 0
    for number, position in enumerate([*gone.tolist(), len(values)]):
        kept[start - number : position - number] = values[start:position]
        start = position + 1
    return kept


def spread_values(values: Array, cells: Array | None, rows: int, times: int, filler: Any) -> Array:
    """Return the columns of a wide layout: the inverse of `interleave_columns`."""
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
