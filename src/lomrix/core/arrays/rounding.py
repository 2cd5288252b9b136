"""Rounding to decimal places by a number's decimal text, not by its binary fraction."""

from __future__ import annotations

import decimal

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import Computed, multiply

Numbers = npt.NDArray[np.float64]
Whole = npt.NDArray[np.int64]
# This near to a half the binary fraction cannot decide.
NEAR_HALF = 1e-6
# Above this a number has no decimal places.
EXACT = 2.0**53
MOST_DIGITS = 18


def round_decimals(values: Numbers, digits: int) -> Numbers:
    """Round to decimal places, halves to the even neighbour.

    Parameters
    ----------
    values
        Shape (n,); NaN and infinity stay.
    places
        Decimal places; tens, hundreds and so on where negative.

    References
    ----------
    IEEE Std 754-2019, 4.3.1, roundTiesToEven, applied to the shortest decimal text that stands for the number.

    >>> round_decimals(np.array([2.675, 1.015, 2.25, -0.5]), 2).tolist()
    [2.68, 1.02, 2.25, -0.5]
    >>> round_decimals(np.array([2.5, 3.5]), 0).tolist()
    [2.0, 4.0]
    """
    with np.errstate(all="ignore"):
        scale = 10.0 ** abs(digits)
        scaled = values * scale if digits >= 0 else values / scale
        result = np.rint(scaled) / scale if digits >= 0 else np.rint(scaled) * scale
        large = ~(np.abs(scaled) < EXACT)
        half = ~large & (np.abs(scaled - np.floor(scaled) - 0.5) < NEAR_HALF * np.maximum(1.0, np.abs(scaled)))
    if digits >= 0:  # too large to be multiplied, it has no decimal places either
        result[large] = values[large]
    rows = np.flatnonzero(half | (large & np.isfinite(values) & (digits < 0)))
    if len(rows):
        distinct, positions = np.unique(values[rows], return_inverse=True)
        unit = decimal.Decimal(1).scaleb(-digits)
        with decimal.localcontext(prec=400, rounding=decimal.ROUND_HALF_EVEN):
            rounded = [float(decimal.Decimal(repr(value)).quantize(unit)) for value in distinct.tolist()]
        result[rows] = np.array(rounded)[positions]
    return result


def round_integers(values: Whole, places: int) -> Computed:
    """Round integers to tens, hundreds and so on, halves to even; also return where 64 bits overflow.

    >>> round_integers(np.array([15, 25, -15, 2**62]), -1)[0].tolist()
    [20, 20, -20, 4611686018427387900]
    """
    if places >= 0:
        return values, None
    if -places > MOST_DIGITS:
        # Half of what is rounded to is beyond 64 bits, or only just within.
        unit = 10**-places
        is_zero = np.array([abs(int(value)) * 2 <= unit for value in np.unique(values)]).all()
        return np.zeros_like(values), None if is_zero else np.abs(values.astype(object)) * 2 > unit
    unit = 10**-places
    tens, remainder = values // unit, values % unit
    up = (2 * remainder.astype(np.float64) > unit) | ((remainder == unit // 2) & (tens % 2 == 1))
    return multiply(tens + up, np.full_like(values, unit))
