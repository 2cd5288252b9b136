"""Sums per group of values that come in row order or sorted by group."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array

Numbers = npt.NDArray[np.float64]
# Maps values, and a number of each value's group, to the arrays to be summed.
Transform = Callable[[Array, Array], Sequence[Array]]
# Values per block, so that a block and its intermediate arrays stay in the processor's cache.
BLOCK = 1 << 16
# Takes the place of the numbers per group where there are none.
NO_OFFSETS = np.zeros(1)


@dataclass(frozen=True)
class RowOrder:
    """Values in row order; fast while the sums of all groups fit the processor's cache."""

    values: Array  # the values
    codes: npt.NDArray[np.int64]  # group of each, int64 from 0 on
    count: int  # number of groups

    def sum_groups(self, transform: Transform, offsets: Array | None = None) -> list[Numbers]:
        """Sum per group what `transform` makes of the values and of one offset per group (0 if None)."""
        totals: list[Numbers] = []
        # Many groups do not fit the cache anyway, and each block would cost a pass over all of them.
        block = BLOCK if 4 * self.count <= BLOCK else max(len(self.values), 1)
        for start in range(0, max(len(self.values), 1), block):
            codes = self.codes[start : start + block]
            parts = transform(self.values[start : start + block], NO_OFFSETS if offsets is None else offsets[codes])
            sums = [np.asarray(np.bincount(codes, part, self.count), dtype=np.float64) for part in parts]
            totals = [total + added for total, added in zip(totals, sums, strict=True)] if start else sums
        return totals


@dataclass
class GroupOrder:
    """Values sorted by group; fast for any number of groups."""

    values: Array  # the values of the first group, then those of the second, and so on
    sizes: npt.NDArray[np.int64]  # number of values of each group; may be 0

    @cached_property
    def _nonempty(self) -> npt.NDArray[np.int64]:
        return np.flatnonzero(self.sizes)

    @cached_property
    def _starts(self) -> npt.NDArray[np.int64]:
        return (np.cumsum(self.sizes) - self.sizes)[self._nonempty]

    def sum_groups(self, transform: Transform, offsets: Array | None = None) -> list[Numbers]:
        """Sum per group what `transform` makes of the values and of one offset per group (0 if None)."""
        offsets = NO_OFFSETS if offsets is None else np.repeat(offsets, self.sizes)
        return [self._sum_sorted(part) for part in transform(self.values, offsets)]

    def _sum_sorted(self, values: Array) -> Numbers:
        result = np.zeros(len(self.sizes))
        if len(self._nonempty):
            result[self._nonempty] = np.add.reduceat(values, self._starts)
        return result


Arrangement = RowOrder | GroupOrder
