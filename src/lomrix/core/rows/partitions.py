"""Partitions: rows shared out by a hash of their keys, so that rows that belong together stay together."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.text_bytes import get_buffers
from lomrix.core.arrays.types import Array
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table

Hashes = npt.NDArray[np.uint64]
WORD = 8
# Rows whose keys are compared with each other, and rows that are hashed at once.
MOST_ROWS, ROWS_AT_ONCE = 1 << 21, 1 << 18


def hash_rows(columns: Sequence[Column], seed: int = 0) -> Hashes:
    """Return a hash for each row that is the same wherever its keys are: whole numbers as integers or as decimals."""
    result = np.full(len(columns[0]), seed, np.uint64)
    for column in columns:
        result = mix(result ^ hash_cells(column))
    return result


def hash_cells(column: Column) -> Hashes:
    """Return a hash for each cell; missing cells have the same one."""
    if column.type == "string":
        column = column.encode()
        of_texts = hash_texts(column.strings.strings)
        return np.append(of_texts, np.uint64(0))[column.values]
    values = column.values
    if column.type == "number":
        present = np.nan_to_num(values) + 0.0  # adding zero makes -0.0 and 0.0 one
        is_whole = (present == np.floor(present)) & (np.abs(present) < 2.0**63)
        whole = np.where(is_whole, present, 0.0).astype(np.int64)
        values = np.where(is_whole, whole, present.view(np.int64))
    hashes = mix(values.astype(np.int64).view(np.uint64))
    return hashes if column.why is None else np.where(column.why != 0, np.uint64(0), hashes)


def hash_texts(strings: pa.Array) -> Hashes:
    """Return a hash for each text, eight bytes at a time."""
    starts, raw = get_buffers(strings)
    if not len(strings):
        return np.zeros(0, np.uint64)
    lengths = np.diff(starts)
    result = mix(lengths.astype(np.uint64))
    padded = np.append(raw[starts[0] : starts[-1]], np.zeros(WORD, np.uint8))
    rows = np.arange(len(lengths))
    for position in range(0, int(lengths.max()), WORD):
        rows = rows[lengths[rows] > position]
        begins = starts[rows] - starts[0] + position
        words = padded[begins[:, None] + np.arange(WORD)]
        words[np.arange(WORD) >= (lengths[rows] - position)[:, None]] = 0  # bytes of the next text
        result[rows] = mix(result[rows] ^ words.view(np.uint64)[:, 0])
    return result


def mix(numbers: Hashes) -> Hashes:
    """Mix the bits of numbers (the finalizer of SplitMix64: Steele, Lea and Flood, OOPSLA 2014)."""
    numbers = numbers + np.uint64(0x9E3779B97F4A7C15)
    numbers = (numbers ^ (numbers >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    numbers = (numbers ^ (numbers >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return numbers ^ (numbers >> np.uint64(31))


def find_cuts(
    table: Table, size: int, rows_at_once: int, get_key: Callable[[Table], Column], *, has_common_pool: bool
) -> list[int] | None:
    """Return the rows at which a table can be cut into parts of about `size` rows that share no key, if it is sorted by
    its first key; else None.
    """
    cuts = [0]
    for start in range(0, max(len(table), 1), rows_at_once):
        first = max(start - 1, 0)
        key = get_key(table.slice(first, start + rows_at_once))
        steps = find_key_steps(key, has_common_pool=has_common_pool)
        if steps is None:
            return None
        starts = first + 1 + np.flatnonzero(steps)
        while (place := np.searchsorted(starts, cuts[-1] + size)) < len(starts):
            cuts.append(int(starts[place]))
    return [*cuts, len(table)]


def split_by_key(table: Table, key: Sequence[str], more: Sequence[str] = ()) -> Iterator[tuple[Array, Table]]:
    """Yield the rows of some keys after the other, with the columns that are needed; nothing without a key."""
    if not key:
        return
    needed, count = table.only(list(dict.fromkeys([*key, *more]))), -(-len(table) // MOST_ROWS)
    cuts = [0, len(table)] if count <= 1 else find_cuts(
        needed, MOST_ROWS, ROWS_AT_ONCE, lambda block: block[key[0]], has_common_pool=True
    )  # fmt: skip
    # A slice of few keys with most of the rows would be too large; all keys together divide it.
    if cuts is not None and (count <= 1 or max(np.diff(cuts)) <= 2 * MOST_ROWS):
        for start, stop in itertools.pairwise(cuts):
            yield np.arange(start, stop), needed.slice(start, stop)
        return
    share = np.zeros(len(table), np.uint16)
    for start in range(0, len(table), ROWS_AT_ONCE):
        block = slice(start, min(start + ROWS_AT_ONCE, len(table)))
        share[block] = hash_rows([table[name].slice(block.start, block.stop) for name in key]) % np.uint64(count)
    for number in range(count):
        rows = np.flatnonzero(share == number)
        yield rows, replace(needed.take(rows), row_numbers=needed.find_row_numbers(rows))


def find_key_steps(column: Column, *, has_common_pool: bool) -> Array | None:
    """Return for each cell but the first whether it is greater than the one above; None if one is smaller, or missing.

    With `has_common_pool` the positions in a pool of distinct strings are an order too.
    """
    if column.missing_count:
        return None
    if column.type == "string" and not (has_common_pool and column.stored is not None and column.strings.is_distinct):
        texts = column.to_arrow()
        above, below = texts[:-1], texts[1:]
        if len(below) and not pc.all(pc.less_equal(above, below)).as_py():
            return None
        return np.asarray(pc.less(above, below).to_numpy(zero_copy_only=False))
    values = column.values
    return values[1:] > values[:-1] if (values[1:] >= values[:-1]).all() else None
