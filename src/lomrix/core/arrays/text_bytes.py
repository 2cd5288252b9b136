"""The bytes of text cells: quick looks at all cells of a column without encoding it."""

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
ZERO, NINE, SPACE, MINUS = ord("0"), ord("9"), ord(" "), ord("-")


def offsets_and_data(strings: pa.Array) -> tuple[npt.NDArray[np.int64], Bytes]:
    """Where each cell of an Arrow array of strings begins (one more at the end), and all bytes."""
    _, offsets, data = strings.buffers()
    if len(strings) == 0:
        return np.zeros(1, np.int64), np.zeros(1, np.uint8)
    width: Any = np.int32 if strings.type == pa.string() else np.int64
    starts = np.frombuffer(offsets, width, len(strings) + 1, strings.offset * np.dtype(width).itemsize)
    # One byte more, so that looking at the byte "after" an empty last cell is always allowed.
    raw = np.zeros(1, np.uint8) if data is None or data.size == 0 else np.frombuffer(data, np.uint8)
    return starts, raw


def has_byte(strings: pa.Array, byte: bytes) -> bool:
    """True where some cell may hold the byte (exact for a whole array)."""
    _, raw = offsets_and_data(strings)
    step = 1 << 20
    return any(raw[start : start + step].tobytes().find(byte) >= 0 for start in range(0, len(raw), step))


def differs_from_above(strings: pa.Array) -> Mask:
    """True where a cell's text is not that of the cell above it; one shorter than the array, which has no nulls."""
    starts, _ = offsets_and_data(strings)
    length, rows = int(starts[1] - starts[0]), len(strings)
    if length < WORD or not all_as_long_as(starts, length):
        return np.asarray(pc.not_equal(strings[1:], strings[:-1]).to_numpy(zero_copy_only=False))
    # Texts of one length are compared eight bytes at a time.
    found = np.zeros(rows - 1, np.bool_)
    for words in words_of(strings):
        found |= words[1:] != words[:-1]
    return found


def words_of(strings: pa.Array, dtype: str = "<u8") -> list[npt.NDArray[np.uint64]]:
    """The bytes of texts of one length, eight at a time, as numbers; as ">u8" they are in the order of the texts."""
    starts, raw = offsets_and_data(strings)
    length = int(starts[1] - starts[0])
    return [
        np.ndarray((len(strings),), np.dtype(dtype), raw.data, int(starts[0]) + place, (length,))
        for place in word_places(length)
    ]


def word_places(length: int) -> list[int]:
    """Where the words of a text of so many bytes (eight or more) begin; the last two may share bytes."""
    return [*range(0, length - WORD, WORD), length - WORD]


def varying_places(strings: pa.Array) -> list[int]:
    """The places at which some text of one length has another byte than the first text."""
    starts, raw = offsets_and_data(strings)
    length = int(starts[1] - starts[0])
    if length < WORD:
        cells = raw[starts[0] : starts[-1]].reshape(-1, length)
        return [place for place in range(length) if (cells[:, place] != cells[0, place]).any()]
    varying = set()
    for place, words in zip(word_places(length), words_of(strings), strict=True):
        differing = np.uint64(0)
        for at in range(0, len(words), BLOCK):
            differing |= np.bitwise_or.reduce(words[at : at + BLOCK] ^ words[0])
        varying |= {place + byte for byte, bits in enumerate(differing.astype("<u8").tobytes()) if bits}
    return sorted(varying)


def all_as_long_as(starts: npt.NDArray[np.int64], length: int) -> bool:
    """True where every cell has so many bytes."""
    if int(starts[-1] - starts[0]) != (len(starts) - 1) * length:
        return False
    # Block by block, so that nothing large is made for a mere look.
    return all(bool((np.diff(starts[at : at + BLOCK + 1]) == length).all()) for at in range(0, len(starts) - 1, BLOCK))


def ascends(strings: pa.Array) -> bool:
    """True where texts of one length without nulls stand in strictly ascending order; False also where unknown."""
    starts, _ = offsets_and_data(strings)
    length = int(starts[1] - starts[0]) if len(strings) else 0
    if strings.null_count or not WORD <= length <= 2 * WORD or not all_as_long_as(starts, length):
        return False
    first, *more = (words.astype(np.uint64) for words in words_of(strings, ">u8"))
    later = first[1:] > first[:-1]
    for words in more:
        later |= (first[1:] == first[:-1]) & (words[1:] > words[:-1])
    return bool(later.all())


def bytes_used(strings: pa.Array) -> Mask:
    """For each of the 256 bytes, True where some cell holds it."""
    starts, raw = offsets_and_data(strings)
    raw = raw[int(starts[0]) : int(starts[-1])]
    used = np.zeros(256, np.bool_)
    for at in range(0, len(raw), BLOCK):
        used[raw[at : at + BLOCK]] = True
    return used


def bytes_at(strings: pa.Array, place: int) -> Bytes:
    """The byte at a place of each cell, 0 where the cell is shorter; -1 is the last byte."""
    starts, raw = offsets_and_data(strings)
    lengths = np.diff(starts)
    at = starts[1:] - 1 if place < 0 else starts[:-1] + place
    inside = lengths > max(place, 0) if place >= 0 else lengths > 0
    return np.where(inside, raw[np.minimum(np.maximum(at, 0), len(raw) - 1)], np.uint8(0))


def begins_like_a_number(strings: pa.Array) -> Mask:
    """True where the first byte is a digit, a sign or a decimal point."""
    table = np.zeros(256, np.bool_)
    table[[*range(ZERO, NINE + 1), ord("+"), ord("-"), ord(".")]] = True
    return np.asarray(table[bytes_at(strings, 0)])


def has_leading_zeros(strings: pa.Array) -> bool:
    """True where some cell begins with a zero (after a sign) that another digit follows."""
    starts, raw = offsets_and_data(strings)
    # An empty cell shows the next cell's first byte here; the few cells that are left are looked at exactly.
    first = raw[np.minimum(starts[:-1], len(raw) - 1)]
    some = np.flatnonzero((first == ZERO) | (first == MINUS))
    if not len(some):
        return False
    lengths = starts[some + 1] - starts[some]
    signed = first[some] == MINUS
    some, lengths, signed = some[lengths > 1 + signed], lengths[lengths > 1 + signed], signed[lengths > 1 + signed]
    zero_at = starts[some] + signed
    following = raw[zero_at + 1]
    return bool(((raw[zero_at] == ZERO) & (following >= ZERO) & (following <= NINE)).any())


def total_length(strings: pa.Array) -> int:
    """Bytes of all cells together."""
    starts, _ = offsets_and_data(strings)
    return int(starts[-1] - starts[0])


def decimal_length(values: npt.NDArray[np.int64], low: int, high: int) -> int:
    """Bytes that whole numbers take in plain decimal writing, all together.

    Parameters
    ----------
    values
        Numbers of less than 16 digits.
    low, high
        The smallest and the largest of them.
    """
    total = len(values)
    sizes = values
    if low < 0:
        total += int(np.count_nonzero(values < 0))
        sizes = np.abs(values)
    power, most = 10, max(high, -low)
    while power <= most:
        total += int(np.count_nonzero(sizes >= power))
        power *= 10
    return total
