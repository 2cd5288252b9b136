"""Whole numbers that stay exact: arithmetic that says where 64 bits do not hold the result."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array

Whole = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]
Computed = tuple[Whole, Mask | None]

LOWEST = -(2**63)
HALF = 32
LOWER = (1 << HALF) - 1


def reach(values: Whole) -> int:
    """The largest size of all values."""
    return max(abs(int(values.max(initial=0))), abs(int(values.min(initial=0))))


def joined_halves(upper: Whole, lower: Whole) -> tuple[Whole, Mask]:
    """Sums of whole numbers from those of their upper and lower 32 bits, and where they are beyond 64 bits.

    Neither half overflows for up to 2^31 numbers. Beyond 64 bits the sum is 0.

    Examples
    --------
    >>> values = np.array([2**62, 2**62, -(2**62)])
    >>> joined_halves((values >> HALF).sum(keepdims=True), (values & LOWER).sum(keepdims=True))[0].tolist() == [2**62]
    True
    """
    upper = upper + (lower >> HALF)
    beyond = (upper < -(2**31)) | (upper >= 2**31)
    return np.where(beyond, 0, upper << HALF | lower & LOWER), beyond


def added(one: Whole, two: Whole) -> Computed:
    """Sums, and where they are beyond 64 bits; None where none is.

    References
    ----------
    H. S. Warren, "Hacker's Delight", 2nd edition (2013), section 2-13: a sum overflows where its sign differs from
    those of both operands.
    """
    total = one + two
    if reach(one) + reach(two) < 2**63:
        return total, None
    return total, ((one ^ total) & (two ^ total)) < 0


def subtracted(one: Whole, two: Whole) -> Computed:
    """Differences, and where they are beyond 64 bits."""
    difference = one - two
    if reach(one) + reach(two) < 2**63:
        return difference, None
    return difference, ((one ^ two) & (one ^ difference)) < 0


def multiplied(one: Whole, two: Whole) -> Computed:
    """Products, and where they are beyond 64 bits."""
    product = one * two
    if reach(one) * reach(two) < 2**63:
        return product, None
    divisor = np.where(two == 0, 1, two)
    # The lowest number over -1 wraps in itself, so that it is looked for by name.
    wraps = ((one == LOWEST) & (two == -1)) | ((two == LOWEST) & (one == -1))
    return product, ((two != 0) & (product // divisor != one)) | wraps


def floor_divided(one: Whole, two: Whole) -> Computed:
    """Quotients rounded down; division by zero and what 64 bits do not hold are told."""
    bad = (two == 0) | ((one == LOWEST) & (two == -1))
    return one // np.where(bad, 1, two), bad


def remainder(one: Whole, two: Whole) -> Computed:
    """What floor division leaves, with the sign of the divisor."""
    zero = two == 0
    return one % np.where(zero | (two == -1), 1, two), zero


def power(one: Whole, two: Whole) -> Computed:
    """Powers with exponents of 0 or more, and where they are beyond 64 bits."""
    with np.errstate(over="ignore"):
        size = np.abs(one.astype(np.float64)) ** two.astype(np.float64)
    # So near the limit that the rounded size is no judge there is no power but the first, and the limit's own roots.
    near, is_odd = 2.0**63 * (1 - 2.0**-50), two % 2 == 1
    bad = (size >= near) & (two > 1) & ~((size <= 2.0**63 * (1 + 2.0**-50)) & (one < 0) & is_odd)
    return np.power(np.where(bad, 0, one), two), bad if bad.any() else None


WHOLE_ARITHMETIC: dict[str, Callable[[Whole, Whole], Computed]] = {
    "Add": added,
    "Sub": subtracted,
    "Mult": multiplied,
    "FloorDiv": floor_divided,
    "Mod": remainder,
}


def negated(values: Whole) -> Computed:
    """The numbers with the other sign."""
    lowest = values == LOWEST
    return -values, lowest if lowest.any() else None


def sizes_without_sign(values: Whole) -> Computed:
    """The numbers without their sign."""
    lowest = values == LOWEST
    return np.abs(values), lowest if lowest.any() else None


def either_undefined(*masks: Array | None) -> Mask | None:
    """Where one of several masks is true; None where no mask is given."""
    given = [mask for mask in masks if mask is not None]
    return np.logical_or.reduce(given) if given else None
