"""Which groups must not be shown, at every level of totals."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import dense
from lomrix.core.arrays.suppression import Tree
from lomrix.core.rows.candidate_keys import likely_case
from lomrix.core.rows.keys import Groups, row_codes
from lomrix.core.rows.statistics import Summary
from lomrix.core.steps.aggregate.grouping import inner_codes
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.reasons import SUPPRESSED
from lomrix.core.table.table import Table

Mask = npt.NDArray[np.bool_]
# The column of a grouping without statistics, and what stands for all rows of a group.
ROWS = "rows"
# Statistics from which nobody can tell how many values there are; all others give a number for the sum of all groups.
WITHOUT_COUNT = {"mean", "median", "min", "max", "sd", "variance", "iqr", "first", "last", "commonest"}


def suppress(column: Column, hidden: Mask) -> Column:
    """A column whose hidden cells are missing, whatever they were: that a spread is undefined tells of one value."""
    return column.cleared(hidden).with_missing(hidden, SUPPRESSED) if hidden.any() else column


@dataclass
class Suppression:
    """The groups of each variable that must not be shown.

    Parameters
    ----------
    step, rows
        What was asked for, and the table.
    groups, by
        The groups, and the names of their keys.
    summaries, wanted
        Each variable in its groups, and which statistics of it are wanted.
    """

    step: Aggregate
    rows: Table
    groups: Groups
    by: Sequence[str]
    summaries: Mapping[str, Summary]
    wanted: Sequence[tuple[str, str]]

    @cached_property
    def _cases(self) -> npt.NDArray[np.int64] | None:
        if not self.step.case:
            return None
        codes, size = row_codes(self.rows, self.step.case)
        return dense(codes, max(size, 1))[0]

    @cached_property
    def _parents(self) -> list[npt.NDArray[np.int64]]:
        """Of each level the cells of the next; the highest total is in the account where it is not in the table."""
        if not self.step.totals:
            return [np.zeros(self.groups.count, np.int64)]
        inner, parents = inner_codes(self.groups, self.by), []
        below = np.arange(self.groups.count)
        for codes in inner:
            parent = np.zeros(int(below.max(initial=-1)) + 1, np.int64)
            parent[below] = codes
            parents.append(parent)
            below = codes
        return parents

    def _tree(self, variable: str) -> Tree:
        codes = self.groups.codes
        if variable != ROWS and self.summaries[variable].present is not None:
            present = np.zeros(len(codes), np.bool_)
            present[self.summaries[variable].present] = True
            codes = np.where(present, codes, -1)
        return Tree(codes, self._parents, self.groups.count, self._cases, self.step.min_n)

    @cached_property
    def _masks(self) -> dict[str, list[Mask]]:
        """By variable and level, what is hidden."""
        if not self.step.min_n:
            return {}
        names = list(self.summaries) or [ROWS]
        asked = {name: {statistic for variable, statistic in self.wanted if variable == name} for name in names}
        trees = {name: self._tree(name) for name in names}
        tells_count = {
            name: self.step.totals or name == ROWS
            or any(one not in WITHOUT_COUNT and not one.startswith("q") for one in asked[name])
            for name in names
        }  # fmt: skip
        found = {name: tree.suppressed() if tells_count[name] else tree.small() for name, tree in trees.items()}
        if any("missing" in one for one in asked.values()):
            # Values and missing cells together tell the rows of a group, for every variable alike.
            trees[ROWS] = self._tree(ROWS)
            hidden = [np.logical_or.reduce(masks) for masks in zip(*found.values(), strict=True)]
            before = -1
            while before != (before := int(sum(mask.sum() for mask in hidden))):
                for tree in trees.values():
                    hidden = tree.suppressed(hidden)
            found = dict.fromkeys(found, hidden)
        return found

    def hidden(self, variable: str, level: int = 0) -> Mask:
        """The groups of a variable that must not be shown, at a level of totals; level 0 are the groups themselves."""
        if not self.step.min_n:
            size = self.groups.count if level == 0 else int(inner_codes(self.groups, self.by)[level - 1].max()) + 1
            return np.zeros(size, np.bool_)
        return self._masks[variable][level]

    def hides_all(self, variable: str) -> bool:
        """True where even the number of all values together must not be shown."""
        return bool(self.step.min_n) and bool(self._masks[variable][-1].any())

    # ------------------------------------------------------------------- notes

    def notes(self) -> Iterator[Note]:
        """What was suppressed and why, and what the minimum size counted."""
        if not self.step.min_n:
            return
        for name, masks in self._masks.items():
            small = int(np.count_nonzero(self._tree(name).small()[0]))
            second = int(np.count_nonzero(masks[0])) - small
            if small or second:
                who = "cases" if self.step.case else "rows"
                text = f"{counted(small, 'group has', 'groups have')} fewer than {self.step.min_n} {who}"
                text += f"; {second:,} more {plural(second, 'is', 'are')} suppressed to protect them" if second else ""
                yield Note(f"{text}.", name, (), "suppressed", small + second, done=True)
        if self.step.hide_second:
            text = "‹hide_second› has no effect any more: groups that would give others away are always suppressed."
            yield Note(text, kind="no-effect", done=True)
        if self.step.case:
            unknown = int(np.count_nonzero((self.groups.codes >= 0) & (self._cases < 0)))  # type: ignore[operator]
            if unknown:
                text = f"{counted(unknown, 'row has', 'rows have')} no case and count for nobody."
                yield Note(text, ", ".join(self.step.case), (), "no-case", unknown)
            return
        taken = {*self.by, *self.summaries, self.step.weight}
        case = likely_case(self.rows, taken)
        if case:
            text = f"‹min_n› counts rows, and rows repeat within {case}: add ‹case={case}› to count cases."
            yield Note(text, case, (), "rows-not-cases", len(self.rows))
