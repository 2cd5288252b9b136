"""Exact integer arithmetic that reports where 64 bits do not hold the result."""

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


def max_size(values: Whole) -> int:
    """Return the largest absolute value."""
    return max(abs(int(values.max(initial=0))), abs(int(values.min(initial=0))))


def join_halves(upper: Whole, lower: Whole) -> tuple[Whole, Mask]:
    """Join sums of the upper and lower 32 bits of integers; return the sums and where they overflow 64 bits.

    >>> values = np.array([2**62, 2**62, -(2**62)])
    >>> join_halves((values >> HALF).sum(keepdims=True), (values & LOWER).sum(keepdims=True))[0].tolist() == [2**62]
    True
    """
    upper = upper + (lower >> HALF)
    overflow = (upper < -(2**31)) | (upper >= 2**31)
    return np.where(overflow, 0, upper << HALF | lower & LOWER), overflow


def add(first: Whole, second: Whole) -> Computed:
    """Sums, and where they are beyond 64 bits; None where none is.

    References
    ----------
    H. S. Warren, "Hacker's Delight", 2nd edition (2013), section 2-13: a sum overflows where its sign differs from
    those of both operands.
    """
    total = first + second
    if max_size(first) + max_size(second) < 2**63:
        return total, None
    return total, ((first ^ total) & (second ^ total)) < 0


def subtract(first: Whole, second: Whole) -> Computed:
    """Subtract; return the differences and where they overflow 64 bits (None if nowhere)."""
    difference = first - second
    if max_size(first) + max_size(second) < 2**63:
        return difference, None
    return difference, ((first ^ second) & (first ^ difference)) < 0


def multiply(first: Whole, second: Whole) -> Computed:
    """Multiply; return the products and where they overflow 64 bits (None if nowhere)."""
    product = first * second
    if max_size(first) * max_size(second) < 2**63:
        return product, None
    divisor = np.where(second == 0, 1, second)
    # Dividing the lowest number by -1 wraps to itself, so test for it explicitly.
    wraps = ((first == LOWEST) & (second == -1)) | ((second == LOWEST) & (first == -1))
    return product, ((second != 0) & (product // divisor != first)) | wraps


def floor_divide(first: Whole, second: Whole) -> Computed:
    """Divide and round down; return the quotients and where they are undefined or overflow."""
    bad = (second == 0) | ((first == LOWEST) & (second == -1))
    return first // np.where(bad, 1, second), bad


def remainder(first: Whole, second: Whole) -> Computed:
    """Return the remainder of floor division, with the sign of the divisor."""
    zero = second == 0
    return first % np.where(zero | (second == -1), 1, second), zero


def power(first: Whole, second: Whole) -> Computed:
    """Raise to exponents of 0 or more; return the powers and where they overflow 64 bits."""
    with np.errstate(over="ignore"):
        size = np.abs(first.astype(np.float64)) ** second.astype(np.float64)
    # Near the limit the rounded size cannot decide, but the only powers there are first powers and roots of the limit.
    near, is_odd = 2.0**63 * (1 - 2.0**-50), second % 2 == 1
    bad = (size >= near) & (second > 1) & ~((size <= 2.0**63 * (1 + 2.0**-50)) & (first < 0) & is_odd)
    return np.power(np.where(bad, 0, first), second), bad if bad.any() else None


WHOLE_ARITHMETIC: dict[str, Callable[[Whole, Whole], Computed]] = {
    "Add": add,
    "Sub": subtract,
    "Mult": multiply,
    "FloorDiv": floor_divide,
    "Mod": remainder,
}


def negate(values: Whole) -> Computed:
    """Change the sign."""
    lowest = values == LOWEST
    return -values, lowest if lowest.any() else None


def absolute(values: Whole) -> Computed:
    """Return absolute values."""
    lowest = values == LOWEST
    return np.abs(values), lowest if lowest.any() else None


def any_mask(*masks: Array | None) -> Mask | None:
    """Return where at least one of several masks is true; None if no mask is given."""
    given = [mask for mask in masks if mask is not None]
    return np.logical_or.reduce(given) if given else None
