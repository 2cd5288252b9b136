"""Values by group, as they come or group after group: adding them up, and a number of each group beside its values."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array


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

    def total_of(self, values: Array) -> Array:
        """Sum per group of numbers that stand as the values do, added one after the other."""
        return np.asarray(np.bincount(self.codes, weights=values, minlength=self.count), dtype=np.float64)

    def beside(self, of_groups: Array) -> Array:
        """A number of each group beside its values."""
        return np.asarray(of_groups[self.codes])


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

    def total_of(self, values: Array) -> Array:
        """Sum per group of numbers that stand as the values do, added one after the other."""
        result = np.zeros(len(self.sizes), values.dtype)
        if len(self._filled):
            result[self._filled] = np.add.reduceat(values, self._starts)
        return result

    def beside(self, of_groups: Array) -> Array:
        """A number of each group beside its values."""
        return np.repeat(of_groups, self.sizes)


Arrangement = AsTheyCome | GroupAfterGroup
