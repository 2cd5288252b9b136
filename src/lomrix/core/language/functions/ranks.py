"""Functions of rank: a value's position among the others."""

from __future__ import annotations

import itertools

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.statistics import Values
from lomrix.core.errors import UsageError
from lomrix.core.language.function import function
from lomrix.core.language.operands import make_result, to_floats
from lomrix.core.language.scope import Grouped, Scope
from lomrix.core.rows.keys import rank_cells
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import UNDEFINED

KIND = "ranks and bands, among all or in a group"
MOST_GROUPS = 1000
Keys = tuple[Column, ...]
Labels = tuple[str, ...]


def find_groups(scope: Scope, by: Keys) -> Grouped:
    """Return the groups in which values are ranked; one of all rows by default."""
    if by:
        return scope.group_by(by)
    return Grouped(np.zeros(len(scope), np.int64), min(1, len(scope)), ())


def to_column(x: Column, groups: Grouped, values: npt.NDArray[np.float64]) -> Column:
    """Return numbers per row, missing where the value or a key is."""
    return make_result("number", values, [x, *groups.keys], ~np.isfinite(values) & ~x.is_missing & (groups.codes >= 0))


@function(KIND, by_row=False)
def rank(scope: Scope, x: Column, *, by: Keys = ()) -> Column:
    """rank(x, by=…): 1 for the minimum; equal values share the mean of their ranks

    Examples
    --------
    rank(x) of x 5, 9, 5, — is 1.5, 3.0, 1.5, —
    """
    groups = find_groups(scope, by)
    ranks, size = rank_cells(x)
    both, size_of_pairs = key_codes.combine_codes(groups.codes, groups.count, ranks, max(size, 1))
    positions, old = key_codes.compact_codes(both, size_of_pairs)
    counts = np.bincount(positions[positions >= 0], minlength=len(old))
    group = old // max(size, 1)
    before = np.cumsum(counts) - counts  # all smaller values, including those of earlier groups
    new = np.flatnonzero(np.append(True, group[1:] != group[:-1])) if len(group) else np.zeros(0, np.int64)
    offset = np.repeat(before[new], np.diff(np.append(new, len(group))))
    result = before - offset + (counts + 1) / 2
    return to_column(x, groups, np.append(result, np.nan)[positions])


@function(KIND, by_row=False)
def quantile_group(scope: Scope, x: Column, groups: int, *, by: Keys = ()) -> Column:
    """quantile_group(x, 4, by=…): 1 to 4, cut at the quartiles; a value on a cut belongs to the group below

    Examples
    --------
    quantile_group(x, 2) of x 1, 2, 3, 10, — is 1, 1, 2, 2, —
    """
    if not 2 <= groups <= MOST_GROUPS:
        raise UsageError(
            f"quantile_group() makes 2 to {MOST_GROUPS} groups, not {groups}.", todo="Write quantile_group(x, 4)."
        )
    inside = find_groups(scope, by)
    present = np.flatnonzero(~x.is_missing & (inside.codes >= 0))
    values = to_floats(x, "quantile_group()")[present]
    statistics = Values(inside.codes[present], values, inside.count)
    number = np.ones(len(scope), np.int64)
    for part in range(1, groups):
        number[present] += values > statistics.quantile(part / groups)[statistics.codes]
    return make_result("integer", number, [x, *inside.keys])


@function(KIND)
def bands(x: Column, *edges: float, labels: Labels = ()) -> Column:
    """bands(x, 20, 30, labels=("low", "mid", "high")): 1 below the first edge, 2 up to the second …; labelled

    Examples
    --------
    bands(x, 20, 30) of x 19, 20, 29.5, 30, — is 1, 2, 2, 3, —
    """
    if not edges or any(edge >= next_edge for edge, next_edge in itertools.pairwise(edges)):
        raise UsageError("bands() needs ascending edges.", todo="Write bands(x, 20, 30, 40).")
    if labels and len(labels) != len(edges) + 1:
        raise UsageError(
            f"bands() with {len(edges)} edges makes {len(edges) + 1} bands, but {len(labels)} labels are given.",
            todo='Name one more than there are edges: bands(x, 20, 30, labels=("low", "mid", "high")).',
        )
    values = to_floats(x, "bands()")
    return make_result(
        "integer", np.searchsorted(np.array(edges, np.float64), np.nan_to_num(values), side="right") + 1, [x]
    )


def make_band_labels(edges: list[float], names: Labels = ()) -> dict[str, str]:
    """Return the labels of bands: their names, or their limits.

    Examples
    --------
    >>> make_band_labels([20, 30.5])
    {'1': 'below 20', '2': '20 to below 30.5', '3': '30.5 and over'}
    """
    texts = [f"{edge:g}" if float(f"{edge:g}") == edge else repr(edge) for edge in edges]
    middle = [f"{low} to below {high}" for low, high in itertools.pairwise(texts)]
    labels = names or [f"below {texts[0]}", *middle, f"{texts[-1]} and over"]
    return {str(number): label for number, label in enumerate(labels, start=1)}


@function(KIND, by_row=False)
def standardised(scope: Scope, x: Column, *, by: Keys = ()) -> Column:
    """standardised(x, by=…): the distance from the mean in standard deviations

    Examples
    --------
    standardised(x) of x 1, 2, 3 is -1.0, 0.0, 1.0
    """
    groups = find_groups(scope, by)
    mean, spread = scope.compute_statistics(x, groups, ("mean", "sd"))
    with np.errstate(all="ignore"):
        values = (to_floats(x, "standardised()") - mean.values) / spread.values
    result = make_result("number", values, [x, *groups.keys])
    return result.with_missing(~np.isfinite(values), UNDEFINED)
