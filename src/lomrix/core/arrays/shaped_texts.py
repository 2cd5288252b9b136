"""Ids of one shape, such as K0412: equal length, digits in the same positions, all else the same."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.text_bytes import BLOCK, find_varying, get_buffers, have_length

# More digits than this do not fit an int64.
MOST_DIGITS = 18
SHORT_DIGITS = 9
MOST_BYTES = 32
# What stands for a digit in a shape: a byte that no text in UTF-8 has.
DIGIT = 0xFF


def parse_shaped(strings: pa.Array) -> tuple[npt.NDArray[np.int64], bytes] | None:
    """Return the varying digits of each text as a number, and the common shape; None if there is no common shape."""
    rows = len(strings)
    if not rows or strings.null_count:
        return None
    starts, raw = get_buffers(strings)
    length = int(starts[1] - starts[0])
    if not 0 < length <= MOST_BYTES or not have_length(starts, length):
        return None
    positions = find_varying(strings)
    if len(positions) > MOST_DIGITS:
        return None
    cells = raw[starts[0] : starts[-1]].reshape(rows, length)
    shape = bytearray(cells[0].tobytes())
    numbers = np.zeros(rows, np.int64)
    # Block by block, so that all but the result stays in the processor's cache.
    for start in range(0, rows, BLOCK):
        block, result = cells[start : start + BLOCK], numbers[start : start + BLOCK]
        for position in positions:
            digit = block[:, position] - np.uint8(ord("0"))  # unsigned: what is no digit is over 9
            if digit.max() > 9:
                return None
            result *= 10
            result += digit
    for position in positions:
        shape[position] = DIGIT
    return numbers, bytes(shape)


def format_shaped(numbers: npt.NDArray[np.int64], shape: bytes) -> pa.Array:
    """Return the texts that `parse_shaped` reads as these numbers, as an Arrow large_string array.

    >>> format_shaped(np.array([412, 7]), b"K" + 4 * bytes([DIGIT])).to_pylist()
    ['K0412', 'K0007']
    """
    rows, length = len(numbers), len(shape)
    cells = np.empty((rows, length), np.uint8)
    positions = [position for position in range(length) if shape[position] == DIGIT]
    short = np.dtype(np.uint32 if len(positions) <= SHORT_DIGITS else np.int64)  # dividing short numbers is cheaper
    for start in range(0, rows, BLOCK):
        block, remainder = cells[start : start + BLOCK], numbers[start : start + BLOCK].astype(short)
        block[:] = np.frombuffer(shape, np.uint8)
        for position in reversed(positions):
            tens = remainder // 10
            block[:, position] = remainder - tens * 10 + ord("0")
            remainder = tens
    starts = np.arange(rows + 1, dtype=np.int64) * length
    return pa.Array.from_buffers(pa.large_string(), rows, [None, pa.py_buffer(starts), pa.py_buffer(cells)])


def parse_shaped_pair(first: pa.Array, second: pa.Array) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]] | None:
    """Return numbers that are equal where the texts of two arrays are; None if their shapes do not fit."""
    left, right = parse_shaped(first), parse_shaped(second)
    if left is None or right is None:
        return None
    if left[1] == right[1]:
        return left[0], right[0]
    shape = merge_shapes(left[1], right[1])
    if shape is None:
        return None
    return convert_shape(left[0], left[1], shape), convert_shape(right[0], right[1], shape)


def merge_shapes(first: bytes, second: bytes) -> bytes | None:
    """Return a shape that covers both (a fixed digit may become a varying one); None if they do not fit."""
    if len(first) != len(second):
        return None
    shape = bytearray(first)
    for position, (left, right) in enumerate(zip(first, second, strict=True)):
        if left != right:
            if not all(byte == DIGIT or byte in b"0123456789" for byte in (left, right)):
                return None
            shape[position] = DIGIT
    return bytes(shape) if shape.count(DIGIT) <= MOST_DIGITS else None


def convert_shape(numbers: npt.NDArray[np.int64], old: bytes, new: bytes) -> npt.NDArray[np.int64]:
    """Convert numbers read by one shape to those of a wider shape."""
    result = np.zeros(len(numbers), np.int64)
    remainder = numbers.copy()
    power = 1
    for old_byte, new_byte in zip(reversed(old), reversed(new), strict=True):
        if new_byte != DIGIT:
            continue
        if old_byte == DIGIT:
            remainder, digit = np.divmod(remainder, 10)
            result += digit * power
        else:
            result += (old_byte - ord("0")) * power
        power *= 10
    return result
