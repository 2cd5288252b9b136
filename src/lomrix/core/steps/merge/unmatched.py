"""All unmatched keys of a merge, which add up over parts, and their likely partners, which only the whole shows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from lomrix.core.combining import Combinable
from lomrix.core.steps.merge.likely_partners import NearMiss
from lomrix.core.steps.merge.origin import UNMATCHED_HEADS
from lomrix.core.steps.merge.sides import Sides
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_table


@dataclass(frozen=True)
class UnmatchedKeys(Combinable):
    """Unmatched keys: side (0: base, 1: added), key, number of rows, and first row of each; and what is known of both
    sides.
    """

    keys: Table
    sides: Sides

    def combine(self, later: UnmatchedKeys) -> UnmatchedKeys:
        """Add the keys of a later part."""
        return UnmatchedKeys(concatenate_tables([self.keys, later.keys]), self.sides.combine(later.sides))

    def make_table(self, near: Mapping[str, NearMiss]) -> Table:
        """Return them in the order of their rows, first those of the base, with their likely partners."""
        by_partner = {miss.partner: miss for miss in near.values()}
        files = self.sides.base.table, self.sides.added.table
        order = np.lexsort((self.keys["first_row"].values, self.keys["side"].values))
        rows: list[tuple[str, ...]] = []
        for side, key, count, first in zip(*(column.take(order).cells() for column in self.keys.columns.values()),
                                           strict=True):  # fmt: skip
            miss = by_partner.get(key) if side else near.get(key)
            partner = "" if miss is None else miss.key if side else miss.partner
            miss_cells = ("", "", "") if miss is None else (partner, miss.differs_by, str(miss.score))
            rows.append((files[side], key, str(count), str(first), *miss_cells))
        return make_text_table(UNMATCHED_HEADS, rows, "unmatched")
