"""Rows for every case at every occasion."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import UsageError
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import order_of, told_together
from lomrix.core.steps.account import Account, Balance, Listing, Parts, kept_cells
from lomrix.core.steps.balanced.settings import ToBalanced
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.header import occasion_values
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

Rows = npt.NDArray[np.int64]
TODO = "Mend the file, or name a further ‹occasion› that tells the rows apart."


def balanced(step: ToBalanced, tables: Inputs, wanted: Collection[str]) -> Result:
    """Make the panel rectangular."""
    work = Balancing(step, tables.one())
    made = work.whole_cases() if step.only_whole else work.filled()
    return Result(made, work.account(made))


@dataclass
class Balancing:
    """One panel on its way to being rectangular.

    Parameters
    ----------
    step, table
        What was asked for, and the table as it was.
    """

    step: ToBalanced
    table: Table

    def __post_init__(self) -> None:
        self.grid = Grid(self.table, self.step.case, self.step.occasion)
        self.grid.require_no_repetition(TODO)

    @cached_property
    def wanted(self) -> list[tuple[Any, ...]]:
        """The occasions that count, in order."""
        if not self.step.occasions:
            return list(self.grid.occasions)
        values = [(value,) for value in occasion_values(self.step.occasions)]
        type_ = self.table[self.step.occasion[0]].type
        kinds: dict[str, tuple[type, ...]] = {"integer": (int,), "number": (int, float)}
        expected = kinds.get(type_, (object,))
        if type_ == "string":
            values = [(text,) for text in self.step.occasions]
        if len(set(values)) < len(values) or not all(isinstance(value, expected) for (value,) in values):
            raise UsageError(
                f"‹occasions› does not fit {self.step.occasion[0]}, which is {type_}.",
                todo=f"It holds {told_together(self.step.occasion, self.grid.occasions)}.",
            )
        known = {one: at for at, one in enumerate(self.grid.occasions)}
        if type_ != "string" and all(value in known for value in values):
            return sorted(values, key=lambda value: known[value])
        return values if type_ == "string" else sorted(values, key=lambda value: order_of(value[0]))

    @cached_property
    def row_at(self) -> Rows:
        """For each case and wanted occasion its row, shape (cases, occasions); -1 where there is none."""
        cells = np.full(self.grid.size, -1, np.int64)
        cells[self.grid.cells] = np.arange(len(self.table))
        row = cells.reshape(len(self.grid.cases), self.grid.times)
        place = {one: at for at, one in enumerate(self.grid.occasions)}
        found = np.full((len(row), len(self.wanted)), -1, np.int64)
        for at, occasion in enumerate(self.wanted):
            if occasion in place:
                found[:, at] = row[:, place[occasion]]
        return found

    # ------------------------------------------------------------------ tables

    def filled(self) -> Table:
        """The table with the rows that were missing, case by case and occasion by occasion."""
        rows = self.row_at.ravel()
        there = np.arange(len(self.grid.cases)).repeat(len(self.wanted))
        of_case = np.where(rows >= 0, rows, self.grid.cases.firsts[there]) if len(rows) else rows
        columns = {}
        for name, column in self.table.columns.items():
            if name in self.step.occasion:
                columns[name] = self._occasion(name)
            elif name in self.step.case:
                columns[name] = column.take(of_case)
            elif name in self.constants:
                todo = f"Mend the cells, or leave {name} out of ‹constant› and out of the dictionary's level case."
                own = self.grid.cases.rows_of_constant(name, "stop", todo)
                columns[name] = column.take(np.where(rows >= 0, rows, own[there]) if len(rows) else rows)
            else:
                columns[name] = column.take_or(rows, NO_OCCASION)
        return replace(self.table, columns=columns, names_in_source=())

    def _occasion(self, name: str) -> Column:
        place = self.step.occasion.index(name)
        values = Column.of_cells(self.table[name].type, [one[place] for one in self.wanted])
        return values.take(np.tile(np.arange(len(self.wanted)), len(self.grid.cases)))

    def whole_cases(self) -> Table:
        """The rows of the cases that were seen at all wanted occasions."""
        whole = (self.row_at >= 0).all(axis=1)
        return self.table.take(np.sort(self.row_at[whole].ravel()))

    @cached_property
    def constants(self) -> set[str]:
        """Columns that are filled from the case: as said, else those that the dictionary or all rows show as such."""
        if self.step.constant:
            return set(chosen_columns(self.step.constant, self.table.types(), self.table.name))
        cases = self.grid.cases
        others = [name for name in self.table.names if name not in (*self.step.case, *self.step.occasion)]
        stated = {name for name in others if self.table.dictionary.of(name).level == "case"}
        if len(cases) == len(self.table):  # one row each: nothing tells what stays the same
            return stated
        return stated | {name for name in others if not cases.change(name).changes}

    # ----------------------------------------------------------------- account

    def account(self, made: Table) -> Account:
        """What was added, or left out."""
        cases, times = len(self.grid.cases), len(self.wanted)
        there = self.row_at >= 0
        inside, whole = int(np.count_nonzero(there)), int(np.count_nonzero(there.all(axis=1)))
        occasions = told_together(self.step.occasion, self.wanted)
        taken = np.zeros(len(self.table), np.bool_)
        taken[self.row_at[there]] = True
        elsewhere = int(np.count_nonzero(~taken))
        parts: Parts
        if self.step.only_whole:
            kept = int(np.count_nonzero(there.all(axis=1))) * times
            parts = (("of whole cases", len(made)), ("of other cases, left out", inside - kept),
                     ("at other occasions, left out", elsewhere))  # fmt: skip
            summary = f"{whole:,} of {counted(cases, 'case', 'cases')} were seen at all of {occasions}."
            balances = [
                Balance("cases", cases, (("kept", len(made) // times if times else 0), ("left out", cases - whole))),
                Balance(f"rows of {self.table.name}", len(self.table), tuple((w, n) for w, n in parts if n)),
            ]
        else:
            added = int(np.count_nonzero(~there))
            summary = (
                f"{counted(added, 'row', 'rows')} added: {counted(cases, 'case', 'cases')} at {occasions}, "
                f"{whole:,} of them had all."
            )
            parts = (("in the result", inside), ("at other occasions, left out", elsewhere))
            balances = [
                Balance("rows of the result", len(made), (("as they were", inside), ("added (no-occasion)", added))),
                Balance(f"rows of {self.table.name}", len(self.table), tuple((w, n) for w, n in parts if n)),
            ]
            if not elsewhere:
                measures = [name for name in made.names
                            if name not in (*self.step.case, *self.step.occasion, *self.constants)]  # fmt: skip
                balances.append(kept_cells(self.table.only(measures), made.only(measures)))
        facts = {"cases": cases, "occasions": [list(map(str, one)) for one in self.wanted], "whole_cases": whole}
        return Account(
            "to-balanced",
            summary,
            tuple(balances),
            facts,
            tuple(self._listing(there)),
            tuple(self._notes()),
            left_out=sum(count for _, count in parts[1:]),
        )

    def _listing(self, there: npt.NDArray[np.bool_]) -> Sequence[Listing]:
        counts = np.count_nonzero(there, axis=0)
        texts = [told_together(self.step.occasion, [one]) for one in self.wanted]
        texts = [text.removeprefix(f"{self.step.occasion[0]} ") for text in texts]
        lines = tuple((text, n, len(there) - n) for text, n in zip(texts, counts.tolist(), strict=True))
        heads = (", ".join(self.step.occasion), "cases with a row", "without")
        return [Listing("the panel", heads, lines)]

    def _notes(self) -> list[Note]:
        if self.step.only_whole:
            return []
        order = [] if self.step.occasions else self.grid.order_notes
        names = [name for name in self.table.names if name in self.constants]
        if not names:
            text = "no column is known to stay the same within a case, so added rows hold case and occasion only."
            return [*order, Note(text, kind="no-constant", count=0)]
        text = f"filled from the case in added rows: {some_of(names)}."
        return [*order, Note(text, kind="constant", count=len(names), done=True)]
