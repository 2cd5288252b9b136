"""Sums over the cells of a column that a server can compute as well: the same cells have the same sum, in any order."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable

import numpy as np

from lomrix.core.table.column import Column
from lomrix.core.table.labelled import distinct_texts

# So many hexadecimal digits of a text's hash are added up: sums of them stay exact on every server.
DIGITS = 15


def sum_of_whole(column: Column) -> int:
    """The exact sum of whole numbers, booleans, days since 1970, or microseconds since then."""
    values = column.values[~column.is_missing]
    return exact_sum(values.astype(np.int64))


def exact_sum(values: np.ndarray) -> int:
    """The exact sum of int64 numbers, which may be larger than any of them can be."""
    low, high = values & 0xFFFFFFFF, values >> 32
    return int(low.sum()) + (int(high.sum()) << 32)


def sum_of_bits(column: Column) -> int:
    """The exact sum of the bits of numbers, taken for whole numbers."""
    return exact_sum(column.values[~column.is_missing].view(np.int64))


def hash_of(text: str) -> int:
    """The first digits of a text's MD5 as a number."""
    return int(hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()[:DIGITS], 16)


def check_of(text: str) -> int:
    """A text's CRC-32."""
    return zlib.crc32(text.encode())


def sum_of_texts(column: Column, number: Callable[[str], int]) -> int:
    """The sum over all cells of the number that each text has."""
    texts, places = distinct_texts(column)
    counts = np.bincount(places[places >= 0], minlength=len(texts)).tolist()
    return sum(count * number(text) for text, count in zip(texts, counts, strict=True))
