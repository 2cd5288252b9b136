"""Values by group, as they come or group after group: adding up what is made of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array

Numbers = npt.NDArray[np.float64]
# Of values, and of a number of each value's group beside it, what is to be added up, one or several of it.
Made = Callable[[Array, Array], Sequence[Array]]
# Values that are worked on together, so that they and what is made of them stay in the processor's cache.
BLOCK = 1 << 16
# What stands beside values where nothing does.
NOTHING = np.zeros(1)


@dataclass(frozen=True)
class AsTheyCome:
    """Values in the order of the rows; quick where the numbers of all groups stay in the processor's cache.

    Parameters
    ----------
    values
        The values.
    codes
        Group of each, int64 from 0 on.
    count
        Number of groups.
    """

    values: Array
    codes: npt.NDArray[np.int64]
    count: int

    def totals_of(self, made: Made, beside: Array | None = None) -> list[Numbers]:
        """Sums per group.

        Parameters
        ----------
        made
            What is added up, of values and what stands beside them.
        beside
            A number of each group; 0 where None.
        """
        totals: list[Numbers] = []
        # Many groups leave the cache in any case, and cost a pass over all of them for each block.
        block = BLOCK if 4 * self.count <= BLOCK else max(len(self.values), 1)
        for at in range(0, max(len(self.values), 1), block):
            codes = self.codes[at : at + block]
            parts = made(self.values[at : at + block], NOTHING if beside is None else beside[codes])
            sums = [np.asarray(np.bincount(codes, part, self.count), dtype=np.float64) for part in parts]
            totals = [total + more for total, more in zip(totals, sums, strict=True)] if at else sums
        return totals


@dataclass
class GroupAfterGroup:
    """Values put together by group; quick for any number of groups.

    Parameters
    ----------
    values
        The values of the first group, then those of the second, and so on.
    sizes
        Number of values of each group; may be 0.
    """

    values: Array
    sizes: npt.NDArray[np.int64]

    @cached_property
    def _filled(self) -> npt.NDArray[np.int64]:
        return np.flatnonzero(self.sizes)

    @cached_property
    def _starts(self) -> npt.NDArray[np.int64]:
        return (np.cumsum(self.sizes) - self.sizes)[self._filled]

    def totals_of(self, made: Made, beside: Array | None = None) -> list[Numbers]:
        """Sums per group of what is made of the values and of a number of each group beside them."""
        beside = NOTHING if beside is None else np.repeat(beside, self.sizes)
        return [self._added_up(part) for part in made(self.values, beside)]

    def _added_up(self, values: Array) -> Numbers:
        result = np.zeros(len(self.sizes))
        if len(self._filled):
            result[self._filled] = np.add.reduceat(values, self._starts)
        return result


Arrangement = AsTheyCome | GroupAfterGroup
