"""For each row, the row of the other side with the same key code and the nearest time."""

from __future__ import annotations

from typing import Literal

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import Codes
from lomrix.core.arrays.types import Array

Side = Literal["either", "before", "after"]
Ties = Literal["before", "after"]
Rows = npt.NDArray[np.int64]


def find_nearest(
    base: Codes, base_times: Array, added: Codes, added_times: Array, within: float,
    side: Side, ties: Ties,
) -> Rows:  # fmt: skip
    """Return the nearest partner of each base row, -1 if none is within reach.

    Parameters
    ----------
    base, added
        Key codes; -1 where a key or a time is missing, which matches nothing.
    base_times, added_times
        Times as numbers, in one unit.
    within
        Largest distance, in that unit, itself allowed.
    side
        Whether the partner may stand `before` the base row, `after` it, or `either`; the same time is both.
    ties
        Which of two partners equally far is taken; of several at one time the first in the file is.

    Returns
    -------
    Row numbers of the added side, one for each base row.
    """
    _, ranks = np.unique(np.concatenate([base_times, added_times]), return_inverse=True)
    span = int(ranks.max(initial=0)) + 1
    present = np.flatnonzero(added >= 0)
    keys = added[present] * span + ranks[len(base) :][present]
    order = np.argsort(keys, kind="stable")
    keys, rows = keys[order], present[order]
    targets = base * span + ranks[: len(base)]
    later = np.searchsorted(keys, targets, side="left")
    # The last one that is not later; of several at that time the first, so find where its time begins.
    last = np.searchsorted(keys, targets, side="right") - 1
    earlier = np.searchsorted(keys, keys[np.maximum(last, 0)], side="left") if len(keys) else last
    earlier = np.where(last >= 0, earlier, -1)
    result = np.full(len(base), -1, np.int64)
    best = np.full(len(base), np.inf)
    choices = {"before": earlier, "after": np.where(later < len(keys), later, -1)}
    sides = [
        side_name for side_name in (ties, "after" if ties == "before" else "before") if side in ("either", side_name)
    ]
    for name in sides:  # the one that wins ties comes first
        position = choices[name]
        partner = rows[position] if len(rows) else np.full(len(base), -1, np.int64)
        same = (position >= 0) & (base >= 0)
        same &= np.append(added, -2)[np.where(same, partner, len(added))] == base
        distance = np.abs(base_times - np.append(added_times, 0)[np.where(same, partner, len(added_times))])
        # Two decimals are as far apart as their texts say: 1.3 less 1.2 is a little over 0.1 in binary.
        rounding = 2 * np.spacing(np.maximum(np.abs(base_times), 1.0) + within)
        better = same & (distance <= within + rounding) & (distance < best)
        result[better], best[better] = partner[better], distance[better]
    return result


def find_nearest_once(
    base: Codes, base_times: Array, added: Codes, added_times: Array, within: float, side: Side, ties: Ties
) -> Rows:  # fmt: skip
    """As `find_nearest`, but each added row is the partner of at most one base row: nearest pairs first.

    References
    ----------
    P. R. Rosenbaum, "Optimal Matching for Observational Studies", Journal of the American Statistical Association 84
    (1989), section 2: greedy matching without replacement.
    """
    partners = np.full(len(base), -1, np.int64)
    base, added = base.copy(), added.copy()
    other_side: Side = {"before": "after", "after": "before", "either": "either"}[side]  # type: ignore[assignment]
    other_ties: Ties = "after" if ties == "before" else "before"
    while True:
        nearest = find_nearest(base, base_times, added, added_times, within, side, ties)
        rows = np.flatnonzero(nearest >= 0)
        if not len(rows):
            return partners
        backwards = find_nearest(added, added_times, base, base_times, within, other_side, other_ties)
        # Of base rows at one time the first stands for all of them, of added rows too. There is always such a pair: of
        # those at the least distance the base row takes the one before (or after), and that one the one after (before).
        mutual = rows[backwards[nearest[rows]] == rows]
        partners[mutual] = nearest[mutual]
        base[mutual] = -1
        added[nearest[mutual]] = -1
