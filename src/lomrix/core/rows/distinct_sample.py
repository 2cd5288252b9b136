"""How often the values of a column repeat, from so many of the distinct ones that memory holds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Mask
from lomrix.core.combining import Combinable
from lomrix.core.rows.partitions import Hashes, hash_cells
from lomrix.core.table.column import Column

# Distinct values that are counted; of more only those with the smallest hashes, which are a sample of them.
MOST_DISTINCT = 1 << 16


@dataclass(frozen=True)
class DistinctSample(Combinable):
    """The distinct values of a column by their hashes, whatever parts it came in."""

    present: int  # cells of the column that are not missing
    hashes: Hashes  # in their order, all below 2 to the `bits`
    counts: npt.NDArray[np.int64]  # cells of each
    is_marked: Mask  # a property of each, such as a space in a text
    bits: int = 64

    @classmethod
    def of(cls, column: Column, is_marked: Mask) -> DistinctSample:
        """Count the values of a column whose string pool holds each string once; the mark is that of each row."""
        rows = np.flatnonzero(~column.is_missing)
        hashes, first, counts = np.unique(hash_cells(column)[rows], return_index=True, return_counts=True)
        return cls(len(rows), hashes, counts, is_marked[rows[first]]).shorten()

    def combine(self, later: DistinctSample) -> DistinctSample:
        """Count the values of both parts."""
        both = [self.below(min(self.bits, later.bits)), later.below(min(self.bits, later.bits))]
        hashes, first, index = np.unique(
            np.concatenate([part.hashes for part in both]), return_index=True, return_inverse=True
        )
        counts = np.bincount(index, np.concatenate([part.counts for part in both]), len(hashes)).astype(np.int64)
        marks = np.concatenate([part.is_marked for part in both])[first]
        return DistinctSample(self.present + later.present, hashes, counts, marks, both[0].bits).shorten()

    def below(self, bits: int) -> DistinctSample:
        """Return those with hashes below 2 to the `bits`."""
        count = int(np.searchsorted(self.hashes, np.uint64(2**bits - 1), side="right"))
        return DistinctSample(self.present, self.hashes[:count], self.counts[:count], self.is_marked[:count], bits)

    def shorten(self) -> DistinctSample:
        """Return the largest sample of few enough values."""
        result = self
        while len(result.hashes) > MOST_DISTINCT:
            result = result.below(result.bits - 1)
        return result

    @property
    def share(self) -> float:
        """Number of distinct values per cell; 0 if there is no cell."""
        return len(self.hashes) / max(int(self.counts.sum()), 1)

    @property
    def marked_share(self) -> float:
        """Share of the distinct values that are marked; 0 if there is none."""
        return int(np.count_nonzero(self.is_marked)) / max(len(self.hashes), 1)

    @property
    def never_repeats(self) -> bool:
        """True if each value is in one cell."""
        return bool((self.counts == 1).all())
