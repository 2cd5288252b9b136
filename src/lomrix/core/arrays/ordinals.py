"""Values as whole numbers in the same order: counting and sorting these is several times quicker."""

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
# Values that are looked at together, so that they stay in the processor's cache.
BLOCK = 1 << 16
WHOLE = np.dtype(np.int64)


@dataclass(frozen=True)
class Ordinals:
    """A whole number for each value, smaller where the value is.

    Parameters
    ----------
    numbers
        One for each value, int64, from 0 on.
    size
        How many numbers there can be.
    low, power, dtype
        A number and `low` together, over `power`, is the value, in this type.
    distinct
        The distinct values in ascending order, where the numbers count these.
    """

    numbers: npt.NDArray[np.int64]
    size: int
    low: int = 0
    power: float = 1.0
    dtype: np.dtype[Any] = WHOLE
    distinct: Array | None = None

    def values_of(self, numbers: npt.NDArray[np.int64]) -> Array:
        """The values that such numbers stand for."""
        if self.distinct is not None:
            return np.asarray(self.distinct[numbers])
        whole = numbers + self.low
        return whole / self.power if self.dtype.kind == "f" else whole.astype(self.dtype, copy=False)


def ordinals(values: Array) -> Ordinals:
    """A whole number for each value, as close together as that is had cheaply.

    Parameters
    ----------
    values
        Numbers, dates or booleans, none missing.

    Examples
    --------
    >>> found = ordinals(np.array([2.5, 1.0, 2.5]))
    >>> found.numbers, found.values_of(found.numbers)
    (array([15,  0, 15]), array([2.5, 1. , 2.5]))
    """
    counted = counted_ordinals(values)
    if counted is not None:
        return counted
    distinct, places = _sorted_distinct(values)
    return Ordinals(places, len(distinct), distinct=distinct)


def counted_ordinals(values: Array) -> Ordinals | None:
    """Ordinals that need no sorting; None where the values are not whole, not short decimals, or reach too far."""
    if not len(values):
        return None
    if values.dtype.kind in "iub":
        numbers = values.astype(np.int64, copy=False)
        low, high = int(numbers.min()), int(numbers.max())
        if high - low > ROOMY * len(values) + 1024:
            return None
        return Ordinals(numbers - low, high - low + 1, low, dtype=values.dtype)
    decimals = scaled_decimals(values) if values.dtype.kind == "f" else None
    if decimals is None:
        return None
    numbers, power = decimals
    low = int(numbers.min())
    numbers -= low
    return Ordinals(numbers, int(numbers.max()) + 1, low, power, values.dtype)


def scaled_decimals(values: npt.NDArray[np.float64]) -> tuple[npt.NDArray[np.int64], float] | None:
    """Numbers of few decimal places as whole numbers, which can be counted and need no sorting.

    Parameters
    ----------
    values
        Numbers, none missing.

    Returns
    -------
    Whole numbers, and the power of ten by which they are to be divided to give the very same values; None where
    the values have more decimal places, or reach too far to be counted.

    Examples
    --------
    >>> scaled_decimals(np.array([0.25, 3.0]))
    (array([ 25, 300]), 100.0)
    """
    if not len(values):
        return None
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    for power in (1.0, 10.0, 100.0, 1000.0, 10_000.0):
        if not (np.rint(sample * power) / power == sample).all():
            continue
        low, high = values.min(), values.max()
        # Also where one is no number, or all are so large that no whole number holds them.
        if not ((high - low) * power <= ROOMY * len(values) + 1024 and max(-low, high) * power < 2**53):
            return None
        whole = _all_whole(values, power)
        if whole is not None:
            return whole, power
    return None


def _all_whole(values: npt.NDArray[np.float64], power: float) -> npt.NDArray[np.int64] | None:
    """The values times a power of ten, where each is a whole number over it exactly."""
    found = np.empty(len(values), np.int64)
    for at in range(0, len(values), BLOCK):
        block = values[at : at + BLOCK]
        whole = np.rint(block * power)
        if not (whole / power == block).all():
            return None
        found[at : at + BLOCK] = whole
    return found


def _sorted_distinct(values: Array) -> tuple[Array, npt.NDArray[np.int64]]:
    """The distinct values in ascending order, and for each value its place there."""
    sample = values[:: max(1, len(values) // SAMPLE)][:SAMPLE]
    if len(values) < SAMPLE or len(np.unique(sample)) > SAMPLE // 2:
        distinct, places = np.unique(values, return_inverse=True)
        return distinct, places
    if values.dtype.kind == "f":
        values = values + 0.0  # so that -0.0 is 0.0
    # Where values repeat, hashing them and sorting the few distinct ones is the quicker way.
    encoded = pa.array(values).dictionary_encode()
    distinct = encoded.dictionary.to_numpy(zero_copy_only=False).astype(values.dtype)
    order = np.argsort(distinct, kind="stable")
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    return distinct[order], place[encoded.indices.to_numpy(zero_copy_only=False)]
