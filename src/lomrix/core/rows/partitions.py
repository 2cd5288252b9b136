"""Partitions: rows shared out by a hash of their keys, so that rows that belong together stay together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.text_bytes import get_buffers
from lomrix.core.table.column import Column

Hashes = npt.NDArray[np.uint64]
WORD = 8


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
