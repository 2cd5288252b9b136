"""Statistics of groups, over arrays of group codes.

Every function takes group codes (0 … count-1, one per value), the values (no missing ones among them) and the
number of groups, and returns one number per group; NaN where a group has too few values for the statistic.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import ranks

Codes = npt.NDArray[np.int64]
Numbers = npt.NDArray[np.float64]
SAMPLE = 4096


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
    rank, distinct = ranks(values, np.zeros(len(values), np.bool_))
    if len(distinct) * count <= 4 * len(values) + 1024:
        return _median_by_counting(codes, rank, distinct, number)
    # Sorting one number made of group and rank puts every group's values in order.
    width = len(distinct)
    ordered = np.sort(codes * width + rank)
    start = (np.cumsum(number) - number)[filled]
    low = distinct[ordered[start + (number[filled] - 1) // 2] % width].astype(np.float64)
    high = distinct[ordered[start + number[filled] // 2] % width].astype(np.float64)
    result[filled] = low + (high - low) / 2
    return result


def order_statistic(values: npt.NDArray[Any], place: int) -> Any:
    """The value that would stand at a place (counted from 0) if the values were sorted.

    A sample says between which two values it must lie; only what lies between is put in order, and where the
    sample was wrong everything is.

    References
    ----------
    R. W. Floyd and R. L. Rivest, "Expected time bounds for selection", Communications of the ACM 18 (1975),
    165-172.
    """
    if len(values) > 50 * SAMPLE:
        sample = np.sort(values[:: len(values) // SAMPLE])
        at = place / len(values) * len(sample)
        low = sample[max(int(at - 0.02 * len(sample)), 0)]
        high = sample[min(int(at + 0.02 * len(sample)) + 1, len(sample) - 1)]
        below = int(np.count_nonzero(values < low))
        between = values[(values >= low) & (values <= high)]
        if below <= place < below + len(between):
            return np.partition(between, place - below)[place - below]
    return np.partition(values, place)[place]


def quantiles(values: npt.NDArray[Any], shares: tuple[float, ...]) -> tuple[float, ...]:
    """Quantiles of values (at least one, none missing), between two neighbours by their distance.

    References
    ----------
    Definition 7 of R. J. Hyndman and Y. Fan, "Sample quantiles in statistical packages", The American
    Statistician 50 (1996), 361-365.
    """
    places = [(len(values) - 1) * share for share in shares]
    wanted = sorted({place for at in places for place in (int(at), min(int(at) + 1, len(values) - 1))})
    low = int(values.min()) if values.dtype.kind == "i" else 0
    if values.dtype.kind == "i" and int(values.max()) - low < len(values) + 1024:
        reached = np.cumsum(np.bincount(values - low))  # counting takes no sorting
        found = np.searchsorted(reached, np.array(wanted), side="right") + low
    else:
        found = np.array([order_statistic(values, place) for place in wanted])
    value = dict(zip(wanted, found.astype(np.float64).tolist(), strict=True))
    return tuple(
        value[int(at)] + (at - int(at)) * (value[min(int(at) + 1, len(values) - 1)] - value[int(at)]) for at in places
    )


def _median_by_counting(codes: Codes, rank: Codes, distinct: npt.NDArray[Any], number: Codes) -> Numbers:
    """Medians from how often each distinct value stands in each group: nothing is sorted."""
    count, width = len(number), len(distinct)
    counts = np.bincount(codes * width + rank, minlength=count * width).reshape(count, width)
    reached = np.cumsum(counts, axis=1)
    low = (reached > ((number - 1) // 2)[:, None]).argmax(axis=1)
    high = (reached > (number // 2)[:, None]).argmax(axis=1)
    lower, upper = distinct[low].astype(np.float64), distinct[high].astype(np.float64)
    return np.where(number > 0, lower + (upper - lower) / 2, np.nan)


STATISTICS: dict[str, Callable[[Codes, npt.NDArray[Any], int], Numbers]] = {
    "mean": mean,
    "sd": standard_deviation,
    "median": median,
    "min": smallest,
    "max": largest,
    "sum": total,
}
