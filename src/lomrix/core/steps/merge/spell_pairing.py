"""Match rows by key and the spell that covers their day, such as visits to postings."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, First, Shown, Words
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import format_keys
from lomrix.core.rows.spells import Spells
from lomrix.core.steps.account import Balance, Kind, Part
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.settings import During
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import NO_SPELL
from lomrix.core.wording import shorten_list

Mask = npt.NDArray[np.bool_]


@dataclass
class SpellPairing(Pairing):
    """Rows matched by key and spell; a base row gets every spell that covers its day, both ends included."""

    during: During

    @cached_property
    def spells(self) -> Spells:
        """The added spells."""
        day = self.base[self.during.day]
        start, end = self.during.start, self.during.end
        return Spells(self.added, start, end, self.keys.added, self.keys.size, day, self.during.day)

    @cached_property
    def has_day(self) -> Mask:
        """True for base rows with a key and a day."""
        return np.asarray((self.keys.base >= 0) & ~self.base[self.during.day].is_missing)

    @cached_property
    def pairs(self) -> tuple[Array, Array]:
        """Base row and added row of each match, in the order of the base."""
        return self.spells.sorted.find_covering(np.where(self.has_day, self.keys.base, -1))

    @cached_property
    def spell_counts(self) -> npt.NDArray[np.int64]:
        """How many spells cover the day of each base row."""
        return np.bincount(self.pairs[0], minlength=len(self.base))

    @property
    def several(self) -> tuple[int, int]:
        """Numbers of base rows that have several spells, and of spells that cover several base rows."""
        used = np.bincount(self.pairs[1], minlength=1)
        return int(np.count_nonzero(self.spell_counts > 1)), int(np.count_nonzero(used > 1))

    @cached_property
    def base_matched(self) -> Mask:
        """For each base row whether a spell covers its day."""
        return np.asarray(self.spell_counts > 0)

    @cached_property
    def added_matched(self) -> Mask:
        """For each spell whether it covers a day."""
        matched = np.zeros(len(self.added), np.bool_)
        matched[self.pairs[1]] = True
        return matched

    @cached_property
    def is_outside(self) -> Mask:
        """True for base rows whose case has spells, none of which covers the day."""
        return np.asarray(self.has_day & self.counts.shared(self.keys.base) & ~self.base_matched)

    def _pair_rows(self) -> tuple[Array, Array]:
        base_rows = np.repeat(np.arange(len(self.base)), np.maximum(self.spell_counts, 1))
        added_rows = np.full(len(base_rows), -1, np.int64)
        added_rows[self.base_matched[base_rows]] = self.pairs[1]
        return base_rows, added_rows

    @property
    def expected_pairs(self) -> int:
        """Rows of the result that are in both tables."""
        return len(self.pairs[0])

    def _take_added(self, column: Column) -> Column:
        result = super()._take_added(column)
        outside = (self.added_rows < 0) & (self.base_rows >= 0) & np.append(self.is_outside, False)[self.base_rows]
        return result.clear_missing(outside).with_missing(outside, NO_SPELL)

    # ------------------------------------------------------------- expectation

    def require_expected(self) -> None:
        """Stop if a day is in several spells, or a spell covers several rows, against the expectation.

        Raises DataError naming the spells that overlap, or the first rows.
        """
        days, used = self.several
        if days and self.step.expect not in ("one-to-many", "many-to-many"):
            later, earlier = self.spells.overlaps
            meets = np.isin(later, self.pairs[1])
            case = [name for _, name in self.key]
            raise DataError(
                Words("The {day} of {rows:row} {rows:=is|are} in several spells of {table}.",
                      day=self.during.day, rows=days, table=self.added.name),
                where=self.spells.show_pairs(case, (later[meets], earlier[meets]), "spells that overlap: "),
                todo="Correct the spells, or add ‹expect=many-to-many› to have a row for each of them.",
            )  # fmt: skip
        if used and self.step.expect in ("one-to-one", "one-to-many"):
            again = np.bincount(self.pairs[1])[self.pairs[1]] > 1
            rows = self.pairs[0][again & (self.pairs[1] == self.pairs[1][again.argmax()])]
            numbers = self.base.number_rows(rows)
            text = f"{format_keys(self.base, [name for name, _ in self.key], rows[:1])[0]}: rows "
            raise DataError(
                Words("{spells:spell} of {table} would match several rows.", spells=used, table=self.added.name),
                where=Shown([(numbers[0], text + shorten_list(map(str, numbers), 4))], used, most=1),
                todo="Correct the rows, or use ‹expect=many-to-one›.",
                rank=1,
            )

    # ----------------------------------------------------------------- account

    def balance_keys(self) -> tuple[Balance, ...]:
        """Keys alone do not decide here."""
        return ()

    def _balance_side(self, table: object, codes: Array, matched: Mask, kept: bool) -> Balance:
        if table is not self.base:
            return super()._balance_side(self.added, codes, matched, kept)
        fate: Kind = "kept" if kept else "left out"
        no_day = (codes >= 0) & ~self.has_day
        counts = {"no-spell": self.is_outside, "unmatched": self.has_day & ~matched & ~self.is_outside,
                  "no-day": no_day, "key-missing": codes < 0}  # fmt: skip
        parts = (Part(fate, int(np.count_nonzero(rows)), cause) for cause, rows in counts.items())
        return Balance("rows", len(self.base), (Part("kept", int(np.count_nonzero(matched)), "matched"), *parts),
                       self.base.name)  # fmt: skip

    @property
    def without_spell(self) -> First:
        """The first rows without a spell: key, day, and why."""
        first = np.flatnonzero(self.has_day & ~self.base_matched)[:MOST_EXAMPLES]
        keys = format_keys(self.base, [name for name, _ in self.key], first)
        days = format_keys(self.base, [self.during.day], first)
        why = ["outside its spells" if outside else "no spell at all" for outside in self.is_outside[first]]
        return First(self.base.show_rows(first, zip(keys, days, why, strict=True)))

    @property
    def notes(self) -> tuple[Note, ...]:
        """Note spells that cannot be used, and those that overlap."""
        notes = list(super().notes)
        reversed_ = "that {spells:=ends before it starts|end before they start}"
        for is_unusable, what in ((self.spells.has_no_start, "without a start"), (self.spells.is_reversed, reversed_)):
            rows = np.flatnonzero(is_unusable)
            words = Words("{spells:spell} " + what + " {spells:=covers|cover} nothing.", spells=len(rows))
            notes.append(Note(words, self.during.start, self.added.show_rows(rows), "spell-unusable", len(rows)))
        later, earlier = self.spells.overlaps
        words = Words(
            "{spells:spell} of {table} {spells:=overlaps|overlap} an earlier one.",
            spells=len(later),
            table=self.added.name,
        )
        pairs = self.spells.show_pairs([name for _, name in self.key], (later, earlier))
        notes.append(Note(words, self.during.start, tuple(pairs.items), "spell-overlap", len(later)))
        return tuple(notes)
