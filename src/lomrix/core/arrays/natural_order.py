"""Natural order of many texts at once: runs of digits as numbers, before letters; capitals beside small letters."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.text_bytes import get_buffers

# Marks a number: comes before any printed character. Its digits are counted in the byte after it.
NUMBER = 1
MOST_DIGITS = 255
FIRST_PRINTED = 32
# Texts that are encoded at once, since that takes memory of its own.
TEXTS_AT_ONCE = 1 << 16


def sort_naturally(strings: pa.Array) -> npt.NDArray[np.int64] | None:
    """Return the positions of distinct strings in natural order; None if they have unusual characters."""
    keys = []
    for start in range(0, len(strings), TEXTS_AT_ONCE):
        part = encode(strings[start : start + TEXTS_AT_ONCE])
        if part is None:
            return None
        keys.append(part)
    pair = pa.table({"key": pa.chunked_array(keys, pa.binary()), "text": pa.chunked_array([strings])})
    order = [("key", "ascending"), ("text", "ascending")]
    return np.asarray(pc.sort_indices(pair, sort_keys=order).to_numpy(), dtype=np.int64)


def lower(strings: pa.Array) -> pa.Array | None:
    """Return strings without distinction of capitals; None if digits of other scripts are among them."""
    others = np.flatnonzero(~pc.string_is_ascii(strings).to_numpy(zero_copy_only=False))
    lowered: pa.Array = pc.ascii_lower(strings)
    if not len(others):
        return lowered
    texts = strings.take(pa.array(others)).to_pylist()
    if any(character.isdecimal() and not character.isascii() for text in texts for character in text):
        return None
    positions = np.arange(len(strings))
    positions[others] = len(strings) + np.arange(len(others))
    folded = pa.array([text.casefold() for text in texts], strings.type)
    return pa.concat_arrays([lowered, folded]).take(pa.array(positions))


def encode(strings: pa.Array) -> pa.Array | None:
    """Return bytes for each text whose plain order is the natural one: before the digits of a number, without zeros at
    its beginning, a mark and their count. None if a number has too many, or there are unusual characters.
    """
    lowered = lower(strings)
    if lowered is None:
        return None
    starts, raw = get_buffers(lowered)
    characters, starts = raw[starts[0] : starts[-1]], starts - starts[0]
    if characters.min(initial=FIRST_PRINTED) < FIRST_PRINTED:
        return None
    length = len(characters)
    is_digit = (characters - ord("0")) < 10  # unsigned: others are over 10
    begins = np.zeros(length + 1, np.bool_)
    begins[starts] = True
    is_first = is_digit & (begins[:-1] | ~np.append(False, is_digit[:-1]))
    first = np.flatnonzero(is_first)
    is_last = is_digit & (begins[1:] | ~np.append(is_digit[1:], False))
    after = np.flatnonzero(is_last) + 1
    significant = np.append(np.flatnonzero(is_digit & (characters != ord("0"))), length)
    begin = np.minimum(significant[np.searchsorted(significant, first)], after)
    digits = after - begin
    if len(digits) and digits.max() > MOST_DIGITS:
        return None
    # Zeros at the beginning of a number are dropped.
    dropped = np.zeros(length + 1, np.int64)
    np.add.at(dropped, first, 1)
    np.add.at(dropped, begin, -1)
    is_kept = np.cumsum(dropped[:-1]) == 0
    size = is_kept.astype(np.int64)
    size[first] += 2
    ends = np.append(0, np.cumsum(size))
    result = np.empty(int(ends[-1]), np.uint8)
    result[ends[1:][is_kept] - 1] = characters[is_kept]
    result[ends[first]], result[ends[first] + 1] = NUMBER, digits
    buffers = [None, pa.py_buffer(ends[starts].astype(np.int32)), pa.py_buffer(result)]
    return pa.Array.from_buffers(pa.binary(), len(strings), buffers)
