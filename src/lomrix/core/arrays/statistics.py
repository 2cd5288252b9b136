"""Statistics of groups, over arrays of group codes.

Every function takes group codes (0 … count-1, one per value), the values (no missing ones among them) and the
number of groups, and returns one number per group; NaN where a group has too few values for the statistic.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

Codes = npt.NDArray[np.int64]
Numbers = npt.NDArray[np.float64]


def sizes(codes: Codes, count: int) -> npt.NDArray[np.int64]:
    """Number of values per group."""
    return np.bincount(codes, minlength=count)


def total(codes: Codes, values: npt.NDArray[Any], count: int) -> Numbers:
    """Sum per group; 0 for a group without values."""
    return np.asarray(np.bincount(codes, weights=values, minlength=count), dtype=np.float64)


def mean(codes: Codes, values: npt.NDArray[Any], count: int) -> Numbers:
    """Arithmetic mean per group."""
    with np.errstate(invalid="ignore"):
        return np.asarray(total(codes, values, count) / sizes(codes, count), dtype=np.float64)


def standard_deviation(codes: Codes, values: npt.NDArray[Any], count: int) -> Numbers:
    """Sample standard deviation per group, with n - 1 below; needs two values.

    References
    ----------
    The two-pass formula of T. F. Chan, G. H. Golub and R. J. LeVeque, "Algorithms for computing the sample
    variance", The American Statistician 37 (1983), 242-247, with their correction for rounding (formula 1.7).
    """
    deviations = values - mean(codes, values, count)[codes]
    number = sizes(codes, count)
    squares = total(codes, deviations * deviations, count)
    with np.errstate(invalid="ignore", divide="ignore"):
        squares = squares - total(codes, deviations, count) ** 2 / number
        result = np.sqrt(np.maximum(squares, 0) / (number - 1))
    return np.where(number > 1, result, np.nan)


def smallest(codes: Codes, values: npt.NDArray[Any], count: int) -> Numbers:
    """Minimum per group."""
    result = np.full(count, np.inf)
    np.minimum.at(result, codes, values.astype(np.float64, copy=False))
    return np.where(np.isinf(result) & (sizes(codes, count) == 0), np.nan, result)


def largest(codes: Codes, values: npt.NDArray[Any], count: int) -> Numbers:
    """Maximum per group."""
    result = np.full(count, -np.inf)
    np.maximum.at(result, codes, values.astype(np.float64, copy=False))
    return np.where(np.isinf(result) & (sizes(codes, count) == 0), np.nan, result)


def median(codes: Codes, values: npt.NDArray[Any], count: int) -> Numbers:
    """Median per group: the middle value, or the mean of the two middle ones."""
    number = sizes(codes, count)
    result = np.full(count, np.nan)
    filled = np.flatnonzero(number)
    if not len(filled):
        return result
    by_value = np.argsort(values, kind="quicksort")
    groups = codes[by_value]
    # Small codes are sorted by their bytes, which is several times faster.
    groups = groups.astype(np.uint16) if count <= 2**16 else groups
    ordered = values[by_value[np.argsort(groups, kind="stable")]]
    start = (np.cumsum(number) - number)[filled]
    low = ordered[start + (number[filled] - 1) // 2].astype(np.float64)
    high = ordered[start + number[filled] // 2].astype(np.float64)
    result[filled] = low + (high - low) / 2
    return result


STATISTICS: dict[str, Callable[[Codes, npt.NDArray[Any], int], Numbers]] = {
    "mean": mean,
    "sd": standard_deviation,
    "median": median,
    "min": smallest,
    "max": largest,
    "sum": total,
}
