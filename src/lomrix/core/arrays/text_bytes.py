"""The bytes of text cells: fast tests of all cells of a column without encoding it."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

Bytes = npt.NDArray[np.uint8]
Mask = npt.NDArray[np.bool_]

# Bytes that are compared at once.
WORD = 8
BLOCK = 1 << 16
FIRST_NON_ASCII = 128
ZERO, NINE, SPACE, MINUS = ord("0"), ord("9"), ord(" "), ord("-")


def get_buffers(strings: pa.Array) -> tuple[npt.NDArray[np.int64], Bytes]:
    """Return the start of each cell of an Arrow string array (one more at the end), and all bytes."""
    _, offsets, data = strings.buffers()
    if len(strings) == 0:
        return np.zeros(1, np.int64), np.zeros(1, np.uint8)
    width: Any = np.int32 if strings.type == pa.string() else np.int64
    starts = np.frombuffer(offsets, width, len(strings) + 1, strings.offset * np.dtype(width).itemsize)
    # Never empty, so that reading the byte "after" an empty last cell is always allowed.
    raw = np.zeros(1, np.uint8) if data is None or data.size == 0 else np.frombuffer(data, np.uint8)
    return starts, raw


def has_byte(strings: pa.Array, byte: bytes) -> bool:
    """Return whether some cell may hold the byte (exact for a whole array)."""
    _, raw = get_buffers(strings)
    step = 1 << 20
    return any(raw[start : start + step].tobytes().find(byte) >= 0 for start in range(0, len(raw), step))


def is_ascii(strings: pa.Array) -> bool:
    """Return whether all cells are plain ASCII."""
    starts, raw = get_buffers(strings)
    raw = raw[int(starts[0]) : int(starts[-1])]
    return not len(raw) or int(raw.max()) < FIRST_NON_ASCII


def differs_from_above(strings: pa.Array) -> Mask:
    """Return for each cell but the first whether it differs from the one above; the array has no nulls."""
    starts, _ = get_buffers(strings)
    length, rows = int(starts[1] - starts[0]), len(strings)
    if length < WORD or not have_length(starts, length):
        return np.asarray(pc.not_equal(strings[1:], strings[:-1]).to_numpy(zero_copy_only=False))
    # Texts of one length are compared eight bytes at a time.
    result = np.zeros(rows - 1, np.bool_)
    for words in split_words(strings):
        result |= words[1:] != words[:-1]
    return result


def split_words(strings: pa.Array, dtype: str = "<u8") -> list[npt.NDArray[np.uint64]]:
    """Return the bytes of texts of one length, eight at a time, as numbers; ">u8" keeps the order of the texts."""
    starts, raw = get_buffers(strings)
    length = int(starts[1] - starts[0])
    return [
        np.ndarray((len(strings),), np.dtype(dtype), raw.data, int(starts[0]) + position, (length,))
        for position in word_positions(length)
    ]


def word_positions(length: int) -> list[int]:
    """Return where the words of a text of this many bytes (at least eight) begin; the last two may overlap."""
    return [*range(0, length - WORD, WORD), length - WORD]


def find_varying(strings: pa.Array) -> list[int]:
    """Return the byte positions at which some text of one length differs from the first text."""
    starts, raw = get_buffers(strings)
    length = int(starts[1] - starts[0])
    if length < WORD:
        cells = raw[starts[0] : starts[-1]].reshape(-1, length)
        return [position for position in range(length) if (cells[:, position] != cells[0, position]).any()]
    varying = set()
    for position, words in zip(word_positions(length), split_words(strings), strict=True):
        differing = np.uint64(0)
        for start in range(0, len(words), BLOCK):
            differing |= np.bitwise_or.reduce(words[start : start + BLOCK] ^ words[0])
        varying |= {position + byte for byte, bits in enumerate(differing.astype("<u8").tobytes()) if bits}
    return sorted(varying)


def have_length(starts: npt.NDArray[np.int64], length: int) -> bool:
    """Return whether every cell has this many bytes."""
    if int(starts[-1] - starts[0]) != (len(starts) - 1) * length:
        return False
    # Block by block, so that the test allocates nothing large.
    return all(
        bool((np.diff(starts[start : start + BLOCK + 1]) == length).all()) for start in range(0, len(starts) - 1, BLOCK)
    )


def is_ascending(strings: pa.Array) -> bool:
    """Return whether texts of one length without nulls are strictly ascending; False also if unknown."""
    starts, _ = get_buffers(strings)
    length = int(starts[1] - starts[0]) if len(strings) else 0
    if strings.null_count or not WORD <= length <= 2 * WORD or not have_length(starts, length):
        return False
    first, *more = (words.astype(np.uint64) for words in split_words(strings, ">u8"))
    later = first[1:] > first[:-1]
    for words in more:
        later |= (first[1:] == first[:-1]) & (words[1:] > words[:-1])
    return bool(later.all())


def find_bytes(strings: pa.Array) -> Mask:
    """Return for each of the 256 bytes whether some cell holds it."""
    starts, raw = get_buffers(strings)
    raw = raw[int(starts[0]) : int(starts[-1])]
    used = np.zeros(256, np.bool_)
    for start in range(0, len(raw), BLOCK):
        used[raw[start : start + BLOCK]] = True
    return used


def bytes_at(strings: pa.Array, position: int) -> Bytes:
    """Return the byte at a position of each cell, 0 if the cell is shorter; position -1 is the last byte."""
    starts, raw = get_buffers(strings)
    lengths = np.diff(starts)
    index = starts[1:] - 1 if position < 0 else starts[:-1] + position
    inside = lengths > max(position, 0) if position >= 0 else lengths > 0
    return np.where(inside, raw[np.minimum(np.maximum(index, 0), len(raw) - 1)], np.uint8(0))


def may_be_number(strings: pa.Array) -> Mask:
    """Return whether the first byte of each cell is a digit, a plus or minus, or a decimal point."""
    table = np.zeros(256, np.bool_)
    table[[*range(ZERO, NINE + 1), ord("+"), ord("-"), ord(".")]] = True
    return np.asarray(table[bytes_at(strings, 0)])


def has_leading_zeros(strings: pa.Array) -> bool:
    """Return whether some cell begins with a zero that another digit follows (after an optional minus)."""
    starts, raw = get_buffers(strings)
    # An empty cell yields the next cell's first byte here; the few remaining cells are tested exactly.
    first = raw[np.minimum(starts[:-1], len(raw) - 1)]
    some = np.flatnonzero((first == ZERO) | (first == MINUS))
    if not len(some):
        return False
    lengths = starts[some + 1] - starts[some]
    signed = first[some] == MINUS
    some, lengths, signed = some[lengths > 1 + signed], lengths[lengths > 1 + signed], signed[lengths > 1 + signed]
    zero_index = starts[some] + signed
    following = raw[zero_index + 1]
    return bool(((raw[zero_index] == ZERO) & (following >= ZERO) & (following <= NINE)).any())


def total_length(strings: pa.Array) -> int:
    """Return the number of bytes of all cells together."""
    starts, _ = get_buffers(strings)
    return int(starts[-1] - starts[0])


def decimal_length(values: npt.NDArray[np.int64], low: int, high: int) -> int:
    """Return the number of bytes of all integers (below 16 digits) in decimal, given their minimum and maximum."""
    total = len(values)
    sizes = values
    if low < 0:
        total += int(np.count_nonzero(values < 0))
        sizes = np.abs(values)
    power, limit = 10, max(high, -low)
    while power <= limit:
        total += int(np.count_nonzero(sizes >= power))
        power *= 10
    return total
