"""The account of to-long: what happened to every row and cell, and what cannot be restored."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lomrix.core.rows.course import Courses
from lomrix.core.rows.keys import encode_rows, format_keys
from lomrix.core.rows.occasions import (
    Occasion,
    format_occasion_pair,
    format_occasions,
)
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.reshape.spells import turn_spells
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.reshape.turn import Gathering
from lomrix.core.steps.step import Inputs, Result, require
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

MOST_EXAMPLES = 5


def to_long(step: ToLong, tables: Inputs, wanted: Collection[str]) -> Result:
    """Reshape the table; the measures over the occasions are an extra, to be drawn."""
    if step.spell:
        require("figure" not in wanted, "figure", "‹figure› has no effect on spells.", "Leave it out.")
        return turn_spells(step, tables.get_one())
    gathering = Gathering(step, tables.get_one())
    long = gathering.make_table()
    extras = {"figure": Courses.from_long(long)} if "figure" in wanted else {}
    return Result(long, LongAccount(gathering, long).make_account(), extras)


@dataclass
class LongAccount:
    """The account of a reshape to long, and the long table."""

    turn: Gathering
    long: Table

    def make_account(self) -> Account:
        """Return the account."""
        turn, long = self.turn, self.long
        names = ", ".join(turn.families.names)
        shown = format_occasions(turn.families.names, turn.families.occasions, self._labels)
        wide = len(turn.wide)
        dropped_rows = int(np.count_nonzero(turn.is_dropped))
        measured = Part("kept", self._measured_rows, "measured")
        rows = (Part("kept", wide - len(self._without_rows)), Part("left out", len(self._without_rows), "unmeasured"))
        return Account(
            "to-long",
            f"{wide:,} rows x {pluralize(turn.times, 'occasion')} ({shown}) became {len(long):,} rows.",
            (
                Balance("rows x occasions", wide * turn.times, (measured, *self._count_empty()), names),
                Balance(
                    "rows of the result",
                    wide * turn.times - dropped_rows,
                    (measured, Part("kept", len(long) - self._measured_rows, "unmeasured")),
                    quiet=not turn.step.keep_empty,
                ),
                self._balance_cells(),
                Balance("rows", wide, rows, turn.wide.name, quiet=True),
            ),
            {
                "rows": len(long),
                "occasions": [list(occasion) for occasion in turn.families.occasions],
                "carried": [*turn.case, *turn.constants],
                "left_out_columns": turn.left_out,
                "cannot_come_back": self.not_restorable,
            },
            (self._list_measures(),),
            (
                *self._note_choices(),
                *self._make_notes(),
                *self._note_lost_cases(),
                *self._note_repeated_cases(),
                *self._note_lost(),
            ),
        )

    @cached_property
    def _measured_rows(self) -> int:
        """Rows of the result with a measured value."""
        empty = np.ones(len(self.long), np.bool_)
        for name in self.turn.families.measures:
            empty &= self.long[name].is_missing
        return len(self.long) - int(np.count_nonzero(empty))

    def _format_occasion(self, occasion: Occasion) -> str:
        return format_occasion_pair(self.turn.families.names, occasion, self._labels)

    @cached_property
    def _labels(self) -> dict[str, Codes]:
        """Labels of the codes, by occasion column."""
        return {name: self.long.dictionary.labels_of(name) for name in self.turn.families.names}

    def _count_empty(self) -> tuple[Part, ...]:
        """Count the rows without a measured value, by occasion."""
        turn, parts = self.turn, []
        empty = np.count_nonzero(turn.is_empty, axis=1)
        if not turn.step.keep_empty:
            parts = [
                Part("left out", int(count), "unmeasured", self._format_occasion(occasion))
                for occasion, count in zip(turn.families.occasions, empty, strict=True)
            ]
        else:
            never = np.count_nonzero(turn.is_never, axis=1)
            for occasion, count, never_there in zip(turn.families.occasions, empty, never, strict=True):
                text = self._format_occasion(occasion)
                parts.append(Part("kept", int(count - never_there), "unmeasured", text))
                parts.append(Part("left out", int(never_there), "never-there", text, NO_OCCASION))
        return tuple(parts)

    def _balance_cells(self) -> Balance:
        """Balance the measured values: all of the wide table must be in the long one."""
        wide, long = self.turn.wide, self.long
        before = sum(len(wide) - wide[name].missing_count for name in self.turn.measured)
        after = [
            Part("kept", len(long) - long[name].missing_count, "column", name) for name in self.turn.families.measures
        ]
        return Balance("measured values", before, tuple(after))

    def _list_measures(self) -> Listing:
        rows = []
        for name, columns_by_occasion in self.turn.families.measures.items():
            columns = [
                columns_by_occasion[occasion]
                for occasion in self.turn.families.occasions
                if occasion in columns_by_occasion
            ]
            shown = columns if len(columns) <= 8 else [*columns[:4], "…", *columns[-2:]]
            missing = self._count_missing(name)
            reasons = ", ".join(f"{count:,} {reason}" for reason, count in sorted(missing.items()))
            values = len(self.long) - self.long[name].missing_count
            rows.append((name, len(columns), " ".join(shown), values, reasons or "none"))
        return Listing(
            "measures",
            ("measure", "columns", "formed from", "values", "missing, before rows are left out"),
            tuple(rows),
        )

    # ------------------------------------------------------------------- notes

    def _note_choices(self) -> tuple[Note, ...]:
        """Note settings that were guessed or recalled."""
        turn = self.turn
        if turn.guessed is not None:
            settings = [f"‹case={','.join(turn.case)}›"] if turn.case else []
            settings += [f"‹header={template}›" for template in turn.guessed.templates]
            settings += [f"‹value_name={name}›" for name in turn.guessed.value_names]
            settings += [f"‹occasions={text}›" for text in turn.guessed.occasions]
            return (Note(f"guessed: {' '.join(settings)}", kind="guessed"),)
        if turn.memory is not None and not turn.step.header:
            return (Note("names, order and labels are those from before to-wide.", kind="remembered"),)
        return ()

    def _make_notes(self) -> tuple[Note, ...]:
        turn, notes = self.turn, []
        if turn.constants or turn.case:
            carried = [*turn.case, *turn.constants]
            notes.append(
                Note(f"carried along: {shorten_list(carried)}.", kind="carried", count=len(carried), done=True)
            )
        if turn.families.interpretations:
            text = f"as ‹occasions› states, {shorten_list(turn.families.interpretations)}."
            notes.append(Note(text, kind="occasions-said", count=len(turn.families.interpretations), done=True))
        if turn.left_out:
            text = f"columns left out: {shorten_list(turn.left_out)}."
            notes.append(Note(text, kind="left-out", count=len(turn.left_out)))
        if turn.families.set_aside:
            names = shorten_list(turn.families.set_aside)
            text = f"not reshaped although the template fits, since the occasion is not like the others: {names}."
            notes.append(Note(text, kind="set-aside", count=len(turn.families.set_aside)))
        if turn.families.near_misses:
            names = shorten_list(turn.families.near_misses)
            text = f"named like a measure, but the template does not fit, so carried along as they are: {names}."
            notes.append(Note(text, kind="near-miss", count=len(turn.families.near_misses)))
        if turn.families.joined_digits:
            names = shorten_list(turn.families.joined_digits)
            text = f"digits of the measure's name may have been read as the occasion in {names}; "
            text += f"a width such as {{{turn.families.names[0]}:02}} in the template takes only the last two."
            notes.append(Note(text, kind="joined-digits", count=len(turn.families.joined_digits)))
        if not turn.case:
            notes.append(Note("no ‹case› was given, so the column row numbers the rows.", kind="row-number", done=True))
        return tuple(notes)

    @cached_property
    def _without_rows(self) -> np.ndarray:
        """Rows of the wide table without a row in the result."""
        turn = self.turn
        return np.flatnonzero(turn.is_dropped.all(axis=0))

    def _note_lost_cases(self) -> tuple[Note, ...]:
        rows = self._without_rows
        if not len(rows):
            return ()
        first_rows = rows[:MOST_EXAMPLES]
        texts = format_keys(self.turn.wide, self.turn.case, first_rows) if self.turn.case else [None] * len(first_rows)
        examples = tuple(zip((first_rows + self.turn.wide.first_row).tolist(), texts, strict=True))
        count = pluralize(len(rows), "case has", "cases have")
        pronoun = plural(len(rows), "it", "them")
        text = f"{count} no row in the result, since nothing was measured; ‹keep_empty› keeps {pronoun}."
        return (Note(text, ", ".join(self.turn.case), examples, "lost-case", len(rows)),)

    @cached_property
    def _case_counts(self) -> tuple[np.ndarray, np.ndarray, int]:
        """Rows of repeated cases, rows without a case, and the number of repeated cases."""
        if not self.turn.case:
            return np.zeros(0, np.int64), np.zeros(0, np.int64), 0
        codes, size = encode_rows(self.turn.wide, self.turn.case)
        without_case = np.flatnonzero(codes < 0)
        counts = np.bincount(codes if not len(without_case) else codes[codes >= 0], minlength=size)
        if counts.max(initial=0) <= 1:
            return np.zeros(0, np.int64), without_case, 0
        repeated = np.flatnonzero(np.append(counts > 1, False)[codes])
        return repeated, without_case, int(np.count_nonzero(counts > 1))

    def _note_repeated_cases(self) -> tuple[Note, ...]:
        rows, without_case, cases = self._case_counts
        wide, notes, name = self.turn.wide, [], ", ".join(self.turn.case)
        if len(rows):
            texts = format_keys(wide, self.turn.case, rows[:MOST_EXAMPLES])
            examples = tuple(zip((rows[:MOST_EXAMPLES] + wide.first_row).tolist(), texts, strict=True))
            text = f"{pluralize(cases, 'case is', 'cases are')} in more than one row, so case and occasion repeat."
            notes.append(Note(text, name, examples, "repeated-case", cases))
        if len(without_case):
            examples_without = tuple((int(row) + wide.first_row, None) for row in without_case[:MOST_EXAMPLES])
            text = f"{pluralize(len(without_case), 'row')} without a case."
            notes.append(Note(text, name, examples_without, "missing-case", len(without_case)))
        return tuple(notes)

    # ----------------------------------------------------------------- way back

    @cached_property
    def not_restorable(self) -> list[str]:
        """What to-wide cannot restore from the long table."""
        turn, lost = self.turn, []
        if turn.left_out:
            lost.append(pluralize(len(turn.left_out), "column that was left out", "columns that were left out"))
        if len(self._without_rows):
            lost.append(pluralize(len(self._without_rows), "case without a row", "cases without a row"))
        rows_left = np.count_nonzero(~turn.is_dropped, axis=1).tolist()
        lost_occasions = [
            occasion for occasion, rows in zip(turn.families.occasions, rows_left, strict=True) if not rows
        ]
        if lost_occasions:
            lost.append(
                "the columns of "
                + ", ".join(self._format_occasion(occasion) for occasion in lost_occasions[:MOST_EXAMPLES])
            )
        reasons = self._count_lost_reasons()
        if reasons:
            reason_counts = ", ".join(f"{count:,} {reason}" for reason, count in sorted(reasons.items()))
            lost.append(f"why cells of the rows left out are missing ({reason_counts})")
        repeated, without_case, _ = self._case_counts
        if len(repeated):
            lost.append("the rows of repeated cases")
        if len(without_case):
            lost.append("the rows without a case")
        return lost

    def _count_missing(self, measure: str) -> dict[str, int]:
        """Count the missing cells of a measure by reason before any row was left out."""
        turn, counts = self.turn, Counter[str]()
        columns_by_occasion = turn.families.measures[measure]
        for occasion in turn.families.occasions:
            counts.update(
                turn.wide[columns_by_occasion[occasion]].reason_counts()
                if occasion in columns_by_occasion
                else {NO_OCCASION: len(turn.wide)}
            )
        return {reason: count for reason, count in counts.items() if count}

    def _count_lost_reasons(self) -> dict[str, int]:
        """Count the reasons in rows left out, other than no-occasion."""
        counts = Counter[str]()
        if self.turn.dropped_positions is not None:
            for measure in self.turn.families.measures:
                counts.update(self._count_missing(measure))
                counts.subtract(self.long[measure].reason_counts())
        return {reason: count for reason, count in counts.items() if count and reason != NO_OCCASION}

    def _note_lost(self) -> tuple[Note, ...]:
        if not self.not_restorable:
            return ()
        hint = (
            "" if self.turn.step.keep_empty or self.turn.dropped_positions is None else " (‹keep_empty› keeps all rows)"
        )
        return (Note(f"to-wide cannot restore: {'; '.join(self.not_restorable)}{hint}.", kind="one-way"),)
