"""Which rows of two deliveries correspond, by key."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import Counts, find_first_rows
from lomrix.core.rows.keys import encode_key_pairs
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]


@dataclass(frozen=True)
class RowPairs:
    """Corresponding rows of both sides.

    Parameters
    ----------
    old, new
        Rows that both have, pair by pair in the order of the old file.
    removed, added
        Rows that only the old file has, and those that only the new one has.
    old_without, new_without
        Rows without a key on each side, which nothing can be held against.
    old_repeated, new_repeated
        Rows of keys that several rows of one side have, which cannot be paired.
    """

    old: Rows
    new: Rows
    removed: Rows
    added: Rows
    old_without: int
    new_without: int
    old_repeated: Rows
    new_repeated: Rows

    @property
    def are_clear(self) -> bool:
        """True if no key repeats on a side."""
        return not len(self.old_repeated) and not len(self.new_repeated)


def pair_rows(old: Table, new: Table, key: tuple[str, ...]) -> RowPairs:
    """Pair the rows."""
    codes = encode_key_pairs(old, new, tuple((name, name) for name in key))
    counts = Counts.count(codes.base, codes.added, codes.size)
    old_repeated, new_repeated = (
        np.flatnonzero(np.append(number > 1, False)[of_rows])
        for of_rows, number in ((codes.base, counts.base), (codes.added, counts.added))
    )
    partner = np.append(find_first_rows(codes.added, codes.size), -1)[codes.base]
    both = np.flatnonzero(partner >= 0)
    removed = np.flatnonzero((codes.base >= 0) & (partner < 0))
    added = np.flatnonzero((codes.added >= 0) & ~counts.shared_by_base(codes.added))
    old_without, new_without = (int(np.count_nonzero(side < 0)) for side in (codes.base, codes.added))
    return RowPairs(both, partner[both], removed, added, old_without, new_without, old_repeated, new_repeated)


def count_turns(rows: Rows) -> int:
    """Count the places where an order of rows goes back."""
    return int(np.count_nonzero(rows[1:] < rows[:-1]))
