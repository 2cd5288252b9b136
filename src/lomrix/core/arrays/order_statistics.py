"""Order statistics and quantiles of values, in memory or in blocks that are gone through several times."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from lomrix.core.arrays.types import Array

# Gives the values again whenever it is called, some at a time.
Blocks = Callable[[], Iterable[Array]]
Scale = Callable[[Array], Array]
# Values that are drawn from blocks, and the share of all values by which a position among them may be off: more than
# four standard deviations.
DRAWN, WIDTH = 1 << 16, 0.0075
# Up to so many values are sorted.
FEW = 1 << 17


def find_quantiles(blocks: Blocks, count: int, shares: Sequence[float], *scales: Scale) -> list[tuple[float, ...]]:
    """Quantiles of `count` values (at least one, none missing) on scales that keep their order, between two neighbours
    by their distance.

    References
    ----------
    Definition 7 of R. J. Hyndman and Y. Fan, "Sample quantiles in statistical packages", The American
    Statistician 50 (1996), 361-365.
    """
    exact = [(count - 1) * share for share in shares]
    needed = sorted({position for at in exact for position in (int(at), min(int(at) + 1, count - 1))})
    found = find_order_statistics(blocks, count, needed)
    result = []
    for scale in scales:
        value = dict(zip(needed, scale(found).astype(np.float64).tolist(), strict=True))
        neighbours = [(at - int(at), value[int(at)], value[min(int(at) + 1, count - 1)]) for at in exact]
        result.append(tuple(float(lower + part * (upper - lower)) for part, lower, upper in neighbours))
    return result


def find_order_statistics(blocks: Blocks, count: int, positions: Sequence[int]) -> Array:
    """Return the values at some ascending positions (from 0) of `count` sorted values, none missing.

    A random sample shows between which two values each position is; a pass over the blocks keeps only those between.

    References
    ----------
    After R. W. Floyd and R. L. Rivest, "Expected time bounds for selection", Communications of the ACM 18 (1975),
    165-172.
    """
    if count <= FEW:
        return np.sort(np.concatenate(list(blocks())))[list(positions)]
    random, found, width = np.random.default_rng(1), dict[int, Any](), WIDTH
    filled = (block for block in blocks() if len(block))
    drawn = [block[random.integers(0, len(block), DRAWN * len(block) // count + 1)] for block in filled]
    sample = np.sort(np.concatenate(drawn))
    while wanted := [position for position in positions if position not in found]:
        groups = [some.tolist() for some in np.split(wanted, np.flatnonzero(np.diff(wanted) > 1) + 1)]
        brackets = [Bracket.around(sample, group[0] / count - width, group[-1] / count + width) for group in groups]
        for block in blocks():
            for bracket in brackets:
                bracket.add(block)
        for group, bracket in zip(groups, brackets, strict=True):
            found |= {position: value for position in group if (value := bracket.get(position)) is not None}
        width *= 4
    return np.array([found[position] for position in positions])


@dataclass
class Bracket:
    """Two values, and how many others are below, at and between them; None for one that nothing is beyond."""

    low: Any
    high: Any
    below: int = 0
    at_low: int = 0
    at_high: int = 0
    between: list[Array] = field(default_factory=list)

    @classmethod
    def around(cls, sample: Array, first: float, last: float) -> Bracket:
        """Return the values at two shares of a sorted sample."""
        low, high = int(first * len(sample)), int(last * len(sample)) + 1
        return cls(sample[low] if low > 0 else None, sample[high] if high < len(sample) else None)

    def add(self, values: Array) -> None:
        """Count values, and keep those between."""
        inside = np.ones(len(values), np.bool_)
        if self.low is not None:
            inside = values > self.low
            at_low = int(np.count_nonzero(values == self.low))
            self.at_low += at_low
            self.below += len(values) - int(np.count_nonzero(inside)) - at_low
        if self.high is not None and self.high != self.low:
            self.at_high += int(np.count_nonzero(values == self.high))
            inside &= values < self.high
            self.between.append(values[inside])
        elif self.high is None:
            self.between.append(values[inside])

    @cached_property
    def sorted(self) -> Array:
        """The values between."""
        return np.sort(np.concatenate(self.between)) if self.between else np.zeros(0)

    def get(self, position: int) -> Any:
        """Return the value at a position of all sorted values; None if it is beyond the two."""
        place = position - self.below
        if place < 0:
            return None
        if place < self.at_low:
            return self.low
        place -= self.at_low
        if place < len(self.sorted):
            return self.sorted[place]
        return self.high if place - len(self.sorted) < self.at_high else None
