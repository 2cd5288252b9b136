"""Functions of standing: where a value stands among the others."""

from __future__ import annotations

import itertools

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.statistics import Values
from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import as_float, made
from lomrix.core.language.scope import Grouped, Scope
from lomrix.core.rows.keys import ordered_ranks
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import UNDEFINED

KIND = "standing among all, or in a group"
MOST_GROUPS = 1000
Keys = tuple[Column, ...]


def among(scope: Scope, by: Keys) -> Grouped:
    """The groups in which values stand; one of all rows where none is named."""
    if by:
        return scope.grouped(by)
    return Grouped(np.zeros(len(scope), np.int64), min(1, len(scope)), ())


def beside(x: Column, groups: Grouped, values: npt.NDArray[np.float64]) -> Column:
    """Numbers beside every row, missing where the value or a key is."""
    return made("number", values, [x, *groups.keys], ~np.isfinite(values) & ~x.is_missing & (groups.codes >= 0))


@function(KIND, by_row=False)
def rank(scope: Scope, x: Column, *, by: Keys = ()) -> Column:
    """rank(x, by=…): 1 for the smallest; equal values share the mean of their places

    Examples
    --------
    rank(x) of x 5, 9, 5, — is 1.5, 3.0, 1.5, —
    """
    groups = among(scope, by)
    ranks, size = ordered_ranks(x)
    both, wide = key_codes.combined(groups.codes, groups.count, ranks, max(size, 1))
    places, old = key_codes.dense(both, wide)
    counts = np.bincount(places[places >= 0], minlength=len(old))
    group = old // max(size, 1)
    before = np.cumsum(counts) - counts  # all that are smaller, those of groups before among them
    new = np.flatnonzero(np.append(True, group[1:] != group[:-1])) if len(group) else np.zeros(0, np.int64)
    of_group = np.repeat(before[new], np.diff(np.append(new, len(group))))
    place = before - of_group + (counts + 1) / 2
    return beside(x, groups, np.append(place, np.nan)[places])


@function(KIND, by_row=False)
def quantile_group(scope: Scope, x: Column, groups: int, *, by: Keys = ()) -> Column:
    """quantile_group(x, 4, by=…): 1 to 4, cut at the quartiles; a value on a cut belongs below it

    Examples
    --------
    quantile_group(x, 2) of x 1, 2, 3, 10, — is 1, 1, 2, 2, —
    """
    if not 2 <= groups <= MOST_GROUPS:
        raise UsageError(
            f"quantile_group() makes 2 to {MOST_GROUPS} groups, not {groups}.", todo="Write quantile_group(x, 4)."
        )
    inside = among(scope, by)
    present = np.flatnonzero(~x.is_missing & (inside.codes >= 0))
    values = as_float(x, "quantile_group()")[present]
    found = Values(inside.codes[present], values, inside.count)
    number = np.ones(len(scope), np.int64)
    for part in range(1, groups):
        number[present] += values > found.quantile(part / groups)[found.codes]
    return made("integer", number, [x, *inside.keys])


@function(KIND)
def bands(x: Column, *edges: float) -> Column:
    """bands(x, 20, 30, 40): 1 below the first edge, 2 from it to below the second, and so on, with labels

    Examples
    --------
    bands(x, 20, 30) of x 19, 20, 29.5, 30, — is 1, 2, 2, 3, —
    """
    if not edges or any(one >= other for one, other in itertools.pairwise(edges)):
        raise UsageError("bands() takes edges that rise.", todo="Write bands(x, 20, 30, 40).")
    values = as_float(x, "bands()")
    return made("integer", np.searchsorted(np.array(edges, np.float64), np.nan_to_num(values), side="right") + 1, [x])


def band_labels(edges: list[float]) -> dict[str, str]:
    """What the bands between some edges are called.

    Examples
    --------
    >>> band_labels([20, 30.5])
    {'1': 'below 20', '2': '20 to below 30.5', '3': '30.5 and over'}
    """
    told = [f"{edge:g}" if float(f"{edge:g}") == edge else repr(edge) for edge in edges]
    middle = [f"{low} to below {high}" for low, high in itertools.pairwise(told)]
    labels = [f"below {told[0]}", *middle, f"{told[-1]} and over"]
    return {str(number): label for number, label in enumerate(labels, start=1)}


@function(KIND, by_row=False)
def standardised(scope: Scope, x: Column, *, by: Keys = ()) -> Column:
    """standardised(x, by=…): the distance from the mean in standard deviations

    Examples
    --------
    standardised(x) of x 1, 2, 3 is -1.0, 0.0, 1.0
    """
    groups = among(scope, by)
    mean, spread = scope.statistics(x, groups, ("mean", "sd"))
    with np.errstate(all="ignore"):
        values = (as_float(x, "standardised()") - mean.values) / spread.values
    made_ = made("number", values, [x, *groups.keys])
    return made_.with_missing(~np.isfinite(values), UNDEFINED)
