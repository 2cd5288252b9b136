"""Spells, stretches of time with a start and an end: which cover a time, which overlap, and the gaps between."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import LARGEST, Codes, order_codes
from lomrix.core.arrays.types import Array

Rows = npt.NDArray[np.int64]
# Times that are looked up at once.
BLOCK = 1 << 16


@dataclass
class SortedSpells:
    """Spells case by case, in order of their starts.

    Parameters
    ----------
    codes
        Case of each spell, -1 for one that covers nothing.
    starts, ends
        Integers of one unit, or numbers; both ends are included.
    times
        Other times of the same unit, which may be looked up.
    """

    codes: Codes
    size: int  # how many codes there can be
    starts: Array
    ends: Array
    times: Array

    @cached_property
    def _ordinals(self) -> tuple[Rows, Rows, Rows, int]:
        """Starts, ends and times as integers from 0 in the same order, and how many there can be."""
        arrays = (self.starts, self.ends, self.times)
        filled = [array for array in arrays if len(array)]
        if not filled:
            return self.codes, self.codes, np.zeros(0, np.int64), 1
        low, high = min(array.min() for array in filled), max(array.max() for array in filled)
        if all(array.dtype.kind == "i" for array in filled) and (int(high) - int(low) + 1) * self.size < LARGEST:
            starts, ends, times = (array.astype(np.int64) - int(low) for array in arrays)
            return starts, ends, times, int(high) - int(low) + 1
        distinct, ranks = np.unique(np.concatenate(arrays), return_inverse=True)
        starts, ends, times = np.split(ranks, np.cumsum([len(self.starts), len(self.ends)]))
        return starts, ends, times, len(distinct)

    @cached_property
    def order(self) -> Rows:
        """The usable spells, case by case in order of start; of equal ones in the order of the file."""
        usable = np.flatnonzero(self.codes >= 0)
        starts, _, _, span = self._ordinals
        return usable[order_codes(self.codes[usable] * span + starts[usable], self.size * span)]

    @cached_property
    def _keys(self) -> tuple[Rows, Rows, Rows]:
        """In order: case and start, case and end, and the latest end of the case so far, each as one integer."""
        starts, ends, _, span = self._ordinals
        first = self.codes[self.order] * span
        end_keys = first + ends[self.order]
        return first + starts[self.order], end_keys, np.maximum.accumulate(end_keys) if len(first) else end_keys

    @cached_property
    def overlaps(self) -> tuple[Rows, Rows]:
        """Spells that start before one of the same case has ended, and the one that ends last of those before."""
        start_keys, _, reach = self._keys
        late = np.flatnonzero(start_keys[1:] <= reach[:-1]) + 1
        # The spell that reaches furthest is the last at which the reach rose.
        rises = np.flatnonzero(np.append(True, reach[1:] > reach[:-1])[: len(reach)])
        furthest = rises[np.searchsorted(rises, late - 1, side="right") - 1] if len(late) else late
        return self.order[late], self.order[furthest]

    def find_gaps(self, unit: int) -> tuple[Rows, Rows]:
        """Return spells that start over `unit` after all before them in their case ended, and the last of those."""
        order = self.order
        if not len(order):
            return order, order
        is_same = self.codes[order][1:] == self.codes[order][:-1]
        start_keys, _, reach = self._keys
        rises = np.flatnonzero(np.append(True, reach[1:] > reach[:-1]))
        after = np.flatnonzero(is_same & (start_keys[1:] > reach[:-1])) + 1
        furthest = order[rises[np.searchsorted(rises, after - 1, side="right") - 1]]
        is_gap = self.starts[order[after]] - self.ends[furthest] > unit
        return order[after[is_gap]], furthest[is_gap]

    def _find_last_started(self, base: Codes, times: Rows, span: int) -> tuple[Rows, Rows]:
        """Return for each time its key, and the position of the last spell of its case that has started.

        Searching among the spells of one case takes fewer steps than among all; block by block, so that all but the
        spells stays in the processor's cache. Where no spell has started, the position is that of another case, or -1.
        """
        counts = np.bincount(self.codes[self.order], minlength=self.size)
        bounds = np.concatenate([[0], np.cumsum(counts), [0]])  # the last for a time of no case
        keys = np.append(self._keys[0], np.iinfo(np.int64).max)
        targets, positions = np.empty(len(base), np.int64), np.empty(len(base), np.int64)
        rounds = int(counts.max(initial=0)).bit_length()
        for start in range(0, len(base), BLOCK):
            block = slice(start, start + BLOCK)
            code = base[block]
            target = np.where(code < 0, -1, code * span + times[block])
            low = bounds[code]
            high = np.where(code < 0, 0, bounds[code + 1])
            for _ in range(rounds):
                middle = (low + high) >> 1
                has_started = (keys[middle] <= target) & (low < high)
                high = np.where(has_started, high, middle)
                low = np.where(has_started, middle + 1, low)
            targets[block], positions[block] = target, low - 1
        return targets, positions

    def find_covering(self, base: Codes) -> tuple[Rows, Rows]:
        """Return the pairs of a time and a spell of the same case that covers it, time by time.

        Parameters
        ----------
        base
            Case of each of the times, -1 for one that no spell covers.
        """
        _, _, times, span = self._ordinals
        _, end_keys, reach = self._keys
        targets, positions = self._find_last_started(base, times, span)
        # A spell of another case has a smaller key, so it does not reach.
        rows = np.flatnonzero((np.append(reach, -1)[positions] >= targets) & (targets >= 0))
        positions, found = positions[rows], []
        if not len(self.overlaps[0]):
            return rows, self.order[positions]
        # Walk back from the last spell that has started, as long as an earlier one may still last.
        while len(rows):
            covers = end_keys[positions] >= targets[rows]
            found.append((rows[covers], positions[covers]))
            positions = positions - 1
            goes_on = np.append(reach, -1)[positions] >= targets[rows]
            rows, positions = rows[goes_on], positions[goes_on]
        pair_rows, pair_positions = (np.concatenate([pair[side] for pair in found] or [rows]) for side in (0, 1))
        order = np.lexsort((pair_positions, pair_rows))
        return pair_rows[order], self.order[pair_positions[order]]
