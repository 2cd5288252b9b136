"""Rounding to decimal places, by the decimal text of a number and not by the binary fraction that stands for it."""

from __future__ import annotations

import decimal

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.exact import Computed, multiplied

Numbers = npt.NDArray[np.float64]
Whole = npt.NDArray[np.int64]
# So near to a half the binary fraction is no judge.
NEAR_HALF = 1e-6
# Above this a number has no decimal places.
EXACT = 2.0**53
MOST_DIGITS = 18


def round_decimals(values: Numbers, places: int) -> Numbers:
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

    Examples
    --------
    >>> round_decimals(np.array([2.675, 1.015, 2.25, -0.5]), 2).tolist()
    [2.68, 1.02, 2.25, -0.5]
    >>> round_decimals(np.array([2.5, 3.5]), 0).tolist()
    [2.0, 4.0]
    """
    with np.errstate(all="ignore"):
        scale = 10.0 ** abs(places)
        scaled = values * scale if places >= 0 else values / scale
        result = np.rint(scaled) / scale if places >= 0 else np.rint(scaled) * scale
        large = ~(np.abs(scaled) < EXACT)
        half = ~large & (np.abs(scaled - np.floor(scaled) - 0.5) < NEAR_HALF * np.maximum(1.0, np.abs(scaled)))
    if places >= 0:  # too large to be multiplied, it has no decimal places either
        result[large] = values[large]
    rows = np.flatnonzero(half | (large & np.isfinite(values) & (places < 0)))
    if len(rows):
        distinct, at = np.unique(values[rows], return_inverse=True)
        unit = decimal.Decimal(1).scaleb(-places)
        with decimal.localcontext(prec=400, rounding=decimal.ROUND_HALF_EVEN):
            rounded = [float(decimal.Decimal(repr(value)).quantize(unit)) for value in distinct.tolist()]
        result[rows] = np.array(rounded)[at]
    return result


def round_whole(values: Whole, places: int) -> Computed:
    """Round whole numbers to tens, hundreds and so on, halves to the even neighbour.

    Returns
    -------
    The numbers, and where they are beyond 64 bits; None where none is.

    Examples
    --------
    >>> round_whole(np.array([15, 25, -15, 2**62]), -1)[0].tolist()
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
    tens, rest = values // unit, values % unit
    up = (2 * rest.astype(np.float64) > unit) | ((rest == unit // 2) & (tens % 2 == 1))
    return multiplied(tens + up, np.full_like(values, unit))
