"""The account of to-wide: what happened to every row and cell, and what cannot be restored."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lomrix.core.rows.occasions import (
    Occasion,
    format_occasion_pair,
    format_occasions,
)
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.reshape.column_roles import CONSTANT, SPREAD
from lomrix.core.steps.reshape.spreading import Spreading
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, format_times, plural, pluralize
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

STEADY = "always the same"


def to_wide(step: ToWide, tables: Inputs, wanted: Collection[str]) -> Result:
    """Reshape the table."""
    spreading = Spreading(step, tables.get_one())
    wide = spreading.make_table()
    return Result(wide, WideAccount(spreading, wide).make_account())


@dataclass
class WideAccount:
    """The account of a reshape to wide, and the wide table."""

    spreading: Spreading
    wide: Table

    def make_account(self) -> Account:
        """Return the account."""
        spreading, grid = self.spreading, self.spreading.grid
        cases, occasions = pluralize(len(grid.cases), "case"), pluralize(grid.times, "occasion")
        occasion_text = (
            f" ({format_occasions(spreading.occasions, grid.occasions, self._labels)})" if grid.times else ""
        )
        return Account(
            "to-wide",
            f"{pluralize(len(spreading.long), 'row')} became {cases} x {occasions}{occasion_text}, "
            f"{pluralize(len(self.wide.names), 'column')}.",
            (self._balance_rows(), self._balance_cells(), self._balance_values()),
            {
                "rows": len(self.wide),
                "occasions": [list(occasion) for occasion in grid.occasions],
                "spread": spreading.roles.spread,
                "constant": spreading.roles.constants,
                "left_out_columns": spreading.roles.left_out,
                "changing_in_few_cases": spreading.roles.likely_errors,
                "cannot_come_back": self.not_restorable,
            },
            (self._list_measures(), *self._list_others()),
            (*self._note_choices(), *self._note_likely_errors(), *self._make_notes(), *self._note_lost()),
        )

    def _format_occasion(self, occasion: Occasion) -> str:
        return format_occasion_pair(self.spreading.occasions, occasion, self._labels)

    @cached_property
    def _labels(self) -> dict[str, Codes]:
        """Labels of the codes, by occasion column."""
        return {name: self.spreading.long.dictionary.labels_of(name) for name in self.spreading.occasions}

    # ---------------------------------------------------------------- balances

    def _balance_rows(self) -> Balance:
        grid, reduction = self.spreading.grid, self.spreading.reduction
        parts = [Part("kept", int(grid.case_counts.sum()), "one-each")]
        if reduction is not None:
            parts.append(Part("left out", reduction.dropped, "reduced", self.spreading.step.repeated))
        return Balance("rows", len(self.spreading.long), tuple(parts), self.spreading.long.name)

    def _balance_cells(self) -> Balance:
        grid = self.spreading.grid
        counts = grid.case_counts
        without = [
            Part("missing", len(grid.cases) - count, "no-row", self._format_occasion(occasion))
            for occasion, count in zip(grid.occasions, counts.tolist(), strict=True)
        ]
        parts = (Part("kept", int(counts.sum()), "row"), *without)
        return Balance("cases x occasions", grid.size, parts, ", ".join(self.spreading.occasions))

    def _balance_values(self) -> Balance:
        """Balance the measured values: all of the long table must be in the wide one."""
        spreading = self.spreading
        before = sum(len(spreading.long) - spreading.long[name].missing_count for name in spreading.roles.spread)
        parts = []
        for measure, by_occasion in spreading.names.items():
            columns = [self.wide[name] for name in by_occasion.values() if name in self.wide.columns]
            count = sum(len(column) - column.missing_count for column in columns)
            parts.append(Part("kept", count, "column", measure))
        if spreading.reduction is not None:
            parts.append(Part("left out", sum(spreading.reduction.values_gone.values()), "reduced-rows"))
        return Balance("measured values", before, tuple(parts))

    # ---------------------------------------------------------------- listings

    def _list_measures(self) -> Listing:
        """List what each measure became, and how it varies within a case."""
        rows = []
        for measure, by_occasion in self.spreading.names.items():
            names = [name for name in by_occasion.values() if name in self.wide.columns]
            shown = names if len(names) <= 8 else [*names[:4], "…", *names[-2:]]
            counts: dict[str, int] = {}
            for name in names:
                for reason, count in self.wide[name].reason_counts().items():
                    counts[reason] = counts.get(reason, 0) + count
            values = sum(len(self.wide[name]) - self.wide[name].missing_count for name in names)
            missing = ", ".join(f"{count:,} {reason}" for reason, count in counts.items())
            rows.append(
                (measure, self._describe_variation(measure), len(names), " ".join(shown), values, missing or "none")
            )
        heads = ("spread", "within a case", "columns", "to", "values", "missing in the result")
        return Listing("measures", heads, tuple(rows))

    def _list_others(self) -> tuple[Listing, ...]:
        """List the columns that are not spread; plain constants in one line."""
        roles = self.spreading.roles
        others = [
            (name, self._describe_variation(name), roles.of[name]) for name in roles.others if roles.of[name] != SPREAD
        ]
        unvarying = [name for name, variation, role in others if (variation, role) == (STEADY, CONSTANT)]
        rows = [row for row in others if row[0] not in unvarying]
        rows += [(shorten_list(unvarying), STEADY, CONSTANT)] if unvarying else []
        return (Listing("other columns", ("column", "within a case", "is"), tuple(rows)),) if rows else ()

    def _describe_variation(self, name: str) -> str:
        """Describe how a column varies within a case."""
        variation = self.spreading.roles.variations[name]
        if variation.cases is None:
            return "varies in many cases"
        if len(variation.cases):
            return f"varies in {pluralize(len(variation.cases), 'case')}"
        return "one value or missing" if variation.varies else STEADY

    # ------------------------------------------------------------------- notes

    def _note_choices(self) -> tuple[Note, ...]:
        if self.spreading.memory is None or self.spreading.step.header:
            return ()
        return (Note("names, order and labels are those from before to-long.", kind="remembered"),)

    def _note_likely_errors(self) -> list[Note]:
        """Note columns that vary in a few cases only."""
        notes, roles = [], self.spreading.roles
        for name in roles.likely_errors:
            cases = roles.find_contradictions(name)
            text = (
                f"varies in {pluralize(len(cases), 'case')} only, probably an error: "
                f"{self.spreading.grid.cases.format_examples(name, cases)}; "
                f"‹constant={name}› ‹if_changing=commonest› would carry one value."
            )
            notes.append(Note(text, name, (), "slip", len(cases)))
        return notes

    def _make_notes(self) -> list[Note]:
        spreading, notes = self.spreading, list(self.spreading.grid.order_notes)
        if spreading.roles.left_out:
            names = spreading.roles.left_out
            notes.append(Note(f"columns left out: {shorten_list(names)}.", kind="left-out", count=len(names)))
        notes += [
            self._note_filled(name) for name in spreading.roles.constants if spreading.roles.variations[name].varies
        ]
        if spreading.reduction is not None:
            cells, how = spreading.reduction.cells, spreading.step.repeated
            text = f"{pluralize(cells, 'case and occasion', 'cases and occasions')} had several rows: their {how}"
            notes.append(Note(f"{text} is kept.", ", ".join(spreading.case), (), "repeated", cells))
            for name, count in spreading.reduction.taken_first.items():
                text = f"is not numeric; where values differed ({format_times(count)}) the first was used."
                notes.append(Note(text, name, (), "first-taken", count))
        only_missing = spreading.roles.only_missing if spreading.memory is None else []
        if only_missing:
            text = f"one value per case, but missing in some rows, and so spread: {shorten_list(only_missing)}; "
            text += f"‹constant={','.join(only_missing[:2])}› would carry the present value."
            notes.append(Note(text, kind="only-missing", count=len(only_missing)))
        if spreading.never_made:
            text = f"not created, since no case has it at that occasion: {shorten_list(spreading.never_made)}."
            notes.append(Note(text, kind="never-made", count=len(spreading.never_made)))
        if self._empty_rows[0]:
            count = self._empty_rows[0]
            text = f"{pluralize(count, 'row holds', 'rows hold')} no measured value; to-long restores"
            text += f" {plural(count, 'it', 'them')} with ‹keep_empty›."
            notes.append(Note(text, kind="empty-rows", count=count))
        return notes

    def _note_filled(self, name: str) -> Note:
        """Note what was done to a constant that varies."""
        spreading = self.spreading
        column, cases = spreading.long[name], spreading.roles.find_contradictions(name)
        result = self.wide[name]
        filled = int(np.count_nonzero(column.is_missing & ~result.is_missing[spreading.grid.cases.of_row]))
        parts = [f"{pluralize(filled, 'missing cell', 'missing cells')} took the value of the case"] if filled else []
        if len(cases):
            how = spreading.step.if_changing
            parts.append(f"in {pluralize(len(cases), 'varying case')} the {how} value was used")
            parts[-1] += f": {spreading.grid.cases.format_examples(name, cases)}"
        return Note(f"{'; '.join(parts)}.", name, (), "constant-chosen", max(len(cases), filled))

    # ----------------------------------------------------------------- way back

    @cached_property
    def _empty_rows(self) -> tuple[int, int]:
        """Rows without a measured value, and those in which all is missing for no-occasion."""
        spreading = self.spreading
        columns = [spreading.unique_rows[name] for name in spreading.roles.spread]
        if any(column.why is None for column in columns):
            return 0, 0
        empty = np.ones(len(spreading.unique_rows), np.bool_)
        is_never = np.full(len(spreading.unique_rows), all(NO_OCCASION in column.reasons for column in columns))
        for column in columns:
            empty &= column.is_missing
            if is_never.any():
                is_never &= column.why == column.reasons.index(NO_OCCASION) + 1
        never_count = int(np.count_nonzero(is_never))
        return int(np.count_nonzero(empty)) - never_count, never_count

    @cached_property
    def not_restorable(self) -> list[str]:
        """What to-long cannot restore from the wide table."""
        spreading, roles, lost = self.spreading, self.spreading.roles, []
        if roles.left_out:
            lost.append(pluralize(len(roles.left_out), "column that was left out", "columns that were left out"))
        if spreading.step.label_from:
            lost.append(f"the column {spreading.step.label_from}, whose texts are labels now")
        if spreading.reduction is not None:
            lost.append(f"the repeated rows of {pluralize(spreading.reduction.cells, 'occasion')}")
        chosen = [name for name in roles.constants if roles.variations[name].varies]
        if chosen:
            lost.append(f"where {shorten_list(chosen)} {plural(len(chosen), 'was', 'were')} missing or different")
        if not spreading.grid.is_sorted:
            lost.append("the order of the rows")
        if self._empty_rows[1]:
            lost.append(f"{pluralize(self._empty_rows[1], 'row')} in which all is missing for {NO_OCCASION}")
        lost_measures = [measure for measure, columns in spreading.spread_columns.items() if not columns]
        if lost_measures:
            lost.append(
                f"{plural(len(lost_measures), 'the measure')} {shorten_list(lost_measures)}, without any occasion"
            )
        return lost

    def _note_lost(self) -> tuple[Note, ...]:
        if not self.not_restorable:
            return ()
        return (Note(f"to-long cannot restore: {'; '.join(self.not_restorable)}.", kind="one-way"),)
