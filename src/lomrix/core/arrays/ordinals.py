"""Values as integers in the same order: counting and sorting these is several times faster."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array

# Values are counted where they reach over at most this many times their number.
ROOMY = 4
SAMPLE = 1024
# Values per block, so that a block stays in the processor's cache.
BLOCK = 1 << 16
WHOLE = np.dtype(np.int64)
POWERS = (1.0, 10.0, 100.0, 1000.0, 10_000.0)


@dataclass(frozen=True)
class Extent:
    """How many values there are and how far they reach: what decides how they are summed.

    `power` is the smallest power of ten by which all of them are integers; None if they have more decimal places.
    """

    count: int
    low: float
    high: float
    power: float | None

    @classmethod
    def measure(cls, values: Array) -> Extent:
        """Measure values, none of them missing."""
        if not len(values):
            return cls(0, 0, 0, POWERS[0])
        low, high = values.min().item(), values.max().item()
        is_decimal = values.dtype.kind == "f"
        powers = (power for power in POWERS if not is_decimal or _scale_to_integers(values, power) is not None)
        return cls(len(values), low, high, next(powers, None))

    def combine(self, later: Extent) -> Extent:
        """Return the extent of both parts."""
        if not self.count or not later.count:
            return self if self.count else later
        is_short = self.power is not None and later.power is not None
        power = max(self.power or 0.0, later.power or 0.0) if is_short else None
        return Extent(self.count + later.count, min(self.low, later.low), max(self.high, later.high), power)


@dataclass(frozen=True)
class Ordinals:
    """A whole number for each value, smaller where the value is."""

    numbers: npt.NDArray[np.int64]  # one for each value, int64, from 0 on
    size: int  # how many numbers there can be
    low: int = 0  # A number and `low` together, over `power`, is the value, in this type
    power: float = 1.0
    dtype: np.dtype[Any] = WHOLE
    distinct: Array | None = None  # the distinct values in ascending order, where the numbers count these

    def decode(self, numbers: npt.NDArray[np.int64]) -> Array:
        """Return the values that such numbers represent."""
        if self.distinct is not None:
            return np.asarray(self.distinct[numbers])
        whole = numbers + self.low
        return whole / self.power if self.dtype.kind == "f" else whole.astype(self.dtype, copy=False)


def encode_ordinals(values: Array) -> Ordinals:
    """Return an integer for each value, as densely numbered as is cheap; none may be missing.

    >>> found = encode_ordinals(np.array([2.5, 1.0, 2.5]))
    >>> found.numbers, found.decode(found.numbers)
    (array([15,  0, 15]), array([2.5, 1. , 2.5]))
    """
    encoding = encode_countable(values)
    if encoding is not None:
        return encoding
    distinct, positions = _sort_distinct(values)
    return Ordinals(positions, len(distinct), distinct=distinct)


@dataclass(frozen=True)
class LazyNumbers:
    """The whole numbers of values as they are needed, in place of an array that is only sliced."""

    values: Array
    low: int
    power: float = 1.0

    def __len__(self) -> int:
        return len(self.values)

    def __getitem__(self, part: slice) -> npt.NDArray[np.int64]:
        values = self.values[part]
        whole = np.rint(values * self.power) if values.dtype.kind == "f" else values
        return np.asarray(whole.astype(np.int64) - self.low)


def encode_countable(values: Array, extent: Extent | None = None, *, is_lazy: bool = False) -> Ordinals | None:
    """Encode without sorting; None if the values are neither integers, times nor short decimals, or range too far.

    `extent` is that of all values, where these are a part of them; only with it can numbers be made as needed.
    """
    if not len(values):
        return None
    if is_lazy and extent is not None:
        power = 1.0 if values.dtype.kind in "iubM" else extent.power
        if power is None or (extent.high - extent.low) * power > ROOMY * extent.count + 1024:
            return None
        if max(-extent.low, extent.high) * power >= 2**53 and values.dtype.kind == "f":
            return None
        low, high = (int(end) if power == 1 else int(np.rint(end * power)) for end in (extent.low, extent.high))
        numbers: Any = LazyNumbers(values, low, power)
        return Ordinals(numbers, high - low + 1, low, power, values.dtype)
    if values.dtype.kind in "iubM":
        numbers = values.astype(np.int64, copy=False)
        low, high = (int(numbers.min()), int(numbers.max())) if extent is None else (int(extent.low), int(extent.high))
        if high - low > ROOMY * (len(values) if extent is None else extent.count) + 1024:
            return None
        return Ordinals(numbers - low, high - low + 1, low, dtype=values.dtype)
    decimals = scale_decimals(values, extent) if values.dtype.kind == "f" else None
    if decimals is None:
        return None
    numbers, power = decimals
    ends = (numbers.min(), numbers.max()) if extent is None else np.rint(np.array([extent.low, extent.high]) * power)
    low = int(ends[0])
    numbers -= low
    return Ordinals(numbers, int(ends[1]) - low + 1, low, power, values.dtype)


def scale_decimals(
    values: npt.NDArray[np.float64], extent: Extent | None = None
) -> tuple[npt.NDArray[np.int64], float] | None:
    """Return numbers with few decimal places as integers, which can be counted without sorting.

    Parameters
    ----------
    values
        Numbers, none missing.
    extent
        That of all values, where these are a part of them.

    Returns
    -------
    Whole numbers, and the power of ten by which they are to be divided to give the very same values; None where
    the values have more decimal places, or reach too far to be counted.

    >>> scale_decimals(np.array([0.25, 3.0]))
    (array([ 25, 300]), 100.0)
    """
    if not len(values):
        return None
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    known = extent or Extent(len(values), float(values.min()), float(values.max()), None)
    for power in POWERS if extent is None else filter(None, [extent.power]):
        low, high = known.low, known.high
        # False also with NaN, or where the values are too large for exact integers.
        if not ((high - low) * power <= ROOMY * known.count + 1024 and max(-low, high) * power < 2**53):
            return None
        if not (np.rint(sample * power) / power == sample).all():
            continue
        whole = _scale_to_integers(values, power)
        if whole is not None:
            return whole, power
    return None


def _scale_to_integers(values: npt.NDArray[np.float64], power: float) -> npt.NDArray[np.int64] | None:
    """Return the values times a power of ten if that is exact for each of them."""
    result = np.empty(len(values), np.int64)
    for start in range(0, len(values), BLOCK):
        block = values[start : start + BLOCK]
        whole = np.rint(block * power)
        if not (whole / power == block).all():
            return None
        result[start : start + BLOCK] = whole
    return result


def _sort_distinct(values: Array) -> tuple[Array, npt.NDArray[np.int64]]:
    """Return the distinct values in ascending order, and the position of each value among them."""
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    if len(values) < SAMPLE or len(np.unique(sample)) > SAMPLE // 2:
        distinct, positions = np.unique(values, return_inverse=True)
        return distinct, positions
    if values.dtype.kind == "f":
        values = values + 0.0  # so that -0.0 is 0.0
    # Where values repeat, hashing them and sorting the few distinct ones is faster.
    encoded = pa.array(values).dictionary_encode()
    distinct = encoded.dictionary.to_numpy(zero_copy_only=False).astype(values.dtype)
    order = np.argsort(distinct, kind="stable")
    position = np.empty(len(order), np.int64)
    position[order] = np.arange(len(order))
    return distinct[order], position[encoded.indices.to_numpy(zero_copy_only=False)]
