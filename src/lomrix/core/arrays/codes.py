"""Key codes: integers that are equal where keys are equal, and -1 where a key is missing."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.ordinals import encode_ordinals
from lomrix.core.arrays.types import Array

Codes = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]

# A lookup table may be this many times as long as the rows that use it.
ROOMY = 4
# Rows that are looked at together, so that they stay in the cache.
BLOCK = 1 << 16
SAMPLE = 1024
# Products of codes stay below this.
LARGEST = 2**62


def encode_number_pair(
    first: npt.NDArray[np.int64], second: npt.NDArray[np.int64], first_missing: Mask, second_missing: Mask
) -> tuple[Codes, Codes, int]:
    """Encode two integer arrays with common codes; return both (-1: missing) and the number of possible codes."""
    present = [array[~gone] for array, gone in ((first, first_missing), (second, second_missing))]
    filled = [array for array in present if len(array)]
    if not filled:
        return np.full(len(first), -1, np.int64), np.full(len(second), -1, np.int64), 0
    low = int(min(array.min() for array in filled))
    size = int(max(array.max() for array in filled)) - low + 1
    if size <= ROOMY * (len(first) + len(second)) + 1024:
        return _shift_codes(first, low, first_missing), _shift_codes(second, low, second_missing), size
    encoded = pa.chunked_array(
        [pa.array(first, mask=first_missing), pa.array(second, mask=second_missing)]
    ).dictionary_encode()
    return split_chunk_codes(encoded, (len(first), len(second)))


def _shift_codes(values: npt.NDArray[np.int64], low: int, missing: Mask) -> Codes:
    codes = values - low
    codes[missing] = -1
    return codes


def encode_text_pair(first: pa.Array, second: pa.Array) -> tuple[Codes, Codes, int]:
    """Encode two Arrow string arrays with common codes, as `encode_number_pair` does; nulls are -1."""
    encoded = pa.chunked_array([first, second], pa.large_string()).dictionary_encode()
    return split_chunk_codes(encoded, (len(first), len(second)))


def split_chunk_codes(encoded: pa.ChunkedArray, lengths: tuple[int, int]) -> tuple[Codes, Codes, int]:
    """Return the codes of a dictionary-encoded pair of chunks that share one dictionary."""
    if encoded.num_chunks == 0:
        return np.zeros(0, np.int64), np.zeros(0, np.int64), 0
    indices = pa.chunked_array([chunk.indices for chunk in encoded.chunks])
    codes = np.asarray(indices.fill_null(-1).to_numpy(), dtype=np.int64)
    return codes[: lengths[0]], codes[lengths[0] :], len(encoded.chunk(encoded.num_chunks - 1).dictionary)


def combine_codes(codes: Codes, size: int, more: Codes, more_size: int) -> tuple[Codes, int]:
    """Combine two codes per row into one; -1 where either is missing. The sizes must multiply to less than 2**62."""
    both = codes * more_size + more
    both[(codes < 0) | (more < 0)] = -1
    return both, size * more_size


def combine_code_pairs(
    pairs: list[tuple[Codes, Codes, int]],
) -> tuple[Codes, Codes, int]:
    """Combine the codes of several key columns on two sides, kept small enough for lookup tables."""
    first, second, size = pairs[0]
    for more_first, more_second, more_size in pairs[1:]:
        if size * max(more_size, 1) >= LARGEST:
            first, second, size = encode_number_pair(first, second, first < 0, second < 0)
        first, new_size = combine_codes(first, size, more_first, max(more_size, 1))
        second, _ = combine_codes(second, size, more_second, max(more_size, 1))
        size = new_size
    if size > ROOMY * (len(first) + len(second)) + 1024:
        return encode_number_pair(first, second, first < 0, second < 0)
    return first, second, size


def rank_values(values: Array, missing: Mask) -> tuple[Codes, Array]:
    """Rank each value among the distinct ones (from 0, ascending; -1: missing); return ranks and distinct values."""
    present = values[~missing] if missing.any() else values
    encoding = encode_ordinals(present)
    numbers, distinct = encoding.numbers, encoding.distinct
    if distinct is None:
        seen = np.zeros(encoding.size, np.bool_)
        seen[numbers] = True
        numbers, distinct = (np.cumsum(seen) - 1)[numbers], encoding.decode(np.flatnonzero(seen))
    if present is values:
        return numbers, distinct
    codes = np.full(len(values), -1, np.int64)
    codes[~missing] = numbers
    return codes, distinct


def find_distinct(values: Array) -> Array:
    """Return the distinct values in ascending order; none may be missing."""
    if values.dtype.kind in "iubM" and len(values):
        numbers = values.view(np.int64) if values.dtype.itemsize == 8 else values.astype(np.int64)
        low, high = int(numbers.min()), int(numbers.max())
        if high - low <= ROOMY * len(values) + 1024:
            seen = np.zeros(high - low + 1, np.bool_)
            for start in range(0, len(numbers), BLOCK):
                seen[numbers[start : start + BLOCK] - low] = True
            return (np.flatnonzero(seen) + low).astype(values.dtype)
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    if len(values) > SAMPLE and len(np.unique(sample)) <= SAMPLE * 0.9:
        values = pa.array(values).unique().to_numpy(zero_copy_only=False).astype(values.dtype)
    return np.unique(values)


def compact_codes(codes: Codes, size: int) -> tuple[Codes, Codes]:
    """Renumber codes 0, 1, 2 … without gaps (-1 stays); return them and the old code of each."""
    if size <= ROOMY * len(codes) + 1024:
        seen = np.zeros(size, np.bool_)
        seen[codes[codes >= 0]] = True
        old = np.flatnonzero(seen)
        table = np.full(size + 1, -1, np.int64)
        table[old] = np.arange(len(old))
        return table[codes], old
    new, old = rank_values(codes, codes < 0)
    return new, old


def order_codes(codes: Codes, size: int) -> Codes:
    """Return the positions that sort codes from 0 to below `size`; equal codes stay in order."""
    rows = len(codes)
    if size * max(rows, 1) >= LARGEST:
        return np.argsort(codes, kind="stable")
    # Sorting values is several times faster than sorting positions.
    both = codes * rows + np.arange(rows)
    both.sort()
    return np.asarray(both % max(rows, 1))
