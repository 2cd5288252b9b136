"""Which rows of two deliveries correspond, by key."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import Counts, find_first_rows
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import encode_key_pairs, format_keys
from lomrix.core.table.notes import pluralize
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
MOST_EXAMPLES = 4


@dataclass(frozen=True)
class RowPairs:
    """Corresponding rows of both sides.

    Parameters
    ----------
    old, new
        Rows that both have, pair by pair in the order of the old file.
    gone, come
        Rows that only the old file has, and those that only the new one has.
    old_without, new_without
        Rows without a key on each side, which nothing can be held against.
    """

    old: Rows
    new: Rows
    removed: Rows
    added: Rows
    old_without: int
    new_without: int

    @property
    def turns(self) -> int:
        """Number of places where the new file's order goes back behind that of the old one."""
        return int(np.count_nonzero(self.new[1:] < self.new[:-1]))


def pair_rows(old: Table, new: Table, key: tuple[str, ...]) -> RowPairs:
    """Pair the rows.

    Raises DataError if a key occurs in several rows of one side.
    """
    codes = encode_key_pairs(old, new, tuple((name, name) for name in key))
    counts = Counts.count(codes.base, codes.added, codes.size)
    for table, own_codes, number in ((old, codes.base, counts.base), (new, codes.added, counts.added)):
        require_unique(table, key, np.flatnonzero(np.append(number > 1, False)[own_codes]))
    partner = np.append(find_first_rows(codes.added, codes.size), -1)[codes.base]
    both = np.flatnonzero(partner >= 0)
    removed = np.flatnonzero((codes.base >= 0) & (partner < 0))
    added = np.flatnonzero((codes.added >= 0) & ~counts.shared_by_base(codes.added))
    without = (int(np.count_nonzero(side < 0)) for side in (codes.base, codes.added))
    return RowPairs(both, partner[both], removed, added, *without)


def require_unique(table: Table, key: tuple[str, ...], rows: Rows) -> None:
    """Stop if a key occurs in several rows."""
    if not len(rows):
        return
    texts = format_keys(table, key, rows[:MOST_EXAMPLES])
    numbers = (rows[:MOST_EXAMPLES] + table.first_row).tolist()
    shown = ", ".join(f"row {row}: {text}" for row, text in zip(numbers, texts, strict=True))
    raise DataError(
        f"{pluralize(len(rows), 'row')} of {table.name} repeat their key, so rows cannot be paired.",
        where=shown + (" …" if len(rows) > MOST_EXAMPLES else ""),
        todo="Name a further column of ‹key› that distinguishes them, such as the occasion.",
    )
