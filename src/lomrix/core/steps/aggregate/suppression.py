"""Which groups are suppressed, at every level of totals."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.codes import Codes, compact_codes
from lomrix.core.arrays.suppression import Tree
from lomrix.core.arrays.types import Counts
from lomrix.core.rows.candidate_keys import guess_case
from lomrix.core.rows.keys import Groups, encode_rows
from lomrix.core.rows.statistics import Summary
from lomrix.core.steps.aggregate.grouping import find_total_codes
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.reasons import SUPPRESSED
from lomrix.core.table.table import Table

Mask = npt.NDArray[np.bool_]
# The column of a grouping without statistics: the rows of each group.
ROWS = "rows"
# Statistics that do not reveal how many values there are.
WITHOUT_COUNT = {"mean", "median", "min", "max", "sd", "variance", "iqr", "first", "last", "commonest"}


def suppress(column: Column, hidden: Mask) -> Column:
    """Make the hidden cells of a column missing, whatever they were: even "undefined" reveals a single value."""
    return column.clear_missing(hidden).with_missing(hidden, SUPPRESSED) if hidden.any() else column


def suppress_together(trees: Sequence[Tree], hidden: Sequence[Mask] | None = None) -> list[Mask]:
    """Return for each level the cells that stay hidden in all of several trees with the same cells."""
    result = trees[0].suppress(hidden)
    before = -1
    while before != (before := int(sum(mask.sum() for mask in result))):
        for tree in trees:
            result = tree.suppress(result)
    return result


@dataclass(frozen=True)
class CountedCells:
    """The groups that rows count in, with their cases: one entry for each row, or for all of a group and case."""

    groups: Codes  # -1: none
    cases: Codes | None  # -1: unknown; None where each row is a case
    counts: Counts | None = None  # rows of each entry; one if None


class CountedGroups(Protocol):
    """Who is behind the groups of a table."""

    def list_cells(self, variable: str) -> list[CountedCells]:
        """Return the cells of a variable; of a condition also those for which it is true, and false."""

    def count_unknown(self) -> int:
        """Count the rows in a group that have no case."""

    def count_rows(self) -> int:
        """Count all rows."""

    def guess_case(self) -> str:
        """Return the column that likely names the case; empty if rows do not repeat in one."""


@dataclass
class TableGroups:
    """Who is behind the groups of a table in memory."""

    step: Aggregate
    rows: Table
    codes: Codes  # group of each row
    by: Sequence[str]
    summaries: Mapping[str, Summary]

    @cached_property
    def cases(self) -> Codes | None:
        """The case of each row."""
        return encode_cases(self.rows, self.step.case)

    def list_cells(self, variable: str) -> list[CountedCells]:
        """Return the cells of a variable; of a condition also those for which it is true, and false."""
        codes = self.codes
        if variable != ROWS and self.summaries[variable].present is not None:
            present = np.zeros(len(codes), np.bool_)
            present[self.summaries[variable].present] = True
            codes = np.where(present, codes, -1)
        is_true = self.summaries[variable].column.values if is_condition(self.step, variable) else None
        return [CountedCells(part, self.cases) for part in divide_cells(codes, is_true)]

    def count_unknown(self) -> int:
        """Count the rows in a group that have no case."""
        return 0 if self.cases is None else int(np.count_nonzero((self.codes >= 0) & (self.cases < 0)))

    def count_rows(self) -> int:
        """Count all rows."""
        return len(self.rows)

    def guess_case(self) -> str:
        """Return the column that likely names the case; empty if rows do not repeat in one."""
        return guess_case(self.rows, {*self.by, *self.summaries, self.step.weight})


def encode_cases(table: Table, case: tuple[str, ...]) -> Codes | None:
    """Return the case of each row, -1 where it is missing; None if no case is named."""
    if not case:
        return None
    codes, size = encode_rows(table, case)
    return compact_codes(codes, max(size, 1))[0]


def is_condition(step: Aggregate, variable: str) -> bool:
    """Return whether a variable is a condition."""
    return any(variable == found.condition for found in step.conditions)


def divide_cells(codes: Codes, is_true: Mask | None) -> list[Codes]:
    """Return the groups of all rows, and of those for which a condition is true, and false."""
    if is_true is None:
        return [codes]
    return [codes, np.where(is_true, codes, -1), np.where(is_true, -1, codes)]


@dataclass
class Suppression:
    """The suppressed groups of each variable."""

    step: Aggregate  # what was asked for
    groups: Groups  # the groups, and the names of their keys
    by: Sequence[str]
    wanted: Sequence[tuple[str, str]]  # variables and their statistics
    counted: CountedGroups  # who is behind the groups

    @cached_property
    def _parents(self) -> list[npt.NDArray[np.int64]]:
        """For each level the parent of each cell; the highest total is in the account if not in the table."""
        if not self.step.totals:
            return [np.zeros(self.groups.count, np.int64)]
        inner, parents = find_total_codes(self.groups, self.by), []
        below = np.arange(self.groups.count)
        for codes in inner:
            parent = np.zeros(int(below.max(initial=-1)) + 1, np.int64)
            parent[below] = codes
            parents.append(parent)
            below = codes
        return parents

    def _make_trees(self, variable: str) -> list[Tree]:
        """Return the cells of a variable; of a condition also those for which it is true, and false."""
        return [
            Tree(cells.groups, self._parents, self.groups.count, cells.cases, self.step.min_n, cells.counts)
            for cells in self.counted.list_cells(variable)
        ]

    @cached_property
    def _masks(self) -> dict[str, list[Mask]]:
        """The hidden cells, by variable and level."""
        if not self.step.min_n:
            return {}
        names = list(dict.fromkeys(variable for variable, _ in self.wanted)) or [ROWS]
        statistics = {name: {statistic for variable, statistic in self.wanted if variable == name} for name in names}
        trees = {name: self._make_trees(name) for name in names}
        reveals_count = {
            name: self.step.totals or name == ROWS
            or any(statistic not in WITHOUT_COUNT and not statistic.startswith("q") for statistic in statistics[name])
            for name in names
        }  # fmt: skip
        result = {
            name: suppress_together(trees[name]) if reveals_count[name] else trees[name][0].find_small()
            for name in names
        }
        if any("missing" in statistic for statistic in statistics.values()):
            # Values plus missing cells give the rows of a group, the same for every variable.
            hidden = [np.logical_or.reduce(masks) for masks in zip(*result.values(), strict=True)]
            every_tree = [tree for part in trees.values() for tree in part] + self._make_trees(ROWS)
            result = dict.fromkeys(result, suppress_together(every_tree, hidden))
        return result

    def get_hidden(self, variable: str, level: int = 0) -> Mask:
        """Return the hidden groups of a variable at a level of totals; level 0 are the groups themselves."""
        if not self.step.min_n:
            size = (
                self.groups.count
                if level == 0
                else int(find_total_codes(self.groups, self.by)[level - 1].max(initial=-1)) + 1
            )
            return np.zeros(size, np.bool_)
        return self._masks[variable][level]

    def hides_all(self, variable: str) -> bool:
        """Return whether even the number of all values together is hidden."""
        return bool(self.step.min_n) and bool(self._masks[variable][-1].any())

    # ------------------------------------------------------------------- notes

    def make_notes(self) -> Iterator[Note]:
        """Note what was suppressed and why, and what the minimum size counted."""
        if not self.step.min_n:
            return
        for name, masks in self._masks.items():
            small = int(
                np.count_nonzero(np.logical_or.reduce([tree.find_small()[0] for tree in self._make_trees(name)]))
            )
            secondary = int(np.count_nonzero(masks[0])) - small
            if small or secondary:
                unit = "cases" if self.step.case else "rows"
                text = f"{pluralize(small, 'group has', 'groups have')} fewer than {self.step.min_n} {unit}"
                text += " for which it is true, or false" if is_condition(self.step, name) else ""
                text += (
                    f"; {secondary:,} more {plural(secondary, 'is', 'are')} suppressed to protect them"
                    if secondary
                    else ""
                )
                yield Note(f"{text}.", name, (), "suppressed", small + secondary, done=True)
        if self.step.hide_second:
            text = "‹hide_second› has no effect any more: groups that would give others away are always suppressed."
            yield Note(text, kind="no-effect", done=True)
        if self.step.case:
            unknown = self.counted.count_unknown()
            if unknown:
                text = f"{pluralize(unknown, 'row has', 'rows have')} no case and count for nobody."
                yield Note(text, ", ".join(self.step.case), (), "no-case", unknown)
            return
        case = self.counted.guess_case()
        if case:
            text = f"‹min_n› counts rows, and rows repeat within {case}: add ‹case={case}› to count cases."
            yield Note(text, case, (), "rows-not-cases", self.counted.count_rows())
