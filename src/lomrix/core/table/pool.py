"""Pools of strings: the texts that the positions of a string column point into."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.shaped_texts import format_shaped, parse_shaped
from lomrix.core.arrays.types import Array

Positions = npt.NDArray[np.int32]
SAMPLE = 512
# From this many strings on it pays to test for a common shape.
LARGE = 100_000


class Pool:
    """An array of strings that string columns point into.

    It may hold a string twice until the distinct ones are needed: finding them is expensive, so it happens on first use
    only.

    Parameters
    ----------
    strings
        Arrow array of strings; a null in it is a cell without text.
    is_distinct
        True where every string is known to stand once, and no null.
    """

    # A pool of distinct strings does not refer to itself, so that it goes as soon as nothing uses it.
    __slots__ = ("_codes", "_distinct", "_positions", "_shaped", "is_distinct", "strings")

    def __init__(self, strings: pa.Array | pa.ChunkedArray, *, is_distinct: bool = False) -> None:
        if isinstance(strings, pa.ChunkedArray):
            strings = strings.cast(pa.large_string()).combine_chunks()
        if isinstance(strings, pa.ChunkedArray):  # no chunk at all
            strings = pa.array([], pa.large_string())
        self.strings = strings if strings.type == pa.large_string() else strings.cast(pa.large_string())
        self.is_distinct = is_distinct
        self._positions: Positions | None = None
        self._distinct: Pool | None = None
        self._codes: tuple[Array, int] | None = None
        self._shaped: tuple[npt.NDArray[np.int64], bytes] | Literal["unknown"] | None = "unknown"

    @classmethod
    def of(cls, strings: list[str]) -> Pool:
        """A pool of distinct strings."""
        return cls(pa.array(strings, pa.large_string()), is_distinct=True)

    def __len__(self) -> int:
        return len(self.strings)

    def __reduce__(self) -> tuple[Any, ...]:
        return _make_pool, (self.strings, self.is_distinct)  # what was found of it is not sent

    @property
    def is_encoded(self) -> bool:
        """True where the distinct strings have been found already."""
        return self.is_distinct or self._distinct is not None

    def holds_same(self, other: Pool) -> bool:
        """Return whether another pool holds the same strings in the same order."""
        return self is other or (len(self) == len(other) and bool(self.strings.equals(other.strings)))

    def distinct(self) -> tuple[Positions, Pool]:
        """Return the pool of distinct strings, and the position of each of this pool's strings in it (-1: null)."""
        if self._positions is None:
            if self.is_distinct:
                self._positions = np.arange(len(self.strings), dtype=np.int32)
            else:
                self._positions, self._distinct = self._distinct_by_shape() or self._distinct_by_hash()
        return self._positions, self if self._distinct is None else self._distinct

    def _distinct_by_hash(self) -> tuple[Positions, Pool]:
        encoded = self.strings.dictionary_encode()
        return to_positions(encoded.indices), Pool(encoded.dictionary, is_distinct=True)

    def shaped(self) -> tuple[npt.NDArray[np.int64], bytes] | None:
        """Return the strings as numbers and their common shape, or None. Found once."""
        if self._shaped == "unknown":
            self._shaped = parse_shaped(self.strings)
        return self._shaped

    def _distinct_by_shape(self) -> tuple[Positions, Pool] | None:
        """Find distinct ids of one shape as numbers, without hashing, in ascending order; else None."""
        if len(self.strings) < LARGE or self.seems_repetitive():
            return None
        shaped = self.shaped()
        if shaped is None:
            return None
        numbers, shape = shaped
        low = int(numbers.min())
        numbers = numbers - low
        size = int(numbers.max()) + 1
        if size > 4 * len(numbers):
            return None
        occurs = np.zeros(size, np.bool_)
        occurs[numbers] = True
        position = np.cumsum(occurs, dtype=np.int32) - np.int32(1)
        return position[numbers], Pool(format_shaped(np.flatnonzero(occurs) + low, shape), is_distinct=True)

    def codes(self) -> tuple[Array, int]:
        """Return a number per string that is equal where strings are (-1: null), and how many numbers there can be.

        Cheaper than `distinct` for ids of one shape, and in no order.
        """
        if self._codes is None:
            shaped = self.shaped() if not self.is_encoded and len(self.strings) >= LARGE else None
            if shaped is not None and int(np.ptp(shaped[0])) < 4 * len(self.strings):
                numbers = shaped[0] - shaped[0].min()
                self._codes = (numbers, int(numbers.max()) + 1)
            else:
                positions, pool = self.distinct()
                self._codes = (positions, len(pool))
        return self._codes

    def seems_repetitive(self) -> bool:
        """Return whether each string seems to occur many times, by a sample."""
        rows = len(self.strings)
        if rows < 4 * SAMPLE:
            return rows > 0
        sample = self.strings.take(pa.array(np.arange(0, rows, rows // SAMPLE)))
        return len(sample.unique()) <= SAMPLE // 4

    def texts(self) -> list[str]:
        """Return the strings as Python texts."""
        return list(self.strings.to_pylist())


def _make_pool(strings: pa.Array, is_distinct: bool) -> Pool:
    return Pool(strings, is_distinct=is_distinct)


def to_positions(indices: pa.Array) -> Positions:
    """Return Arrow indices as an int32 array, null as -1."""
    if indices.null_count:
        indices = indices.fill_null(-1)
    return np.asarray(indices.to_numpy(zero_copy_only=False), dtype=np.int32)


def chain_pools(first: Pool, second: Pool) -> tuple[Pool, int]:
    """Return one pool with the strings of both, and where the second's begin."""
    if first is second:
        return first, 0
    return Pool(pa.concat_arrays([first.strings, second.strings])), len(first)
