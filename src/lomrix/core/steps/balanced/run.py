"""Rows for every case at every occasion."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.combining import Words
from lomrix.core.errors import UsageError
from lomrix.core.rows.grid import Grid, GridSurvey
from lomrix.core.rows.occasions import format_occasions, sort_key
from lomrix.core.steps.account import Account, Balance, Listing, Part, balance_values
from lomrix.core.steps.balanced.settings import ToBalanced
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.header import parse_occasions
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

Rows = npt.NDArray[np.int64]
REPEATED_ADVICE = "Correct the file, or name a further ‹occasion› that distinguishes the rows."


@dataclass(frozen=True)
class PanelSurvey:
    """What must be known of all parts: rows, occasions, and for each column in how many cases it varies."""

    rows: int
    grid: GridSurvey
    unequal: Mapping[str, int]


def survey(step: ToBalanced, tables: Inputs) -> PanelSurvey:
    """Survey the panel, or a part of it."""
    return Balancing(step, tables.get_one()).survey


def check(step: ToBalanced, tables: Inputs, whole: PanelSurvey) -> None:
    """Stop if cases and occasions repeat, or settings do not fit them."""
    Balancing(step, tables.get_one().slice(0, 0), whole).check()


def balance_panel(
    step: ToBalanced, tables: Inputs, wanted: Collection[str], whole: PanelSurvey | None = None
) -> Result:
    """Make the panel rectangular, or a part of it; `whole` is the survey of all parts."""
    balancing = Balancing(step, tables.get_one(), whole)
    balancing.check()
    result = balancing.keep_complete() if step.only_whole else balancing.fill_panel()
    return Result(result, balancing.make_account(result))


@dataclass
class Balancing:
    """A panel being balanced: the step, the table as it was, or a part of it, and the survey of all parts."""

    step: ToBalanced
    table: Table
    whole: PanelSurvey | None = None

    @cached_property
    def grid(self) -> Grid:
        """The position of each row."""
        return Grid(
            self.table, self.step.case, self.step.occasion, whole=None if self.whole is None else self.whole.grid
        )

    @cached_property
    def survey(self) -> PanelSurvey:
        """The survey of all parts."""
        if self.whole is not None:
            return self.whole
        stated = bool(self.step.constant) or self.step.only_whole
        others = [] if stated else [
            name for name in self.table.names if name not in (*self.step.case, *self.step.occasion)
        ]  # fmt: skip
        unequal = {name: self.grid.cases.find_variation(name).unequal for name in others}
        return PanelSurvey(len(self.table), self.grid.survey, unequal)

    def check(self) -> None:
        """Stop if cases and occasions repeat, or settings do not fit them."""
        self.grid.require_no_repetition(REPEATED_ADVICE)
        self.wanted, self.constants  # noqa: B018 both are checked when they are found

    @cached_property
    def wanted(self) -> list[tuple[Any, ...]]:
        """The occasions that count, in order."""
        if not self.step.occasions:
            return list(self.grid.occasions)
        values = [(value,) for value in parse_occasions(self.step.occasions)]
        type_ = self.table[self.step.occasion[0]].type
        kinds: dict[str, tuple[type, ...]] = {"integer": (int,), "number": (int, float)}
        expected = kinds.get(type_, (object,))
        if type_ == "string":
            values = [(text,) for text in self.step.occasions]
        if len(set(values)) < len(values) or not all(isinstance(value, expected) for (value,) in values):
            raise UsageError(
                f"‹occasions› does not fit {self.step.occasion[0]}, which is {type_}.",
                todo=f"It holds {format_occasions(self.step.occasion, self.grid.occasions)}.",
            )
        rank = {occasion: index for index, occasion in enumerate(self.grid.occasions)}
        if type_ != "string" and all(value in rank for value in values):
            return sorted(values, key=lambda value: rank[value])
        return values if type_ == "string" else sorted(values, key=lambda value: sort_key(value[0]))

    @cached_property
    def row_at(self) -> Rows:
        """Row of each case and wanted occasion, shape (cases, occasions); -1 if there is none."""
        cells = np.full(self.grid.size, -1, np.int64)
        cells[self.grid.cells] = np.arange(len(self.table))
        rows = cells.reshape(len(self.grid.cases), self.grid.times)
        position = {occasion: index for index, occasion in enumerate(self.grid.occasions)}
        result = np.full((len(rows), len(self.wanted)), -1, np.int64)
        for index, occasion in enumerate(self.wanted):
            if occasion in position:
                result[:, index] = rows[:, position[occasion]]
        return result

    # ------------------------------------------------------------------ tables

    def fill_panel(self) -> Table:
        """Return the table with the missing rows added, case by case and occasion by occasion."""
        rows = self.row_at.ravel()
        case_numbers = np.arange(len(self.grid.cases)).repeat(len(self.wanted))
        source_rows = np.where(rows >= 0, rows, self.grid.cases.firsts[case_numbers]) if len(rows) else rows
        columns = {}
        for name, column in self.table.columns.items():
            if name in self.step.occasion:
                columns[name] = self._make_occasion(name)
            elif name in self.step.case:
                columns[name] = column.take(source_rows)
            elif name in self.constants:
                todo = f"Mend the cells, or leave {name} out of ‹constant› and out of the dictionary's level case."
                constant_rows = self.grid.cases.find_constant_rows(name, "stop", todo)
                columns[name] = column.take(
                    np.where(rows >= 0, rows, constant_rows[case_numbers]) if len(rows) else rows
                )
            else:
                columns[name] = column.take_or(rows, NO_OCCASION)
        numbers = None
        if self.table.row_numbers is not None:
            numbers = self.table.row_numbers[self.grid.cases.firsts][case_numbers]
        return replace(self.table, columns=columns, names_in_source=(), row_numbers=numbers)

    def _make_occasion(self, name: str) -> Column:
        position = self.step.occasion.index(name)
        values = Column.of_cells(self.table[name].type, [occasion[position] for occasion in self.wanted])
        return values.take(np.tile(np.arange(len(self.wanted)), len(self.grid.cases)))

    def keep_complete(self) -> Table:
        """Return the rows of the cases that were seen at all wanted occasions."""
        is_complete = (self.row_at >= 0).all(axis=1)
        return self.table.take(np.sort(self.row_at[is_complete].ravel()))

    @cached_property
    def constants(self) -> set[str]:
        """Columns filled from the case: as stated, else those that the dictionary or all rows show to be constant."""
        if self.step.constant:
            return set(choose_columns(self.step.constant, self.table.types(), self.table.name))
        unequal = self.survey.unequal
        stated = {name for name in unequal if self.table.dictionary.of(name).level == "case"}
        if self.survey.grid.cases == self.survey.rows:  # one row each: nothing shows what is constant
            return stated
        return stated | {name for name, count in unequal.items() if not count}

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table) -> Account:
        """Report what was added, or left out."""
        cases, times = len(self.grid.cases), len(self.wanted)
        is_seen = self.row_at >= 0
        seen, complete = int(np.count_nonzero(is_seen)), int(np.count_nonzero(is_seen.all(axis=1)))
        occasions = format_occasions(self.step.occasion, self.wanted)
        used = np.zeros(len(self.table), np.bool_)
        used[self.row_at[is_seen]] = True
        elsewhere = int(np.count_nonzero(~used))
        parts: tuple[Part, ...]
        beyond = Part("left out", elsewhere, "other-occasion")
        if self.step.only_whole:
            kept = int(np.count_nonzero(is_seen.all(axis=1))) * times
            parts = (Part("kept", len(result), "whole-case"), Part("left out", seen - kept, "other-case"), beyond)
            summary = Words("{complete} of {cases:case} were seen at all of {occasions}.",
                            complete=complete, cases=cases, occasions=occasions)  # fmt: skip
            balances = [
                Balance(
                    "cases",
                    cases,
                    (Part("kept", len(result) // times if times else 0), Part("left out", cases - complete)),
                ),
                Balance("rows", len(self.table), parts, self.table.name),
            ]
        else:
            added = int(np.count_nonzero(~is_seen))
            summary = Words("{added:row} added: {cases:case} at {occasions}, {complete} of them had all.",
                            added=added, cases=cases, occasions=occasions, complete=complete)  # fmt: skip
            parts = (Part("kept", seen, "in-result"), beyond)
            balances = [
                Balance(
                    "rows of the result",
                    len(result),
                    (Part("kept", seen, "unchanged"), Part("added", added, reason=NO_OCCASION)),
                ),
                Balance("rows", len(self.table), parts, self.table.name),
            ]
            if not self.step.occasions:
                measures = [name for name in result.names
                            if name not in (*self.step.case, *self.step.occasion, *self.constants)]  # fmt: skip
                balances.append(balance_values(self.table.only(measures), result.only(measures)))
        facts = {
            "cases": cases, "occasions": [list(map(str, occasion)) for occasion in self.wanted], "whole_cases": complete
        }  # fmt: skip
        return Account(
            "to-balanced",
            summary,
            tuple(balances),
            facts,
            tuple(self._make_listing(is_seen)),
            tuple(self._make_notes()),
        )

    def _make_listing(self, is_seen: npt.NDArray[np.bool_]) -> Sequence[Listing]:
        counts = np.count_nonzero(is_seen, axis=0)
        texts = [format_occasions(self.step.occasion, [occasion]) for occasion in self.wanted]
        texts = [text.removeprefix(f"{self.step.occasion[0]} ") for text in texts]
        lines = tuple((text, n, len(is_seen) - n) for text, n in zip(texts, counts.tolist(), strict=True))
        heads = (", ".join(self.step.occasion), "cases with a row", "without")
        return [Listing("the panel", heads, lines)]

    def _make_notes(self) -> list[Note]:
        if self.step.only_whole:
            return []
        order = [] if self.step.occasions else self.grid.order_notes
        names = [name for name in self.table.names if name in self.constants]
        if not names:
            text = "no column is known to stay the same within a case, so added rows hold case and occasion only."
            return [*order, Note(text, kind="no-constant", count=0)]
        text = f"filled from the case in added rows: {shorten_list(names)}."
        return [*order, Note(text, kind="constant", count=len(names), done=True)]
