"""Which rows of two deliveries are the same, by key."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import Counts, first_rows
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import key_texts, paired_keys
from lomrix.core.table.notes import counted
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]
MOST_EXAMPLES = 4


@dataclass(frozen=True)
class Paired:
    """Rows of both sides.

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
    gone: Rows
    come: Rows
    old_without: int
    new_without: int

    @property
    def turns(self) -> int:
        """How often the order of the new file goes back behind that of the old one."""
        return int(np.count_nonzero(self.new[1:] < self.new[:-1]))


def paired(old: Table, new: Table, key: tuple[str, ...]) -> Paired:
    """Pair the rows.

    Raises
    ------
    DataError
        Where a key stands in several rows of one side.
    """
    codes = paired_keys(old, new, tuple((name, name) for name in key))
    counts = Counts.of(codes.base, codes.added, codes.size)
    for table, own, number in ((old, codes.base, counts.base), (new, codes.added, counts.added)):
        require_unique(table, key, np.flatnonzero(np.append(number > 1, False)[own]))
    partner = np.append(first_rows(codes.added, codes.size), -1)[codes.base]
    both = np.flatnonzero(partner >= 0)
    gone = np.flatnonzero((codes.base >= 0) & (partner < 0))
    come = np.flatnonzero((codes.added >= 0) & ~counts.shared_by_base(codes.added))
    without = (int(np.count_nonzero(side < 0)) for side in (codes.base, codes.added))
    return Paired(both, partner[both], gone, come, *without)


def require_unique(table: Table, key: tuple[str, ...], rows: Rows) -> None:
    """Stop where a key stands in several rows."""
    if not len(rows):
        return
    texts = key_texts(table, key, rows[:MOST_EXAMPLES])
    numbers = (rows[:MOST_EXAMPLES] + table.first_row).tolist()
    shown = ", ".join(f"row {row}: {text}" for row, text in zip(numbers, texts, strict=True))
    raise DataError(
        f"{counted(len(rows), 'row', 'rows')} of {table.name} repeat their key, so it is not clear what to hold "
        "against what.",
        where=shown + (" …" if len(rows) > MOST_EXAMPLES else ""),
        todo="Name a further column of ‹key› that tells them apart, such as the occasion.",
    )
