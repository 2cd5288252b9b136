"""Ids of one shape, such as K0412: equal length, digits in the same places, the rest the same throughout.

Such texts are whole numbers in disguise, and comparing numbers is several times cheaper than comparing texts.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.text_bytes import BLOCK, all_as_long_as, offsets_and_data, varying_places

# More digits than this do not fit an int64.
MOST_DIGITS = 18
SHORT_DIGITS = 9
MOST_BYTES = 32
# What stands for a digit in a shape: a byte that no text in UTF-8 has.
DIGIT = 0xFF


def shaped_numbers(strings: pa.Array) -> tuple[npt.NDArray[np.int64], bytes] | None:
    """The digits of each text as a number, and the shape that all texts share, with `DIGIT` where a digit varies.

    Parameters
    ----------
    strings
        Arrow large_string array without nulls.

    Returns
    -------
    Two texts are equal just where their numbers are; None where the texts are not of one shape.
    """
    rows = len(strings)
    if not rows or strings.null_count:
        return None
    starts, raw = offsets_and_data(strings)
    length = int(starts[1] - starts[0])
    if not 0 < length <= MOST_BYTES or not all_as_long_as(starts, length):
        return None
    places = varying_places(strings)
    if len(places) > MOST_DIGITS:
        return None
    cells = raw[starts[0] : starts[-1]].reshape(rows, length)
    shape = bytearray(cells[0].tobytes())
    numbers = np.zeros(rows, np.int64)
    # Block by block, so that all but the result stays in the processor's cache.
    for at in range(0, rows, BLOCK):
        block, found = cells[at : at + BLOCK], numbers[at : at + BLOCK]
        for place in places:
            digit = block[:, place] - np.uint8(ord("0"))  # unsigned: what is no digit is over 9
            if digit.max() > 9:
                return None
            found *= 10
            found += digit
    for place in places:
        shape[place] = DIGIT
    return numbers, bytes(shape)


def texts_of_shape(numbers: npt.NDArray[np.int64], shape: bytes) -> pa.Array:
    """The texts that `shaped_numbers` reads as these numbers, as an Arrow large_string array.

    Examples
    --------
    >>> texts_of_shape(np.array([412, 7]), b"K" + 4 * bytes([DIGIT])).to_pylist()
    ['K0412', 'K0007']
    """
    rows, length = len(numbers), len(shape)
    cells = np.empty((rows, length), np.uint8)
    places = [place for place in range(length) if shape[place] == DIGIT]
    short = np.dtype(np.uint32 if len(places) <= SHORT_DIGITS else np.int64)  # dividing short numbers is cheaper
    for at in range(0, rows, BLOCK):
        block, rest = cells[at : at + BLOCK], numbers[at : at + BLOCK].astype(short)
        block[:] = np.frombuffer(shape, np.uint8)
        for place in reversed(places):
            tens = rest // 10
            block[:, place] = rest - tens * 10 + ord("0")
            rest = tens
    starts = np.arange(rows + 1, dtype=np.int64) * length
    return pa.Array.from_buffers(pa.large_string(), rows, [None, pa.py_buffer(starts), pa.py_buffer(cells)])


def paired_shaped_numbers(
    first: pa.Array, second: pa.Array
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]] | None:
    """Numbers of two arrays of texts that are equal just where the texts are; None where that cannot be had."""
    one, two = shaped_numbers(first), shaped_numbers(second)
    if one is None or two is None:
        return None
    if one[1] == two[1]:
        return one[0], two[0]
    shape = merged_shape(one[1], two[1])
    if shape is None:
        return None
    return reshaped(one[0], one[1], shape), reshaped(two[0], two[1], shape)


def merged_shape(first: bytes, second: bytes) -> bytes | None:
    """The shape of both, a digit that is fixed in one of them being a digit; None where they do not fit."""
    if len(first) != len(second):
        return None
    shape = bytearray(first)
    for place, (one, two) in enumerate(zip(first, second, strict=True)):
        if one != two:
            if not all(sign == DIGIT or sign in b"0123456789" for sign in (one, two)):
                return None
            shape[place] = DIGIT
    return bytes(shape) if shape.count(DIGIT) <= MOST_DIGITS else None


def reshaped(numbers: npt.NDArray[np.int64], old: bytes, new: bytes) -> npt.NDArray[np.int64]:
    """Numbers read by one shape, as the wider shape reads them."""
    result = np.zeros(len(numbers), np.int64)
    rest = numbers.copy()
    power = 1
    for one, two in zip(reversed(old), reversed(new), strict=True):
        if two != DIGIT:
            continue
        if one == DIGIT:
            rest, digit = np.divmod(rest, 10)
            result += digit * power
        else:
            result += (one - ord("0")) * power
        power *= 10
    return result
