"""The bytes of text cells: quick looks at all cells of a column without encoding it."""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

Bytes = npt.NDArray[np.uint8]
Mask = npt.NDArray[np.bool_]

ZERO, NINE, SPACE, MINUS = ord("0"), ord("9"), ord(" "), ord("-")


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
    return any(raw[start : start + step].tobytes().find(byte) >= 0 for start in range(0, len(raw), step))


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


def total_length(strings: Any) -> int:
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
