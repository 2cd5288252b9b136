"""Match rows by key and the spell that covers their day, such as visits to postings."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import format_keys
from lomrix.core.rows.spells import Spells
from lomrix.core.steps.account import Balance, Kind, Listing, Part
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.settings import During, Relationship
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.reasons import NO_SPELL
from lomrix.core.wording import shorten_list

MOST_EXAMPLES = 3
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

    @cached_property
    def relationship(self) -> Relationship:
        """The relationship that days and spells show."""
        many_base = bool(np.bincount(self.pairs[1], minlength=1).max(initial=0) > 1)
        if self.spell_counts.max(initial=0) > 1:
            return "many-to-many" if many_base else "one-to-many"
        return "many-to-one" if many_base else "one-to-one"

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
        several = np.flatnonzero(self.spell_counts > 1)
        names = [name for name, _ in self.key]
        if len(several) and self.step.expect not in ("one-to-many", "many-to-many"):
            later, earlier = self.spells.overlaps
            meets = np.isin(later, self.pairs[1])
            overlaps = self.spells.format_pairs([name for _, name in self.key], (later[meets], earlier[meets]))
            verb = plural(len(several), "is", "are")
            raise DataError(
                f"The {self.during.day} of {pluralize(len(several), 'row')} {verb} in several spells of "
                f"{self.added.name}.",
                where=f"spells that overlap: {overlaps}",
                todo="Correct the spells, or add ‹expect=many-to-many› to have a row for each of them.",
            )
        used = np.bincount(self.pairs[1], minlength=1)
        if self.step.expect in ("one-to-one", "one-to-many") and used.max(initial=0) > 1:
            spell = int(used.argmax())
            rows = self.pairs[0][self.pairs[1] == spell]
            numbers = shorten_list(map(str, (rows + self.base.first_row).tolist()), 4)
            raise DataError(
                f"{pluralize(int((used > 1).sum()), 'spell')} of {self.added.name} would match several rows.",
                where=f"{format_keys(self.base, names, rows[:1])[0]}: rows {numbers}",
                todo="Correct the rows, or use ‹expect=many-to-one›.",
            )

    # ----------------------------------------------------------------- account

    def _balance_keys(self) -> tuple[Balance, ...]:
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

    def _list_first_unmatched(self) -> tuple[Listing, ...]:
        first = np.flatnonzero(self.has_day & ~self.base_matched)[:MOST_EXAMPLES]
        if not len(first):
            return ()
        keys = format_keys(self.base, [name for name, _ in self.key], first)
        days = format_keys(self.base, [self.during.day], first)
        why = ["outside its spells" if outside else "no spell at all" for outside in self.is_outside[first]]
        rows = zip(keys, days, (first + self.base.first_row).tolist(), why, strict=True)
        return (Listing("first rows without a spell", ("key", self.during.day, "row", "why"), tuple(rows)),)

    def _note_few_repeated(self) -> tuple[Note, ...]:
        """Note spells that cannot be used, and those that overlap."""
        notes = []
        case = [name for _, name in self.key]
        for rows, what in ((self.spells.has_no_start, "without a start"), (self.spells.is_reversed, "that end first")):
            if count := int(np.count_nonzero(rows)):
                numbers = shorten_list(map(str, (np.flatnonzero(rows) + self.added.first_row).tolist()), 4)
                text = f"{pluralize(count, 'spell')} {what} cover nothing: row {numbers}."
                notes.append(Note(text, self.during.start, (), "spell-unusable", count))
        later, earlier = self.spells.overlaps
        if len(later):
            text = f"{pluralize(len(later), 'spell')} of {self.added.name} {plural(len(later), 'overlaps', 'overlap')} "
            text += f"an earlier one: {self.spells.format_pairs(case, (later, earlier))}."
            notes.append(Note(text, self.during.start, (), "spell-overlap", len(later)))
        return tuple(notes)
