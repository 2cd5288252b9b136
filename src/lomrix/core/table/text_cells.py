"""The bytes of text cells: quick looks at all cells of a column without encoding it."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
Mask = npt.NDArray[np.bool_]

ZERO, NINE, SPACE = ord("0"), ord("9"), ord(" ")


def offsets_and_data(strings: Any) -> tuple[npt.NDArray[np.int64], Bytes]:
    """Where each cell of an Arrow large_string array begins (one more at the end), and all bytes."""
    _, offsets, data = strings.buffers()
    if len(strings) == 0:
        return np.zeros(1, np.int64), np.zeros(1, np.uint8)
    starts = np.frombuffer(offsets, np.int64, len(strings) + 1, strings.offset * 8)
    # One byte more, so that looking at the byte "after" an empty last cell is always allowed.
    raw = np.zeros(1, np.uint8) if data is None or data.size == 0 else np.frombuffer(data, np.uint8)
    return starts, raw


def has_byte(strings: Any, byte: bytes) -> bool:
    """True where some cell may hold the byte (exact for a whole array)."""
    _, raw = offsets_and_data(strings)
    step = 1 << 20
    return any((raw[start : start + step] == byte[0]).any() for start in range(0, len(raw), step))


def bytes_at(strings: Any, place: int) -> Bytes:
    """The byte at a place of each cell, 0 where the cell is shorter; -1 is the last byte."""
    starts, raw = offsets_and_data(strings)
    lengths = np.diff(starts)
    at = starts[1:] - 1 if place < 0 else starts[:-1] + place
    inside = lengths > max(place, 0) if place >= 0 else lengths > 0
    return np.where(inside, raw[np.minimum(np.maximum(at, 0), len(raw) - 1)], np.uint8(0))


def begins_like_a_number(strings: Any) -> Mask:
    """True where the first byte is a digit, a sign or a decimal point."""
    table = np.zeros(256, np.bool_)
    table[[*range(ZERO, NINE + 1), ord("+"), ord("-"), ord(".")]] = True
    return np.asarray(table[bytes_at(strings, 0)])


def has_leading_zeros(strings: Any) -> bool:
    """True where some cell begins with a zero (after a sign) that another digit follows."""
    if not has_byte(strings, b"0"):
        return False
    first, second = bytes_at(strings, 0), bytes_at(strings, 1)
    if ((first == ZERO) & (second >= ZERO) & (second <= NINE)).any():
        return True
    signed = (first == ord("-")) & (second == ZERO)
    if not signed.any():
        return False
    third = bytes_at(strings, 2)
    return bool((signed & (third >= ZERO) & (third <= NINE)).any())


def total_length(strings: Any) -> int:
    """Bytes of all cells together."""
    starts, _ = offsets_and_data(strings)
    return int(starts[-1] - starts[0])


def decimal_length(values: npt.NDArray[np.int64]) -> int:
    """Bytes that whole numbers below 10 to the 15th take in plain decimal writing, all together."""
    if len(values) == 0:
        return 0
    sizes = np.abs(values)
    total = len(values) + int(np.count_nonzero(values < 0))
    power, most = 10, int(sizes.max())
    while power <= most:
        total += int(np.count_nonzero(sizes >= power))
        power *= 10
    return total
