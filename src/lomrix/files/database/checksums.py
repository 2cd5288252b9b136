"""Checksums of a column that a server can compute too: the same cells give the same sum, in any order."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable

import numpy as np

from lomrix.core.table.column import Column
from lomrix.core.table.labelled import encode_distinct

# Hexadecimal digits of a text's hash that are summed: such sums stay exact on every server.
DIGITS = 15


def sum_integers(column: Column) -> int:
    """Return the exact sum of integers, booleans, or days or microseconds since 1970."""
    values = column.values[~column.is_missing]
    return sum_exactly(values.astype(np.int64))


def sum_exactly(values: np.ndarray) -> int:
    """Return the exact sum of int64 numbers, which may exceed 64 bits."""
    low, high = values & 0xFFFFFFFF, values >> 32
    return int(low.sum()) + (int(high.sum()) << 32)


def sum_bits(column: Column) -> int:
    """Return the exact sum of the bits of floats, read as integers."""
    return sum_exactly(column.values[~column.is_missing].view(np.int64))


def hash_text(text: str) -> int:
    """Return the first digits of a text's MD5 as a number."""
    return int(hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()[:DIGITS], 16)


def crc_text(text: str) -> int:
    """Return a text's CRC-32."""
    return zlib.crc32(text.encode())


def sum_texts(column: Column, number: Callable[[str], int]) -> int:
    """Return the sum over all cells of each text's number."""
    texts, positions = encode_distinct(column)
    counts = np.bincount(positions[positions >= 0], minlength=len(texts)).tolist()
    return sum(count * number(text) for text, count in zip(texts, counts, strict=True))
