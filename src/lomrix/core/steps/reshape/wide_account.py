"""The account of to-wide: what happened to every row and cell, and what cannot be restored."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lomrix.core.combining import Same, combine_all
from lomrix.core.rows.occasions import (
    Occasion,
    format_occasion_pair,
    format_occasions,
)
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.reshape.column_roles import CONSTANT, SPREAD
from lomrix.core.steps.reshape.spreading import Spreading
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.reshape.wide_survey import WideSurvey, is_held
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, format_times, plural, pluralize
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

STEADY = "always the same"


def survey(step: ToWide, tables: Inputs) -> WideSurvey:
    """Survey the long table, or a part of it."""
    return Spreading(step, tables.get_one()).survey


def check(step: ToWide, tables: Inputs, whole: WideSurvey) -> None:
    """Stop if settings and data of the whole do not fit together."""
    Spreading(step, tables.get_one(), whole).of_no_rows.check()


def to_wide(step: ToWide, tables: Inputs, wanted: Collection[str], whole: WideSurvey | None = None) -> Result:
    """Reshape the table, or a part of it; `whole` is the survey of all parts."""
    spreading = Spreading(step, tables.get_one(), whole)
    wide = spreading.make_table()
    decided = spreading if whole is None else spreading.of_no_rows
    return Result(wide, Account("to-wide", ""), tally=(Same(decided), count(spreading, wide)))


def conclude(step: ToWide, account: Account, tallies: Sequence[tuple[Same, Tally]]) -> Account:
    """Return the account of all parts."""
    decided, tally = combine_all(tallies)
    return WideAccount(decided.value, tally).make_account()


@dataclass(frozen=True)
class Reduction:
    """What happened to repeated rows: rows and values that are no more, by column in how many cases and occasions
    unequal values gave way to the first.
    """

    rows: int
    values: int
    taken_first: Mapping[str, int]


@dataclass(frozen=True)
class Tally:
    """What is counted in each part."""

    rows: int
    cases_per_occasion: tuple[int, ...]
    values_before: int
    values: Mapping[str, int]  # by measure
    missing: Mapping[str, Mapping[str, int]]  # by measure and reason
    filled: Mapping[str, int]  # by constant, missing cells that took the value of the case
    not_in_order: int
    without_value: int  # rows
    never_seen: int  # rows in which all is missing for no-occasion
    reduction: Reduction


def count(spreading: Spreading, wide: Table) -> Tally:
    """Count what the account tells of a part."""
    long, grid, roles = spreading.long, spreading.grid, spreading.roles
    made = {
        measure: [wide[name] for name in names.values() if name in wide.columns]
        for measure, names in spreading.names.items()
    }
    filled = {}
    for name in roles.constants:
        if spreading.survey.variations[name].varies:
            is_missing = wide[name].is_missing[grid.cases.of_row]
            filled[name] = int(np.count_nonzero(long[name].is_missing & ~is_missing))
    reduced = spreading.reduction
    return Tally(
        len(long),
        tuple(grid.case_counts.tolist()),
        sum(len(long) - long[name].missing_count for name in roles.spread),
        {measure: sum(len(column) - column.missing_count for column in columns) for measure, columns in made.items()},
        {measure: combine_all(column.reason_counts() for column in columns) if columns else {}
         for measure, columns in made.items()},
        filled,
        int(not grid.keeps_order),
        *count_empty_rows([spreading.unique_rows[name] for name in roles.spread]),
        Reduction(0, 0, {}) if reduced is None
        else Reduction(reduced.dropped, sum(reduced.values_gone.values()), reduced.taken_first),
    )  # fmt: skip


def count_empty_rows(measures: Sequence[Column]) -> tuple[int, int]:
    """Count the rows without a measured value, and those in which all is missing for no-occasion."""
    if not measures or any(column.why is None for column in measures):
        return 0, 0
    is_empty = np.logical_and.reduce([column.is_missing for column in measures])
    is_never = np.logical_and.reduce([~is_held(column) for column in measures])
    never = int(np.count_nonzero(is_never))
    return int(np.count_nonzero(is_empty)) - never, never


@dataclass
class WideAccount:
    """The account of a reshape to wide: what holds for the whole, and what was counted in all parts."""

    spreading: Spreading
    tally: Tally

    def make_account(self) -> Account:
        """Return the account."""
        spreading, occasions = self.spreading, self.spreading.grid.occasions
        cases = self.spreading.survey.grid.cases
        occasion_text = f" ({format_occasions(spreading.occasions, occasions, self._labels)})" if occasions else ""
        return Account(
            "to-wide",
            f"{pluralize(self.tally.rows, 'row')} became {pluralize(cases, 'case')} x "
            f"{pluralize(len(occasions), 'occasion')}{occasion_text}, "
            f"{pluralize(len(spreading.column_names), 'column')}.",
            (self._balance_rows(), self._balance_cells(), self._balance_values()),
            {
                "rows": cases,
                "occasions": [list(occasion) for occasion in occasions],
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
        tally = self.tally
        parts = [Part("kept", sum(tally.cases_per_occasion), "one-each")]
        if self.spreading.survey.grid.repeated:
            parts.append(Part("left out", tally.reduction.rows, "reduced", self.spreading.step.repeated))
        return Balance("rows", tally.rows, tuple(parts), self.spreading.long.name)

    def _balance_cells(self) -> Balance:
        cases, occasions = self.spreading.survey.grid.cases, self.spreading.grid.occasions
        counts = self.tally.cases_per_occasion
        without = [
            Part("missing", cases - count, "no-row", self._format_occasion(occasion))
            for occasion, count in zip(occasions, counts, strict=True)
        ]
        parts = (Part("kept", sum(counts), "row"), *without)
        return Balance("cases x occasions", cases * len(occasions), parts, ", ".join(self.spreading.occasions))

    def _balance_values(self) -> Balance:
        """Balance the measured values: all of the long table must be in the wide one."""
        parts = [Part("kept", values, "column", measure) for measure, values in self.tally.values.items()]
        if self.spreading.survey.grid.repeated:
            parts.append(Part("left out", self.tally.reduction.values, "reduced-rows"))
        return Balance("measured values", self.tally.values_before, tuple(parts))

    # ---------------------------------------------------------------- listings

    def _list_measures(self) -> Listing:
        """List what each measure became, and how it varies within a case."""
        rows = []
        for measure, names in self.spreading.made.items():
            shown = names if len(names) <= 8 else [*names[:4], "…", *names[-2:]]
            counts = sorted(self.tally.missing[measure].items())
            missing = ", ".join(f"{count:,} {reason}" for reason, count in counts)
            how, values = self._describe_variation(measure), self.tally.values[measure]
            rows.append((measure, how, len(names), " ".join(shown), values, missing or "none"))
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
        if variation.contradicting:
            return f"varies in {pluralize(variation.contradicting, 'case')}"
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
            variation = roles.variations[name]
            text = (
                f"varies in {pluralize(variation.contradicting, 'case')} only, probably an error: "
                f"{variation.examples}; "
                f"‹constant={name}› ‹if_changing=commonest› would carry one value."
            )
            notes.append(Note(text, name, (), "slip", variation.contradicting))
        return notes

    def _make_notes(self) -> list[Note]:
        spreading, notes = self.spreading, list(self.spreading.grid.order_notes)
        if spreading.roles.left_out:
            names = spreading.roles.left_out
            notes.append(Note(f"columns left out: {shorten_list(names)}.", kind="left-out", count=len(names)))
        notes += [
            self._note_filled(name) for name in spreading.roles.constants if spreading.roles.variations[name].varies
        ]
        cells = spreading.survey.grid.repeated.total
        if cells:
            text = f"{pluralize(cells, 'case and occasion', 'cases and occasions')} had several rows: their "
            text += f"{spreading.step.repeated} is kept."
            notes.append(Note(text, ", ".join(spreading.case), (), "repeated", cells))
            for name, count in self.tally.reduction.taken_first.items():
                text = f"is not numeric; where values differed ({format_times(count)}) the first was used."
                notes += [Note(text, name, (), "first-taken", count)] if count else []
        only_missing = spreading.roles.only_missing if spreading.memory is None else []
        if only_missing:
            text = f"one value per case, but missing in some rows, and so spread: {shorten_list(only_missing)}; "
            text += f"‹constant={','.join(only_missing[:2])}› would carry the present value."
            notes.append(Note(text, kind="only-missing", count=len(only_missing)))
        if spreading.never_made:
            text = f"not created, since no case has it at that occasion: {shorten_list(spreading.never_made)}."
            notes.append(Note(text, kind="never-made", count=len(spreading.never_made)))
        if count := self.tally.without_value:
            text = f"{pluralize(count, 'row holds', 'rows hold')} no measured value; to-long restores"
            text += f" {plural(count, 'it', 'them')} with ‹keep_empty›."
            notes.append(Note(text, kind="empty-rows", count=count))
        return notes

    def _note_filled(self, name: str) -> Note:
        """Note what was done to a constant that varies."""
        variation, filled = self.spreading.roles.variations[name], self.tally.filled[name]
        parts = [f"{pluralize(filled, 'missing cell', 'missing cells')} took the value of the case"] if filled else []
        if variation.contradicting:
            how = self.spreading.step.if_changing
            parts.append(f"in {pluralize(variation.contradicting, 'varying case')} the {how} value was used")
            parts[-1] += f": {variation.examples}"
        return Note(f"{'; '.join(parts)}.", name, (), "constant-chosen", max(variation.contradicting, filled))

    # ----------------------------------------------------------------- way back

    @cached_property
    def not_restorable(self) -> list[str]:
        """What to-long cannot restore from the wide table."""
        spreading, roles, lost = self.spreading, self.spreading.roles, []
        if roles.left_out:
            lost.append(pluralize(len(roles.left_out), "column that was left out", "columns that were left out"))
        if spreading.step.label_from:
            lost.append(f"the column {spreading.step.label_from}, whose texts are labels now")
        if repeated := spreading.survey.grid.repeated.total:
            lost.append(f"the repeated rows of {pluralize(repeated, 'occasion')}")
        chosen = [name for name in roles.constants if roles.variations[name].varies]
        if chosen:
            lost.append(f"where {shorten_list(chosen)} {plural(len(chosen), 'was', 'were')} missing or different")
        if self.tally.not_in_order:
            lost.append("the order of the rows")
        if self.tally.never_seen:
            lost.append(f"{pluralize(self.tally.never_seen, 'row')} in which all is missing for {NO_OCCASION}")
        lost_measures = [measure for measure, names in spreading.made.items() if not names]
        if lost_measures:
            lost.append(
                f"{plural(len(lost_measures), 'the measure')} {shorten_list(lost_measures)}, without any occasion"
            )
        return lost

    def _note_lost(self) -> tuple[Note, ...]:
        if not self.not_restorable:
            return ()
        return (Note(f"to-long cannot restore: {'; '.join(self.not_restorable)}.", kind="one-way"),)
