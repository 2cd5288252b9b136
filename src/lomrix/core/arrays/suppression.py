"""Suppression: which numbers of a table with totals stay hidden, so that no small one is given away.

A cell is hidden for its own sake where fewer than a least number of cases stand behind it (primary suppression).
Further cells are hidden where a total less what is shown of its parts would give a hidden one away, or would itself be
a number of too few cases (secondary suppression).

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

from lomrix.core.arrays.codes import Codes, combined, dense

Mask = npt.NDArray[np.bool_]
Counts = npt.NDArray[np.int64]
# What a singular value, or a cell of a null space, may be away from zero.
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
        pairs, size = combined(inside, count, of_case, int(of_case.max()) + 1)
        inside = dense(pairs, size)[1] // (int(of_case.max()) + 1)
    return np.bincount(inside, minlength=count)


@dataclass
class Tree:
    """Cells with their totals: each level holds the totals of the one below.

    Parameters
    ----------
    cells
        Lowest cell of each row that counts, shape (n,); -1 for rows of none.
    parents
        For each level the cell of the next one that holds its total.
    count
        Number of the lowest cells.
    cases
        Case of each row; None where each row is a case.
    least
        The least number of cases that may be shown.
    """

    cells: Codes
    parents: Sequence[Codes]
    count: int
    cases: Codes | None
    least: int

    def __post_init__(self) -> None:
        self.of_row, sizes = [self.cells], [self.count]
        for parent in self.parents:
            self.of_row.append(np.append(parent, -1)[self.of_row[-1]])
            sizes.append(int(parent.max(initial=-1)) + 1)
        self.rows = [count_cases(cells, size, None) for cells, size in zip(self.of_row, sizes, strict=True)]
        self.people = [count_cases(cells, size, self.cases) for cells, size in zip(self.of_row, sizes, strict=True)]

    def small(self) -> list[Mask]:
        """For each level the cells with too few cases behind them; an empty cell hides nobody."""
        return [(rows > 0) & (people < self.least) for rows, people in zip(self.rows, self.people, strict=True)]

    def suppressed(self, hidden: Sequence[Mask] | None = None) -> list[Mask]:
        """For each level the cells that stay hidden.

        In a tree of totals an equation shares at most one cell with each other, so that a hidden cell can be computed
        only where some equation has no second hidden one; each such equation gets another, the smallest.

        Parameters
        ----------
        hidden
            Cells that are hidden already, for some other reason.
        """
        found = self.small()
        if hidden is not None:
            found = [one | other for one, other in zip(found, hidden, strict=True)]
        changed = True
        while changed:
            changed = False
            for level in range(len(self.parents)):
                changed |= self._protect(level, found)
        return found

    def _protect(self, level: int, hidden: list[Mask]) -> bool:
        """Hide a further cell in every equation of a level that gives one away; tell whether there was any."""
        parent, below, above = self.parents[level], hidden[level], hidden[level + 1]
        unknown = np.bincount(parent[below], minlength=len(above)) + above
        bare = unknown == 1
        shown_rest = (unknown > 0) & ~above
        if shown_rest.any():
            rest = np.append(below, False)[self.of_row[level]]
            bare |= shown_rest & (count_cases(np.where(rest, self.of_row[level + 1], -1), len(above), self.cases)
                                  < self.least)  # fmt: skip
        if not bare.any():
            return False
        free = np.flatnonzero(~below & (self.rows[level] > 0) & bare[parent])
        order = free[np.lexsort((self.people[level][free], parent[free]))]
        firsts = order[np.append(True, np.diff(parent[order]) != 0)] if len(order) else order
        below[firsts] = True
        # Where no part is left to hide, the total is as telling as the part.
        without = bare & ~above
        without[parent[firsts]] = False
        above[without] = True
        return bool(len(firsts) or without.any())


def determined(equations: npt.NDArray[np.float64], hidden: Mask) -> Mask:
    """The hidden numbers that linear equations determine, all others being known.

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
    places = np.flatnonzero(hidden)
    found = np.zeros(len(hidden), np.bool_)
    if not len(places):
        return found
    part = equations[:, places]
    _, sizes, rows = np.linalg.svd(part, full_matrices=True)
    rank = int(np.count_nonzero(sizes > TINY * max(1.0, float(sizes.max(initial=0.0)))))
    found[places] = (np.abs(rows[rank:]) < TINY).all(axis=0)
    return found


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
        bare = determined(equations, hidden)
        if not bare.any():
            return hidden
        beside = (equations[(equations[:, bare] != 0).any(axis=1)] != 0).any(axis=0)
        free = np.flatnonzero(beside & ~hidden & ~fixed & (values > 0))
        if not len(free):
            free = np.flatnonzero(~hidden & ~fixed & (values > 0))
        if not len(free):
            return hidden
        hidden[free[np.argmin(values[free])]] = True
