"""The account of to-long: what became of every row and cell, and what could not come back."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lomrix.core.rows.keys import key_texts, row_codes
from lomrix.core.rows.occasions import FURTHER_OCCASIONS, Occasion, cut_short, each_or_all, told, told_together
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.reshape.turn import Turn
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

MOST_EXAMPLES = 5


@dataclass
class LongAccount:
    """What a turn did.

    Parameters
    ----------
    turn
        The table on its way.
    long
        The long table.
    """

    turn: Turn
    long: Table

    def account(self) -> Account:
        """The account."""
        turn, long = self.turn, self.long
        names = ", ".join(turn.families.names)
        shown = told_together(turn.families.names, turn.families.occasions, self._labels)
        wide = len(turn.wide)
        gone = int(np.count_nonzero(turn.dropped))
        full = ("rows with a measured value", self._measured_rows)
        return Account(
            "to-long",
            f"{wide:,} rows x {counted(turn.times, 'occasion', 'occasions')} ({shown}) became {len(long):,} rows.",
            (
                Balance(f"rows x occasions ({names})", wide * turn.times, (full, *self._empty_rows())),
                Balance(
                    "rows of the result",
                    wide * turn.times - gone,
                    (full, ("nothing measured, kept", len(long) - self._measured_rows)),
                    quiet=not turn.step.keep_empty,
                ),
                self._cells(),
            ),
            {
                "rows": len(long),
                "occasions": [list(occasion) for occasion in turn.families.occasions],
                "carried": [*turn.case, *turn.constants],
                "left_out_columns": turn.left_out,
                "cannot_come_back": self.cannot_come_back,
            },
            (self._formed(),),
            (*self._choices(), *self._notes(), *self._lost_cases(), *self._repeated_cases(), *self._one_way()),
            left_out=len(self._without_rows),
        )

    @cached_property
    def _measured_rows(self) -> int:
        """Rows of the result in which something was measured."""
        empty = np.ones(len(self.long), np.bool_)
        for name in self.turn.families.measures:
            empty &= self.long[name].is_missing
        return len(self.long) - int(np.count_nonzero(empty))

    def _at(self, occasion: Occasion) -> str:
        return told(self.turn.families.names, occasion, self._labels)

    @cached_property
    def _labels(self) -> dict[str, Codes]:
        """By occasion column the labels of its codes."""
        return {name: self.long.dictionary.labels_of(name) for name in self.turn.families.names}

    def _empty_rows(self) -> tuple[tuple[str, int], ...]:
        """The rows without a measured value, occasion by occasion."""
        turn, parts = self.turn, []
        empty = np.count_nonzero(turn.empty, axis=1)
        if not turn.step.keep_empty:
            parts = [
                (f"nothing measured at {self._at(occasion)}, left out", int(count))
                for occasion, count in zip(turn.families.occasions, empty, strict=True)
            ]
        else:
            never = np.count_nonzero(turn.never, axis=1)
            for occasion, count, none in zip(turn.families.occasions, empty, never, strict=True):
                parts.append((f"nothing measured at {self._at(occasion)}, kept", int(count - none)))
                parts.append((f"{NO_OCCASION} at {self._at(occasion)}, left out", int(none)))
        return cut_short(parts, FURTHER_OCCASIONS)

    def _cells(self) -> Balance:
        """Measured values: all that stood in the wide table must stand in the long one."""
        wide, long = self.turn.wide, self.long
        before = sum(len(wide) - wide[name].missing_count for name in self.turn.measured)
        after = [(name, len(long) - long[name].missing_count) for name in self.turn.families.measures]
        return Balance("measured values in the turned columns", before, each_or_all(after))

    def _formed(self) -> Listing:
        rows = []
        for name, at in self.turn.families.measures.items():
            columns = [at[occasion] for occasion in self.turn.families.occasions if occasion in at]
            shown = columns if len(columns) <= 8 else [*columns[:4], "…", *columns[-2:]]
            missing = self._missing_before(name)
            words = ", ".join(f"{count:,} {reason}" for reason, count in missing.items())
            values = len(self.long) - self.long[name].missing_count
            rows.append((name, len(columns), " ".join(shown), values, words or "none"))
        return Listing(
            "measures",
            ("measure", "columns", "formed from", "values", "missing, before rows are left out"),
            tuple(rows),
        )

    # ------------------------------------------------------------------- notes

    def _choices(self) -> tuple[Note, ...]:
        """What was not said by the person, and where it was taken from."""
        turn = self.turn
        if turn.guessed is not None:
            words = [f"‹case={','.join(turn.case)}›"] if turn.case else []
            words += [f"‹header={template}›" for template in turn.guessed.templates]
            words += [f"‹value_name={name}›" for name in turn.guessed.value_names]
            words += [f"‹occasions={text}›" for text in turn.guessed.occasions]
            return (Note(f"guessed: {' '.join(words)}", kind="guessed"),)
        if turn.memory is not None and not turn.step.header:
            return (Note("names, order and labels are those from before to-wide.", kind="remembered"),)
        return ()

    def _notes(self) -> tuple[Note, ...]:
        turn, notes = self.turn, []
        if turn.constants or turn.case:
            carried = [*turn.case, *turn.constants]
            notes.append(Note(f"carried along: {some_of(carried)}.", kind="carried", count=len(carried), done=True))
        if turn.families.as_said:
            text = f"as ‹occasions› says, {some_of(turn.families.as_said)}."
            notes.append(Note(text, kind="occasions-said", count=len(turn.families.as_said), done=True))
        if turn.left_out:
            text = f"columns left out: {some_of(turn.left_out)}."
            notes.append(Note(text, kind="left-out", count=len(turn.left_out)))
        if turn.families.set_aside:
            names = some_of(turn.families.set_aside)
            text = f"not turned, though the template fits: no occasion like the others' stands in the name of {names}."
            notes.append(Note(text, kind="set-aside", count=len(turn.families.set_aside)))
        if turn.families.joined_digits:
            names = some_of(turn.families.joined_digits)
            text = f"digits of the measure's name may have been taken for the occasion in {names}; "
            text += f"a width such as {{{turn.families.names[0]}:02}} in the template takes the last two alone."
            notes.append(Note(text, kind="joined-digits", count=len(turn.families.joined_digits)))
        if not turn.case:
            notes.append(Note("no ‹case› was named, so the column row numbers the rows.", kind="row-number", done=True))
        return tuple(notes)

    @cached_property
    def _without_rows(self) -> np.ndarray:
        """Rows of the wide table of which nothing is left."""
        turn = self.turn
        return np.flatnonzero(turn.dropped.all(axis=0))

    def _lost_cases(self) -> tuple[Note, ...]:
        rows = self._without_rows
        if not len(rows):
            return ()
        some = rows[:MOST_EXAMPLES]
        texts = key_texts(self.turn.wide, self.turn.case, some) if self.turn.case else [None] * len(some)
        examples = tuple(zip((some + self.turn.wide.first_row).tolist(), texts, strict=True))
        count = counted(len(rows), "case has", "cases have")
        whom = plural(len(rows), "it", "them")
        text = f"{count} no row in the result, since nothing was measured of {whom}; ‹keep_empty› keeps {whom}."
        return (Note(text, ", ".join(self.turn.case), examples, "lost-case", len(rows)),)

    @cached_property
    def _case_counts(self) -> tuple[np.ndarray, np.ndarray, int]:
        """Rows whose case stands in several rows, rows without a case, and how many such cases there are."""
        if not self.turn.case:
            return np.zeros(0, np.int64), np.zeros(0, np.int64), 0
        codes, size = row_codes(self.turn.wide, self.turn.case)
        without = np.flatnonzero(codes < 0)
        counts = np.bincount(codes if not len(without) else codes[codes >= 0], minlength=size)
        if counts.max(initial=0) <= 1:
            return np.zeros(0, np.int64), without, 0
        repeated = np.flatnonzero(np.append(counts > 1, False)[codes])
        return repeated, without, int(np.count_nonzero(counts > 1))

    def _repeated_cases(self) -> tuple[Note, ...]:
        rows, gone, cases = self._case_counts
        wide, notes, name = self.turn.wide, [], ", ".join(self.turn.case)
        if len(rows):
            texts = key_texts(wide, self.turn.case, rows[:MOST_EXAMPLES])
            examples = tuple(zip((rows[:MOST_EXAMPLES] + wide.first_row).tolist(), texts, strict=True))
            text = f"{counted(cases, 'case stands', 'cases stand')} in more than one row, so case and occasion repeat."
            notes.append(Note(text, name, examples, "repeated-case", cases))
        if len(gone):
            nothing = tuple((int(row) + wide.first_row, None) for row in gone[:MOST_EXAMPLES])
            text = f"{counted(len(gone), 'row', 'rows')} without a case."
            notes.append(Note(text, name, nothing, "missing-case", len(gone)))
        return tuple(notes)

    # ----------------------------------------------------------------- way back

    @cached_property
    def cannot_come_back(self) -> list[str]:
        """What to-wide could not bring back from the long table."""
        turn, lost = self.turn, []
        if turn.left_out:
            lost.append(counted(len(turn.left_out), "column that was left out", "columns that were left out"))
        if len(self._without_rows):
            lost.append(counted(len(self._without_rows), "case without a row", "cases without a row"))
        left = np.count_nonzero(~turn.dropped, axis=1).tolist()
        gone = [occasion for occasion, rows in zip(turn.families.occasions, left, strict=True) if not rows]
        if gone:
            lost.append("the columns of " + ", ".join(self._at(occasion) for occasion in gone[:MOST_EXAMPLES]))
        reasons = self._lost_reasons()
        if reasons:
            words = ", ".join(f"{count:,} {reason}" for reason, count in reasons.items())
            lost.append(f"why cells of the rows left out are missing ({words})")
        repeated, without, _ = self._case_counts
        if len(repeated):
            lost.append("the rows of repeated cases")
        if len(without):
            lost.append("the rows without a case")
        return lost

    def _missing_before(self, measure: str) -> dict[str, int]:
        """Why cells of a measure were missing before any row was left out."""
        turn, counts = self.turn, Counter[str]()
        at = turn.families.measures[measure]
        for occasion in turn.families.occasions:
            counts.update(turn.wide[at[occasion]].reason_counts() if occasion in at else {NO_OCCASION: len(turn.wide)})
        return {reason: count for reason, count in counts.items() if count}

    def _lost_reasons(self) -> dict[str, int]:
        """Reasons other than that there was no occasion, in the rows left out."""
        counts = Counter[str]()
        if self.turn.gone is not None:
            for measure in self.turn.families.measures:
                counts.update(self._missing_before(measure))
                counts.subtract(self.long[measure].reason_counts())
        return {reason: count for reason, count in counts.items() if count and reason != NO_OCCASION}

    def _one_way(self) -> tuple[Note, ...]:
        if not self.cannot_come_back:
            return ()
        hint = "" if self.turn.step.keep_empty or self.turn.gone is None else " (‹keep_empty› keeps all rows)"
        return (Note(f"to-wide could not bring back: {'; '.join(self.cannot_come_back)}{hint}.", kind="one-way"),)
