"""From spells to long: one row for each day, week, month, quarter or year that a spell covers."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import encode_rows
from lomrix.core.rows.spells import TIMES, Spells
from lomrix.core.steps.account import Account, Balance, Part
from lomrix.core.steps.reshape.to_long import ToLong, parse_day
from lomrix.core.steps.settings import parse_spell
from lomrix.core.steps.step import Result
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.variable import NO_ENTRY
from lomrix.core.wording import shorten_list

DAYS = "days"
MONTHS = {"month": 1, "quarter": 3, "year": 12}
# Day 0 is a Thursday; weeks begin on Monday, as ISO 8601 has them.
MONDAY = 3
Days = npt.NDArray[np.int64]


def to_stretch(days: Days, unit: str) -> Days:
    """Return the number of the stretch in which each day is.

    >>> to_stretch(np.array([0, 3, 4]), "week"), to_stretch(np.array([0, 31, 365]), "month")
    (array([0, 0, 1]), array([ 0,  1, 12]))
    """
    if unit in MONTHS:
        return np.asarray(days.astype("M8[D]").astype("M8[M]").astype(np.int64) // MONTHS[unit])
    return days if unit == "day" else (days + MONDAY) // 7


def find_first_day(stretches: Days, unit: str) -> Days:
    """Return the first day of each stretch."""
    if unit in MONTHS:
        return np.asarray((stretches * MONTHS[unit]).astype("M8[M]").astype("M8[D]").astype(np.int64))
    return stretches if unit == "day" else stretches * 7 - MONDAY


@dataclass
class SpellTurn:
    """Spells being turned into one row for each stretch that they cover."""

    step: ToLong
    table: Table

    def __post_init__(self) -> None:
        self.start, self.end = parse_spell(self.step.spell)
        for name in (self.start, self.end):
            if self.table[name].type not in TIMES and not self.table[name].is_without_values:
                raise DataError(
                    f"{name} is {self.table[name].type}, but the ends of spells are dates here.",
                    todo=f"Correct the cells that are not (check lists them), or state ‹type={name}=date›.",
                    columns=[name],
                )
        codes, size = np.arange(len(self.table)), len(self.table)
        if self.step.case:
            codes, size = encode_rows(self.table, self.step.case)
        self.spells = Spells(self.table, self.start, self.end, codes, size)
        self._require_order()

    def _require_order(self) -> None:
        rows = np.flatnonzero(self.spells.is_reversed)
        if len(rows):
            numbers = shorten_list(map(str, (rows + self.table.first_row).tolist()), 4)
            raise DataError(
                f"{pluralize(len(rows), 'spell ends before its', 'spells end before their')} start.",
                where=f"{self.table.name}, row {numbers}",
                todo=f"Correct {self.start} or {self.end}; check lists them with ‹spell={self.step.spell}›.",
                columns=[self.start, self.end],
            )
        open_rows = np.flatnonzero(self.spells.is_open & ~self.spells.has_no_start)
        if len(open_rows) and not self.step.until:
            numbers = shorten_list(map(str, (open_rows + self.table.first_row).tolist()), 4)
            raise DataError(
                f"{pluralize(len(open_rows), 'spell has', 'spells have')} no end.",
                where=f"{self.table.name}, row {numbers}",
                todo="Use ‹until=2024-12-31› to say which day is the last that counts.",
                columns=[self.end],
            )

    @cached_property
    def last_day(self) -> int | None:
        """The last day that counts, in days since 1970; None if there is none."""
        return int(np.datetime64(parse_day(self.step.until), "D").astype(np.int64)) if self.step.until else None

    @cached_property
    def first_days(self) -> Days:
        """First day of each spell."""
        return self._to_days(self.start)

    @cached_property
    def last_days(self) -> Days:
        """Last day of each spell, not later than the last that counts."""
        days = self._to_days(self.end)
        if self.last_day is None:
            return days
        return np.where(self.spells.is_open, self.last_day, np.minimum(days, self.last_day))

    def _to_days(self, name: str) -> Days:
        return np.asarray(self.table[name].fit_type("date").values.astype("M8[D]").astype(np.int64))

    @cached_property
    def is_late(self) -> npt.NDArray[np.bool_]:
        """True for spells that start later than the last day that counts."""
        if self.last_day is None:
            return np.zeros(len(self.table), np.bool_)
        return np.asarray(~self.spells.has_no_start & (self.first_days > self.last_day))

    @cached_property
    def used(self) -> npt.NDArray[np.int64]:
        """The spells that have rows."""
        return np.flatnonzero(~self.spells.has_no_start & ~self.is_late)

    @cached_property
    def stretches(self) -> tuple[Array, Days, Days]:
        """For each row of the result its spell, the number of the stretch, and the days of it that the spell covers."""
        unit = str(self.step.every)
        start, end = self.first_days[self.used], self.last_days[self.used]
        first = to_stretch(start, unit)
        counts = to_stretch(end, unit) - first + 1
        which = np.repeat(np.arange(len(self.used)), counts)
        stretch = first[which] + np.arange(len(which)) - np.repeat(np.cumsum(counts) - counts, counts)
        begin, finish = find_first_day(stretch, unit), find_first_day(stretch + 1, unit) - 1
        days = np.minimum(end[which], finish) - np.maximum(start[which], begin) + 1
        return self.used[which], stretch, days

    def make_table(self) -> Table:
        """Return the rows: case, stretch, days, and the other columns."""
        rows, stretch, days = self.stretches
        unit = str(self.step.every)
        for name, what in ((unit, "the stretch"), (DAYS, "the number of days")):
            require_new_name(name, self.table.names, what)
        first_day = find_first_day(stretch, unit)
        value = (
            Column.of("integer", first_day.astype("M8[D]").astype("M8[Y]").astype(np.int64) + 1970)
            if unit == "year"
            else Column.of("date", first_day.astype("M8[D]"))
        )
        taken = self.table.take(rows)
        columns = {name: taken[name] for name in self.step.case}
        columns |= {unit: value, DAYS: Column.of("integer", days), **taken.columns}
        label = "Year" if unit == "year" else "Day" if unit == "day" else f"First day of the {unit}"
        dictionary = self.table.dictionary.with_variable(unit, NO_ENTRY.with_parts(label=label, level="occasion"))
        entry = NO_ENTRY.with_parts(label=f"Days of the {unit} in the spell", unit="d", level="occasion")
        return Table(columns, dictionary.with_variable(DAYS, entry).for_columns(columns), name=self.table.name)

    def make_account(self, result: Table) -> Account:
        """Report what became of the spells and their days."""
        total = int((self.last_days - self.first_days + 1)[self.used].sum())
        spells = pluralize(len(self.used), "spell")
        units = f"{self.step.every}s" if len(result) != 1 else str(self.step.every)
        late = Part("left out", int(np.count_nonzero(self.is_late)), "too-late", self.step.until)
        return Account(
            "to-long",
            f"{spells} of {total:,} days became {len(result):,} rows, one for each of their {units}.",
            (
                Balance("spells", len(self.table), (
                    Part("kept", len(self.used)), late,
                    Part("left out", int(np.count_nonzero(self.spells.has_no_start)), "no-start"),
                ), self.table.name),
                Balance("days", total, (Part("kept", int(self.stretches[2].sum()), "in-result"),)),
            ),
            {"rows": len(result), "spells": len(self.used), "days": total},
            (),
            tuple(self._make_notes()),
        )  # fmt: skip

    def _make_notes(self) -> list[Note]:
        notes = []
        if self.last_day is not None:
            is_open = int(np.count_nonzero(self.spells.is_open[self.used]))
            cut = int(np.count_nonzero(self._to_days(self.end)[self.used] > self.last_day))
            for count, what in ((is_open, "no end"), (cut, "a later end")):
                if count:
                    verb = plural(count, "stops", "stop")
                    text = f"{pluralize(count, 'spell')} with {what} {verb} on {self.step.until}."
                    notes.append(Note(text, self.end, (), "spell-open", count, done=True))
        if self.step.case:
            later, earlier = self.spells.overlaps
            if len(later):
                text = (
                    f"{pluralize(len(later), 'spell overlaps', 'spells overlap')} an earlier one, so that days count "
                )
                text += f"twice: {self.spells.show_pairs(self.step.case, (later, earlier))}."
                notes.append(Note(text, self.start, (), "spell-overlap", len(later)))
        return notes


def turn_spells(step: ToLong, table: Table) -> Result:
    """Turn spells into one row for each stretch that they cover.

    Raises DataError if a spell ends before it starts, or has no end and no last day is stated.
    """
    turn = SpellTurn(step, table)
    result = turn.make_table()
    return Result(result, turn.make_account(result))
