"""Secondary suppression: which numbers of a table with totals stay hidden, so that no small one can be computed.

References
----------
L. H. Cox, "Suppression methodology and statistical disclosure control", Journal of the American Statistical Association
75 (1980), 377-385: a hidden cell is safe where no linear equation of the table determines it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import Codes, combine_codes, compact_codes
from lomrix.core.arrays.matching import sum_counts
from lomrix.core.arrays.types import Counts

Mask = npt.NDArray[np.bool_]
# Tolerance for zero in singular values and null spaces.
TINY = 1e-9


def count_cases(cells: Codes, count: int, cases: Codes | None) -> Counts:
    """Count the different cases behind each cell.

    Parameters
    ----------
    cells
        Cell of each row, shape (n,); -1 for rows of none.
    count
        Number of cells.
    cases
        Case of each row; -1 for rows of an unknown one, which count as nobody. None where each row is a case.
    """
    inside = cells[cells >= 0] if cases is None else cells[(cells >= 0) & (cases >= 0)]
    if cases is not None and len(inside):
        of_case = cases[(cells >= 0) & (cases >= 0)]
        pairs, size = combine_codes(inside, count, of_case, int(of_case.max()) + 1)
        inside = compact_codes(pairs, size)[1] // (int(of_case.max()) + 1)
    return np.bincount(inside, minlength=count)


@dataclass
class Tree:
    """Cells with their totals: each level holds the totals of the one below."""

    cells: Codes  # lowest cell of each row that counts, shape (n,); -1 for rows of none
    parents: Sequence[Codes]  # for each level the cell of the next one that holds its total
    count: int  # number of the lowest cells
    cases: Codes | None  # case of each row; None where each row is a case
    least: int  # the least number of cases that may be shown
    counts: Counts | None = None  # rows of the same cell and case that each row stands for; one if None

    def __post_init__(self) -> None:
        self.of_row, sizes = [self.cells], [self.count]
        for parent in self.parents:
            self.of_row.append(np.append(parent, -1)[self.of_row[-1]])
            sizes.append(int(parent.max(initial=-1)) + 1)
        pairs = list(zip(self.of_row, sizes, strict=True))
        self.rows = [sum_counts(cells, size, self.counts) for cells, size in pairs]
        self.people = [self._count_people(cells, size) for cells, size in pairs]

    def _count_people(self, cells: Codes, count: int) -> Counts:
        """Count the different cases behind each cell, or its rows where each is a case."""
        if self.cases is None:
            return sum_counts(cells, count, self.counts)
        return count_cases(cells, count, self.cases)

    def find_small(self) -> list[Mask]:
        """Return for each level the cells with too few cases; an empty cell hides nobody."""
        return [(rows > 0) & (people < self.least) for rows, people in zip(self.rows, self.people, strict=True)]

    def suppress(self, hidden: Sequence[Mask] | None = None) -> list[Mask]:
        """Return for each level the cells that stay hidden.

        Parameters
        ----------
        hidden
            Cells that are hidden already, for some other reason.
        """
        result = self.find_small()
        if hidden is not None:
            result = [small | given for small, given in zip(result, hidden, strict=True)]
        changed = True
        while changed:
            changed = False
            for level in range(len(self.parents)):
                changed |= self._protect(level, result)
        return result

    def _protect(self, level: int, hidden: list[Mask]) -> bool:
        """Hide one more cell in every equation of a level that exposes one; return whether there was any."""
        parent, below, above = self.parents[level], hidden[level], hidden[level + 1]
        unknown = np.bincount(parent[below], minlength=len(above)) + above
        exposed = unknown == 1
        shown_rest = (unknown > 0) & ~above
        if shown_rest.any():
            shown = np.append(below, False)[self.of_row[level]]
            people = self._count_people(np.where(shown, self.of_row[level + 1], -1), len(above))
            exposed |= shown_rest & (people < self.least)
        if not exposed.any():
            return False
        free = np.flatnonzero(~below & (self.rows[level] > 0) & exposed[parent])
        order = free[np.lexsort((self.people[level][free], parent[free]))]
        firsts = order[np.append(True, np.diff(parent[order]) != 0)] if len(order) else order
        below[firsts] = True
        # If no part is left to hide, the total reveals as much as the part.
        unprotected = exposed & ~above
        unprotected[parent[firsts]] = False
        above[unprotected] = True
        return bool(len(firsts) or unprotected.any())


def find_determined(equations: npt.NDArray[np.float64], hidden: Mask) -> Mask:
    """Return the hidden numbers that linear equations determine, all others being known.

    Parameters
    ----------
    equations
        Shape (equations, numbers): each row times the numbers is a known number.
    hidden
        Which numbers are not shown.

    Returns
    -------
    Shape (numbers,): True for a hidden number that is the same in all solutions.
    """
    positions = np.flatnonzero(hidden)
    result = np.zeros(len(hidden), np.bool_)
    if not len(positions):
        return result
    part = equations[:, positions]
    _, sizes, rows = np.linalg.svd(part, full_matrices=True)
    rank = int(np.count_nonzero(sizes > TINY * max(1.0, float(sizes.max(initial=0.0)))))
    result[positions] = (np.abs(rows[rank:]) < TINY).all(axis=0)
    return result


def protect(equations: npt.NDArray[np.float64], values: Counts, small: Mask, fixed: Mask) -> Mask:
    """Hide further numbers of a small table until its equations determine no hidden one.

    Parameters
    ----------
    equations
        Shape (equations, numbers), each row times the numbers being nothing.
    values
        The numbers; of those that could be hidden the smallest is.
    small
        Which are hidden for their own sake.
    fixed
        Which are known whatever is hidden here.
    """
    hidden = small & ~fixed
    while True:
        exposed = find_determined(equations, hidden)
        if not exposed.any():
            return hidden
        related = (equations[(equations[:, exposed] != 0).any(axis=1)] != 0).any(axis=0)
        candidates = np.flatnonzero(related & ~hidden & ~fixed & (values > 0))
        if not len(candidates):
            candidates = np.flatnonzero(~hidden & ~fixed & (values > 0))
        if not len(candidates):
            return hidden
        hidden[candidates[np.argmin(values[candidates])]] = True
