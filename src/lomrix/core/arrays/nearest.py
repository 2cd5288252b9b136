"""Nearest: for each row the row of the other side with the same key code and the nearest time."""

from __future__ import annotations

from typing import Literal

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import Codes
from lomrix.core.arrays.types import Array

Side = Literal["either", "before", "after"]
Ties = Literal["before", "after"]
Rows = npt.NDArray[np.int64]


def nearest_rows(
    base: Codes, base_times: Array, added: Codes, added_times: Array, within: float,
    side: Side, ties: Ties,
) -> Rows:  # fmt: skip
    """The nearest partner of each base row, -1 where none is within reach.

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
    wanted = base * span + ranks[: len(base)]
    later = np.searchsorted(keys, wanted, side="left")
    # The last that is not later; of several at that time the first, so look for where its time begins.
    last = np.searchsorted(keys, wanted, side="right") - 1
    earlier = np.searchsorted(keys, keys[np.maximum(last, 0)], side="left") if len(keys) else last
    earlier = np.where(last >= 0, earlier, -1)
    found = np.full(len(base), -1, np.int64)
    best = np.full(len(base), np.inf)
    choices = {"before": earlier, "after": np.where(later < len(keys), later, -1)}
    asked = [one for one in (ties, "after" if ties == "before" else "before") if side in ("either", one)]
    for name in asked:  # the one that wins ties comes first
        place = choices[name]
        partner = rows[place] if len(rows) else np.full(len(base), -1, np.int64)
        same = (place >= 0) & (base >= 0)
        same &= np.append(added, -2)[np.where(same, partner, len(added))] == base
        distance = np.abs(base_times - np.append(added_times, 0)[np.where(same, partner, len(added_times))])
        # Two decimals are as far apart as their texts say: 1.3 less 1.2 is a little over 0.1 in binary.
        rounding = 2 * np.spacing(np.maximum(np.abs(base_times), 1.0) + within)
        better = same & (distance <= within + rounding) & (distance < best)
        found[better], best[better] = partner[better], distance[better]
    return found


def nearest_once(
    base: Codes, base_times: Array, added: Codes, added_times: Array, within: float, side: Side, ties: Ties
) -> Rows:  # fmt: skip
    """As `nearest_rows`, with each added row the partner of one base row at most: the nearest pairs first.

    Pairs are taken in which each is the nearest that is free to the other, until no free rows are near; so a row whose
    nearest partner went to a nearer one takes the next nearest that is free.

    References
    ----------
    P. R. Rosenbaum, "Optimal Matching for Observational Studies", Journal of the American Statistical Association 84
    (1989), section 2: greedy matching without replacement.
    """
    partners = np.full(len(base), -1, np.int64)
    base, added = base.copy(), added.copy()
    back: Side = {"before": "after", "after": "before", "either": "either"}[side]  # type: ignore[assignment]
    turned: Ties = "after" if ties == "before" else "before"
    while True:
        found = nearest_rows(base, base_times, added, added_times, within, side, ties)
        rows = np.flatnonzero(found >= 0)
        if not len(rows):
            return partners
        backwards = nearest_rows(added, added_times, base, base_times, within, back, turned)
        # Of base rows at one time the first stands for all of them, of added rows too. There is always such a pair: of
        # those at the least distance the base row takes the one before (or after), and that one the one after (before).
        mutual = rows[backwards[found[rows]] == rows]
        partners[mutual] = found[mutual]
        base[mutual] = -1
        added[found[mutual]] = -1
