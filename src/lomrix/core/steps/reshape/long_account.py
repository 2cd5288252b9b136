"""The account of to-long: what happened to every row and cell, and what cannot be restored."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from lomrix.core.combining import MOST_EXAMPLES, Words, combine_all
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
from lomrix.core.steps.reshape.turn import Gathering, WideSurvey
from lomrix.core.steps.step import Inputs, Result, require
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list


def survey(step: ToLong, tables: Inputs) -> WideSurvey:
    """Survey the columns of the measures."""
    return Gathering(step, tables.get_one()).make_survey()


def to_long(step: ToLong, tables: Inputs, wanted: Collection[str], whole: WideSurvey | None = None) -> Result:
    """Reshape the table; the measures over the occasions are an extra, to be drawn; `whole` surveys all parts."""
    if step.spell:
        require("figure" not in wanted, "figure", "‹figure› has no effect on spells.", "Leave it out.")
        return turn_spells(step, tables.get_one())
    gathering = Gathering(step, tables.get_one(), whole)
    long = gathering.make_table()
    extras = {"figure": Courses.from_long(long)} if "figure" in wanted else {}
    account = LongAccount(gathering, long)
    return Result(long, account.make_account(), extras, tally=account.make_tally())


@dataclass(frozen=True)
class MeasureTally:
    """The columns of a measure, its values, and its missing cells by reason before rows were left out."""

    name: str
    columns: tuple[str, ...]
    values: int
    missing: Mapping[str, int]


@dataclass(frozen=True)
class Tally:
    """What the account needs of each part."""

    measures: tuple[MeasureTally, ...]
    left_out: tuple[str, ...]  # columns
    occasions: tuple[str, ...]
    rows_left: tuple[int, ...]  # by occasion
    dropped: int  # cases and occasions
    without_rows: int  # cases
    lost_reasons: Mapping[str, int]  # of cells of rows left out, other than no-occasion
    repeated: int  # rows of repeated cases
    without_case: int

    def list_measures(self) -> Listing:
        """List what the measures were formed from."""
        rows = []
        for measure in self.measures:
            columns = measure.columns
            shown = columns if len(columns) <= 8 else [*columns[:4], "…", *columns[-2:]]
            reasons = ", ".join(f"{count:,} {reason}" for reason, count in sorted(measure.missing.items()))
            rows.append((measure.name, len(columns), " ".join(shown), measure.values, reasons or "none"))
        heads = ("measure", "columns", "formed from", "values", "missing, before rows are left out")
        return Listing("measures", heads, tuple(rows))

    def list_losses(self) -> list[str]:
        """List what to-wide cannot restore from the long table."""
        lost = []
        if self.left_out:
            lost.append(pluralize(len(self.left_out), "column that was left out", "columns that were left out"))
        if self.without_rows:
            lost.append(pluralize(self.without_rows, "case without a row", "cases without a row"))
        empty = [occasion for occasion, rows in zip(self.occasions, self.rows_left, strict=True) if not rows]
        if empty:
            lost.append(f"the columns of {', '.join(empty[:MOST_EXAMPLES])}")
        if self.lost_reasons:
            counts = ", ".join(f"{count:,} {reason}" for reason, count in sorted(self.lost_reasons.items()))
            lost.append(f"why cells of the rows left out are missing ({counts})")
        lost += ["the rows of repeated cases"] if self.repeated else []
        lost += ["the rows without a case"] if self.without_case else []
        return lost


def conclude(step: ToLong, account: Account, tallies: Sequence[Tally | None]) -> Account:
    """Complete the account by what adds up over all parts."""
    known = [tally for tally in tallies if tally is not None]
    if not known:
        return account
    tally = combine_all(known)
    losses = tally.list_losses()
    hint = " (‹keep_empty› keeps all rows)" if tally.dropped and not step.keep_empty else ""
    note = Note(f"to-wide cannot restore: {'; '.join(losses)}{hint}.", kind="one-way")
    return replace(
        account,
        facts={**account.facts, "cannot_come_back": losses},
        listings=(tally.list_measures(), *account.listings),
        notes=(*account.notes, *([note] if losses else [])),
    )


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
            Words("{wide} rows x {times} ({occasions}) became {long} rows.", wide=wide, long=len(long),
                  times=pluralize(turn.times, "occasion"), occasions=shown),
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
            },
            (),
            (
                *self._note_choices(),
                *self._make_notes(),
                *self._note_lost_cases(),
                *self._note_repeated_cases(),
            ),
        )  # fmt: skip

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

    def make_tally(self) -> Tally:
        """Return what is known only when all parts are."""
        turn = self.turn
        repeated, without_case, _ = self._case_counts
        measures = [
            MeasureTally(
                name,
                tuple(columns[occasion] for occasion in turn.families.occasions if occasion in columns),
                len(self.long) - self.long[name].missing_count,
                self._count_missing(name),
            )
            for name, columns in turn.families.measures.items()
        ]
        return Tally(
            tuple(measures),
            tuple(turn.left_out),
            tuple(self._format_occasion(occasion) for occasion in turn.families.occasions),
            tuple(np.count_nonzero(~turn.is_dropped, axis=1).tolist()),
            int(np.count_nonzero(turn.is_dropped)),
            len(self._without_rows),
            self._count_lost_reasons(),
            len(repeated),
            len(without_case),
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
        text = Words(
            "{n:case has|cases have} no row in the result, since nothing was measured; "
            "‹keep_empty› keeps {n:=it|them}.",
            n=len(rows),
        )
        return (Note(text, ", ".join(self.turn.case), self._show_cases(rows), "lost-case", len(rows)),)

    def _show_cases(self, rows: np.ndarray) -> tuple[tuple[int, str | None], ...]:
        """Return the numbers of the first of some rows, with their cases."""
        first, case = rows[:MOST_EXAMPLES], self.turn.case
        texts = format_keys(self.turn.wide, case, first) if case else [None] * len(first)
        return self.turn.wide.show_rows(first, texts)

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
        name = ", ".join(self.turn.case)
        repeated = Words("{n:case is|cases are} in more than one row, so case and occasion repeat.", n=cases)
        examples = self.turn.wide.show_rows(without_case)
        missing = Words("{n:row} without a case.", n=len(without_case))
        return (
            Note(repeated, name, self._show_cases(rows), "repeated-case", cases),
            Note(missing, name, examples, "missing-case", len(without_case)),
        )

    # ----------------------------------------------------------------- way back

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
