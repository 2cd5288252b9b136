"""The account of to-wide: what became of every row and cell, and what could not come back."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lomrix.core.rows.occasions import FURTHER_OCCASIONS, Occasion, cut_short, each_or_all, told, told_together
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.reshape.column_roles import CONSTANT, SPREAD
from lomrix.core.steps.reshape.spreading import Spreading
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, counted, plural, times
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

STEADY = "always the same"


@dataclass
class WideAccount:
    """What a turn did.

    Parameters
    ----------
    work
        The table on its way.
    wide
        The wide table.
    """

    work: Spreading
    wide: Table

    def account(self) -> Account:
        """The account."""
        work, place = self.work, self.work.grid
        cases, occasions = counted(len(place.cases), "case", "cases"), counted(place.times, "occasion", "occasions")
        named = f" ({told_together(work.occasions, place.occasions, self._labels)})" if place.times else ""
        return Account(
            "to-wide",
            f"{counted(len(work.long), 'row', 'rows')} became {cases} x {occasions}{named}, "
            f"{counted(len(self.wide.names), 'column', 'columns')}.",
            (self._rows(), self._cells(), self._values()),
            {
                "rows": len(self.wide),
                "occasions": [list(occasion) for occasion in place.occasions],
                "spread": work.roles.spread,
                "constant": work.roles.constants,
                "left_out_columns": work.roles.left_out,
                "changing_in_few_cases": work.roles.slips,
                "cannot_come_back": self.cannot_come_back,
            },
            (self._measures(), *self._others()),
            (*self._choices(), *self._slips(), *self._notes(), *self._one_way()),
            left_out=0 if self.work.reduction is None else self.work.reduction.dropped,
        )

    def _at(self, occasion: Occasion) -> str:
        return told(self.work.occasions, occasion, self._labels)

    @cached_property
    def _labels(self) -> dict[str, Codes]:
        """By occasion column the labels of its codes."""
        return {name: self.work.long.dictionary.labels_of(name) for name in self.work.occasions}

    # ---------------------------------------------------------------- balances

    def _rows(self) -> Balance:
        place, reduction = self.work.grid, self.work.reduction
        parts = [("one for each case and occasion", int(place.cases_at.sum()))]
        if reduction is not None:
            parts.append((f"reduced to their {self.work.step.repeated}", reduction.dropped))
        return Balance(f"rows of {self.work.long.name}", len(self.work.long), tuple(parts))

    def _cells(self) -> Balance:
        place = self.work.grid
        taken = place.cases_at
        without = [
            (f"without a row at {self._at(occasion)}", len(place.cases) - count)
            for occasion, count in zip(place.occasions, taken.tolist(), strict=True)
        ]
        parts = (("with a row", int(taken.sum())), *cut_short(without, FURTHER_OCCASIONS))
        return Balance(f"cases x occasions ({', '.join(self.work.occasions)})", place.size, parts)

    def _values(self) -> Balance:
        """Measured values: all that stood in the long table must stand in the wide one."""
        work = self.work
        before = sum(len(work.long) - work.long[name].missing_count for name in work.roles.spread)
        parts = []
        for measure, at in work.names.items():
            columns = [self.wide[name] for name in at.values() if name in self.wide.columns]
            parts.append((measure, sum(len(column) - column.missing_count for column in columns)))
        shown = each_or_all(parts)
        if work.reduction is not None:
            shown = (*shown, ("of repeated rows that became one", sum(work.reduction.values_gone.values())))
        return Balance("measured values in the spread columns", before, shown)

    # ---------------------------------------------------------------- listings

    def _measures(self) -> Listing:
        """What each measure became, and how it changes within a case."""
        rows = []
        for measure, at in self.work.names.items():
            names = [name for name in at.values() if name in self.wide.columns]
            shown = names if len(names) <= 8 else [*names[:4], "…", *names[-2:]]
            counts: dict[str, int] = {}
            for name in names:
                for reason, count in self.wide[name].reason_counts().items():
                    counts[reason] = counts.get(reason, 0) + count
            values = sum(len(self.wide[name]) - self.wide[name].missing_count for name in names)
            missing = ", ".join(f"{count:,} {reason}" for reason, count in counts.items())
            rows.append((measure, self._found(measure), len(names), " ".join(shown), values, missing or "none"))
        heads = ("spread", "within a case", "columns", "to", "values", "missing in the result")
        return Listing("measures", heads, tuple(rows))

    def _others(self) -> tuple[Listing, ...]:
        """What became of the columns that are not spread; those that are simply constant in one line."""
        roles = self.work.roles
        others = [(name, self._found(name), roles.of[name]) for name in roles.others if roles.of[name] != SPREAD]
        steady = [name for name, found, role in others if (found, role) == (STEADY, CONSTANT)]
        rows = [row for row in others if row[0] not in steady]
        rows += [(some_of(steady), STEADY, CONSTANT)] if steady else []
        return (Listing("other columns", ("column", "within a case", "is"), tuple(rows)),) if rows else ()

    def _found(self, name: str) -> str:
        """How a column changes within a case, as the data say."""
        change = self.work.roles.changes[name]
        if change.cases is None:
            return "changes in many cases"
        if len(change.cases):
            return f"changes in {counted(len(change.cases), 'case', 'cases')}"
        return "one value or missing" if change.changes else STEADY

    # ------------------------------------------------------------------- notes

    def _choices(self) -> tuple[Note, ...]:
        if self.work.memory is None or self.work.step.header:
            return ()
        return (Note("names, order and labels are those from before to-long.", kind="remembered"),)

    def _slips(self) -> list[Note]:
        """Columns that change in a few cases only."""
        notes, roles = [], self.work.roles
        for name in roles.slips:
            cases = roles.contradicting(name)
            text = (
                f"changes in {counted(len(cases), 'case', 'cases')} only, a slip most likely: "
                f"{self.work.grid.cases.examples(name, cases)}; "
                f"‹constant={name}› ‹if_changing=commonest› would carry one value."
            )
            notes.append(Note(text, name, (), "slip", len(cases)))
        return notes

    def _notes(self) -> list[Note]:
        work, notes = self.work, list(self.work.grid.order_notes)
        if work.roles.left_out:
            names = work.roles.left_out
            notes.append(Note(f"columns left out: {some_of(names)}.", kind="left-out", count=len(names)))
        notes += [self._filled(name) for name in work.roles.constants if work.roles.changes[name].changes]
        if work.reduction is not None:
            cells, how = work.reduction.cells, work.step.repeated
            text = f"{counted(cells, 'case and occasion', 'cases and occasions')} stood in several rows: their {how}"
            notes.append(Note(f"{text} is kept.", ", ".join(work.case), (), "repeated", cells))
            for name, count in work.reduction.taken_first.items():
                text = f"cannot be computed with; where values differed ({times(count)}) the first was taken."
                notes.append(Note(text, name, (), "first-taken", count))
        only_missing = work.roles.only_missing if work.memory is None else []
        if only_missing:
            text = f"one value per case, but missing in some rows, and so spread: {some_of(only_missing)}; "
            text += f"‹constant={','.join(only_missing[:2])}› would carry the value that is there."
            notes.append(Note(text, kind="only-missing", count=len(only_missing)))
        if work.never_made:
            text = f"not made, since no case has it at that occasion: {some_of(work.never_made)}."
            notes.append(Note(text, kind="never-made", count=len(work.never_made)))
        if self._empty_rows[0]:
            count = self._empty_rows[0]
            text = f"{counted(count, 'row holds', 'rows hold')} no measured value; to-long brings"
            text += f" {plural(count, 'it', 'them')} back with ‹keep_empty›."
            notes.append(Note(text, kind="empty-rows", count=count))
        return notes

    def _filled(self, name: str) -> Note:
        """What was done to a constant that is not the same in all rows."""
        work = self.work
        column, cases = work.long[name], work.roles.contradicting(name)
        made = self.wide[name]
        filled = int(np.count_nonzero(column.is_missing & ~made.is_missing[work.grid.cases.of_row]))
        parts = [f"{counted(filled, 'missing cell', 'missing cells')} took the value of the case"] if filled else []
        if len(cases):
            how = work.step.if_changing
            parts.append(f"of {counted(len(cases), 'changing case', 'changing cases')} the {how} value was taken")
            parts[-1] += f": {work.grid.cases.examples(name, cases)}"
        return Note(f"{'; '.join(parts)}.", name, (), "constant-chosen", max(len(cases), filled))

    # ----------------------------------------------------------------- way back

    @cached_property
    def _empty_rows(self) -> tuple[int, int]:
        """Rows without a measured value, and those of them in which all is missing for want of the occasion."""
        work = self.work
        columns = [work.settled[name] for name in work.roles.spread]
        if any(column.why is None for column in columns):
            return 0, 0
        empty = np.ones(len(work.settled), np.bool_)
        never = np.full(len(work.settled), all(NO_OCCASION in column.reasons for column in columns))
        for column in columns:
            empty &= column.is_missing
            if never.any():
                never &= column.why == column.reasons.index(NO_OCCASION) + 1
        none = int(np.count_nonzero(never))
        return int(np.count_nonzero(empty)) - none, none

    @cached_property
    def cannot_come_back(self) -> list[str]:
        """What to-long could not bring back from the wide table."""
        work, roles, lost = self.work, self.work.roles, []
        if roles.left_out:
            lost.append(counted(len(roles.left_out), "column that was left out", "columns that were left out"))
        if work.step.label_from:
            lost.append(f"the column {work.step.label_from}, whose texts are labels now")
        if work.reduction is not None:
            lost.append(f"the repeated rows of {counted(work.reduction.cells, 'occasion', 'occasions')}")
        chosen = [name for name in roles.constants if roles.changes[name].changes]
        if chosen:
            lost.append(f"where {some_of(chosen)} {plural(len(chosen), 'was', 'were')} missing or different")
        if not work.grid.in_order:
            lost.append("the order of the rows")
        if self._empty_rows[1]:
            lost.append(f"{counted(self._empty_rows[1], 'row', 'rows')} in which all is missing for {NO_OCCASION}")
        gone = [measure for measure, columns in work.spread_columns.items() if not columns]
        if gone:
            lost.append(f"{plural(len(gone), 'the measure', 'the measures')} {some_of(gone)}, without any occasion")
        return lost

    def _one_way(self) -> tuple[Note, ...]:
        if not self.cannot_come_back:
            return ()
        return (Note(f"to-long could not bring back: {'; '.join(self.cannot_come_back)}.", kind="one-way"),)
