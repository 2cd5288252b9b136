"""Key codes: whole numbers that are equal where keys are equal, and -1 where a key is missing."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.ordinals import ordinals
from lomrix.core.arrays.types import Array

Codes = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]

# A lookup table may be this many times as long as the rows that use it.
ROOMY = 4
SAMPLE = 1024


def paired_number_codes(
    first: npt.NDArray[np.int64], second: npt.NDArray[np.int64], first_gone: Mask, second_gone: Mask
) -> tuple[Codes, Codes, int]:
    """Codes of two arrays of whole numbers, counted alike.

    Parameters
    ----------
    first, second
        The values.
    first_gone, second_gone
        True where a value is missing.

    Returns
    -------
    The codes of both (-1 where missing), and how many codes there can be.
    """
    present = [array[~gone] for array, gone in ((first, first_gone), (second, second_gone))]
    filled = [array for array in present if len(array)]
    if not filled:
        return np.full(len(first), -1, np.int64), np.full(len(second), -1, np.int64), 0
    low = int(min(array.min() for array in filled))
    size = int(max(array.max() for array in filled)) - low + 1
    if size <= ROOMY * (len(first) + len(second)) + 1024:
        return _shifted(first, low, first_gone), _shifted(second, low, second_gone), size
    encoded = pa.chunked_array(
        [pa.array(first, mask=first_gone), pa.array(second, mask=second_gone)]
    ).dictionary_encode()
    return chunk_codes(encoded, (len(first), len(second)))


def _shifted(values: npt.NDArray[np.int64], low: int, gone: Mask) -> Codes:
    codes = values - low
    codes[gone] = -1
    return codes


def paired_text_codes(first: pa.Array, second: pa.Array) -> tuple[Codes, Codes, int]:
    """Codes of two Arrow string arrays, counted alike; nulls are -1. Returned as for numbers."""
    encoded = pa.chunked_array([first, second], pa.large_string()).dictionary_encode()
    return chunk_codes(encoded, (len(first), len(second)))


def chunk_codes(encoded: pa.ChunkedArray, lengths: tuple[int, int]) -> tuple[Codes, Codes, int]:
    """The codes of a dictionary-encoded pair of chunks, whose dictionary serves both."""
    if encoded.num_chunks == 0:
        return np.zeros(0, np.int64), np.zeros(0, np.int64), 0
    indices = pa.chunked_array([chunk.indices for chunk in encoded.chunks])
    codes = np.asarray(indices.fill_null(-1).to_numpy(), dtype=np.int64)
    return codes[: lengths[0]], codes[lengths[0] :], len(encoded.chunk(encoded.num_chunks - 1).dictionary)


def combined(codes: Codes, size: int, more: Codes, more_size: int) -> tuple[Codes, int]:
    """Codes of pairs of codes; missing where either is. The sizes must multiply to less than 2 to the 62nd."""
    both = codes * more_size + more
    both[(codes < 0) | (more < 0)] = -1
    return both, size * more_size


def paired_combined(
    pairs: list[tuple[Codes, Codes, int]],
) -> tuple[Codes, Codes, int]:
    """Codes over several keys on two sides, from the codes of each key, kept small enough for lookup tables."""
    first, second, size = pairs[0]
    for more_first, more_second, more_size in pairs[1:]:
        if size * max(more_size, 1) >= 2**62:
            first, second, size = paired_number_codes(first, second, first < 0, second < 0)
        first, wide = combined(first, size, more_first, max(more_size, 1))
        second, _ = combined(second, size, more_second, max(more_size, 1))
        size = wide
    if size > ROOMY * (len(first) + len(second)) + 1024:
        return paired_number_codes(first, second, first < 0, second < 0)
    return first, second, size


def ranks(values: Array, gone: Mask) -> tuple[Codes, Array]:
    """Rank of each value among the distinct ones, counted from 0 in ascending order (-1: missing).

    Parameters
    ----------
    values
        Numbers, dates or booleans.
    gone
        True where a value is missing.

    Returns
    -------
    The ranks, and the distinct values in ascending order.
    """
    present = values[~gone] if gone.any() else values
    found = ordinals(present)
    numbers, distinct = found.numbers, found.distinct
    if distinct is None:
        seen = np.zeros(found.size, np.bool_)
        seen[numbers] = True
        numbers, distinct = (np.cumsum(seen) - 1)[numbers], found.values_of(np.flatnonzero(seen))
    if present is values:
        return numbers, distinct
    codes = np.full(len(values), -1, np.int64)
    codes[~gone] = numbers
    return codes, distinct


def distinct_values(values: Array) -> Array:
    """The distinct values in ascending order (none missing)."""
    if values.dtype.kind in "iubM" and len(values):
        numbers = values.astype(np.int64)
        low, high = int(numbers.min()), int(numbers.max())
        if high - low <= ROOMY * len(values) + 1024:
            seen = np.zeros(high - low + 1, np.bool_)
            seen[numbers - low] = True
            return (np.flatnonzero(seen) + low).astype(values.dtype)
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    if len(values) > SAMPLE and len(np.unique(sample)) <= SAMPLE * 0.9:
        values = pa.array(values).unique().to_numpy(zero_copy_only=False).astype(values.dtype)
    return np.unique(values)


def dense(codes: Codes, size: int) -> tuple[Codes, Codes]:
    """Codes numbered 0, 1, 2 … without gaps in ascending order (-1 stays), and the old code of each."""
    if size <= ROOMY * len(codes) + 1024:
        seen = np.zeros(size, np.bool_)
        seen[codes[codes >= 0]] = True
        old = np.flatnonzero(seen)
        table = np.full(size + 1, -1, np.int64)
        table[old] = np.arange(len(old))
        return table[codes], old
    new, old = ranks(codes, codes < 0)
    return new, old
