"""To long: from one row per case to one row per case and occasion."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import layout
from lomrix.core.errors import DataError
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.families import Families, Occasion, families_of
from lomrix.core.steps.keys import grouped, key_texts
from lomrix.core.steps.step import Result, Step
from lomrix.core.table.column import DTYPES, FILLERS, Column, Type, common_type
from lomrix.core.table.header import HeaderTemplate, occasion_text
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.pool import Pool, chained
from lomrix.core.table.reasons import NO_OCCASION, joined_reasons, renumbered
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.variable import NOTHING_KNOWN, Variable

ROW_NUMBER = "row"
MOST_EXAMPLES = 5


class ToLong(Step):
    """Turn repeated columns into rows.

    Parameters
    ----------
    header
        Header template, such as `{measure}_m{month}`.
    case
        Columns that name the case; a row number is made where empty.
    constant
        Which of the other columns are carried; all where empty.
    keep_empty
        Keep the rows in which nothing was measured.
    """

    header: str
    case: tuple[str, ...] = ()
    constant: str = ""
    keep_empty: bool = False

    @property
    def kept_together(self) -> tuple[str, ...]:
        """None: each row is turned on its own."""
        return ()

    def apply(self, *tables: Table) -> Result:
        """Turn the table."""
        (table,) = tables
        work = Turn(self, table)
        long = work.table()
        return Result(long, work.account(long))


@dataclass
class Turn:
    """One table on its way from wide to long."""

    step: ToLong
    wide: Table

    @cached_property
    def families(self) -> Families:
        """The repeated columns."""
        for name in self.step.case:
            self.wide[name]
        asked = self._asked_constants()
        free = [name for name in self.wide.names if name not in self.step.case and name not in asked]
        return families_of(free, HeaderTemplate.parsed(self.step.header))

    def _asked_constants(self) -> list[str]:
        if not self.step.constant:
            return []
        return chosen_columns(self.step.constant, self.wide.types(), self.wide.name)

    @cached_property
    def measured(self) -> set[str]:
        """The columns that were turned."""
        return {name for columns in self.families.measures.values() for name in columns.values()}

    @cached_property
    def constants(self) -> list[str]:
        """The columns that are carried, beside the case."""
        rest = [name for name in self.wide.names if name not in self.measured and name not in self.step.case]
        asked = self._asked_constants()
        return [name for name in rest if name in asked] if asked else rest

    @property
    def left_out(self) -> list[str]:
        """The columns that are neither measured nor carried."""
        used = {*self.measured, *self.constants, *self.step.case}
        return [name for name in self.wide.names if name not in used]

    @property
    def times(self) -> int:
        """Number of occasions."""
        return len(self.families.occasions)

    # ----------------------------------------------------------------- columns

    @cached_property
    def measures(self) -> dict[str, Column]:
        """Every measure over all cases and occasions, empty rows among them."""
        return {name: self._measure(name, columns) for name, columns in self.families.measures.items()}

    def _measure(self, measure: str, at: dict[Occasion, str]) -> Column:
        names = [at.get(occasion) for occasion in self.families.occasions]
        found = [self.wide[name] for name in names if name is not None]
        type_ = common_type(found) or self._refuse_types(measure, at)
        columns = [None if name is None else self.wide[name].widened(type_) for name in names]
        rows = len(self.wide)
        reasons = joined_reasons(*(column.reasons for column in columns if column is not None))
        if None in columns:
            reasons = joined_reasons(reasons, (NO_OCCASION,))
        why = None
        if None in columns or any(column is not None and column.why is not None for column in columns):
            nothing = np.zeros(rows, np.uint8)
            parts = [
                None if one is None else nothing if one.why is None else renumbered(one.why, one.reasons, reasons)
                for one in columns
            ]
            absent = reasons.index(NO_OCCASION) + 1 if None in columns else 0
            why = layout.interleaved(parts, rows, absent, np.uint8)
        if type_ == "string":
            return self._measure_of_texts(columns, why, reasons)
        arrays = [None if one is None else one.values for one in columns]
        return Column.of(type_, layout.interleaved(arrays, rows, FILLERS[type_], DTYPES[type_]), why, reasons)

    def _measure_of_texts(self, columns: list[Column | None], why: Any, reasons: tuple[str, ...]) -> Column:
        pool = Pool.of([])
        arrays: list[npt.NDArray[np.int32] | None] = []
        for column in columns:
            if column is None:
                arrays.append(None)
                continue
            pool, start = chained(pool, column.strings)
            arrays.append(np.where(column.values < 0, -1, column.values + start).astype(np.int32))
        positions = layout.interleaved(arrays, len(self.wide), -1, np.int32)
        return Column.of_strings(positions, pool, why, reasons)

    def _refuse_types(self, measure: str, at: dict[Occasion, str]) -> Type:
        types = {name: self.wide[name].type for name in at.values()}
        texts = [name for name, type_ in types.items() if type_ == "string"]
        raise DataError(
            f"The measure {measure} is not of one type over its occasions.",
            where=", ".join(f"{name} is {type_}" for name, type_ in types.items()),
            todo=f"Mend the cells that keep {', '.join(texts) or 'one of them'} from being numbers "
            "(the notes of the reading name them), or name them as missing codes in the dictionary.",
        )

    @cached_property
    def empty(self) -> npt.NDArray[np.bool_]:
        """True for the rows in which nothing was measured."""
        empty = np.ones(len(self.wide) * self.times, np.bool_)
        for column in self.measures.values():
            if column.why is None:
                return np.zeros(len(empty), np.bool_)
            empty &= column.why != 0
        return empty

    # ------------------------------------------------------------------- table

    def table(self) -> Table:
        """The long table: case, occasions, constants, measures."""
        rows = len(self.wide)
        keep: npt.NDArray[Any] | None = None
        if not self.step.keep_empty and self.empty.any():
            keep = np.flatnonzero(~self.empty)
        source = layout.repeated_rows(rows, self.times)
        source = source if keep is None else source[keep]
        columns: dict[str, Column] = {}
        if not self.step.case:
            require_free(ROW_NUMBER, [*self.constants, *self.families.measures], "the row number")
            columns[ROW_NUMBER] = Column.of("integer", source + 1)
        columns |= {name: self.wide[name].take(source) for name in self.step.case}
        columns |= self._occasions(keep)
        columns |= {name: self.wide[name].take(source) for name in self.constants}
        for name, column in self.measures.items():
            require_free(name, columns, f"the measure {name}")
            columns[name] = column if keep is None else column.take(keep)
        dictionary = self.wide.dictionary
        for name, at in self.families.measures.items():
            dictionary = dictionary.with_variable(name, self._described(name, at))
        return Table(columns, dictionary.for_columns(columns), self.wide.history, self.wide.name)

    def _occasions(self, keep: npt.NDArray[Any] | None) -> dict[str, Column]:
        columns = {}
        for place, name in enumerate(self.families.names):
            require_free(name, [*self.step.case, *self.constants, *self.families.measures], f"the occasion {name}")
            values = [occasion[place] for occasion in self.families.occasions]
            over = layout.tiled(np.arange(self.times, dtype=np.int32), len(self.wide))
            over = over if keep is None else over[keep]
            if isinstance(values[0], str):
                pool = Pool.of(list(dict.fromkeys(values)))
                at = {text: number for number, text in enumerate(pool.texts())}
                columns[name] = Column.of_strings(np.array([at[one] for one in values], np.int32)[over], pool)
            else:
                array = np.array(values)
                columns[name] = Column.of("integer" if array.dtype.kind == "i" else "number", array[over])
        return columns

    def _described(self, measure: str, at: dict[Occasion, str]) -> Variable:
        """The measure's dictionary entry: what its columns have in common."""
        entries = [self.wide.dictionary.of(name) for name in at.values()]
        entry = next((one for one in entries if one != NOTHING_KNOWN), NOTHING_KNOWN)
        missing = {code: reason for one in reversed(entries) for code, reason in one.missing.items()}
        own = self.wide.dictionary.variables.get(measure)
        label = own.label if own and own.label else common_label([one.label for one in entries])
        if entry == NOTHING_KNOWN and own is None:
            return NOTHING_KNOWN
        return entry.with_(label=label, missing=missing, level="occasion", type=None)

    # ----------------------------------------------------------------- account

    def account(self, long: Table) -> Account:
        """What the turn did."""
        names = ", ".join(self.families.names)
        empty_at = np.count_nonzero(self.empty.reshape(len(self.wide), self.times), axis=0)
        kept = self.step.keep_empty
        parts = tuple(
            (f"nothing measured at {self._at(occasion)}{', kept' if kept else ', left out'}", int(count))
            for occasion, count in zip(self.families.occasions, empty_at, strict=True)
            if count
        )
        full = ("rows with a measured value", int(np.count_nonzero(~self.empty)))
        left_out = 0 if kept else int(empty_at.sum())
        shown = [self._at(occasion) for occasion in self.families.occasions]
        shown = shown if len(shown) <= 12 else [*shown[:6], "…", *shown[-3:]]
        return Account(
            "to-long",
            f"{len(self.wide):,} rows x {self.times} occasions ({', '.join(shown)}) became {len(long):,} rows.",
            (
                Balance(f"rows x occasions ({names})", len(self.wide) * self.times, (full, *parts)),
                Balance(
                    "rows in the result and left out",
                    len(long) + left_out,
                    (full, ("nothing measured", int(empty_at.sum()))),
                ),
                self._cells(long),
            ),
            {
                "rows": len(long),
                "occasions": [list(occasion) for occasion in self.families.occasions],
                "carried": [*self.step.case, *self.constants],
                "left_out_columns": self.left_out,
            },
            (self._formed(),),
            (*self._notes(), *self._repeated_cases()),
        )

    def _at(self, occasion: Occasion) -> str:
        return ", ".join(
            f"{name} {occasion_text(value)}" for name, value in zip(self.families.names, occasion, strict=True)
        )

    def _cells(self, long: Table) -> Balance:
        """Measured values: all that stood in the wide table must stand in the long one."""
        before = sum(len(self.wide) - self.wide[name].missing_count for name in self.measured)
        after = tuple((name, len(long) - long[name].missing_count) for name in self.families.measures)
        return Balance("measured values in the turned columns", before, after)

    def _formed(self) -> Listing:
        rows = []
        for name, at in self.families.measures.items():
            columns = [at[occasion] for occasion in self.families.occasions if occasion in at]
            shown = columns if len(columns) <= 8 else [*columns[:4], "…", *columns[-2:]]
            missing = self.measures[name].reason_counts()
            told = ", ".join(f"{count:,} {reason}" for reason, count in missing.items())
            rows.append((name, len(columns), " ".join(shown), told or "none"))
        return Listing(
            "measures", ("measure", "columns", "formed from", "missing, before rows are left out"), tuple(rows)
        )

    def _notes(self) -> tuple[Note, ...]:
        notes = []
        if self.constants or self.step.case:
            carried = [*self.step.case, *self.constants]
            notes.append(Note(f"carried along: {listed(carried)}.", kind="carried", count=len(carried)))
        if self.left_out:
            notes.append(Note(f"columns left out: {listed(self.left_out)}.", kind="left-out", count=len(self.left_out)))
        if self.families.set_aside:
            text = f"not turned, since the occasion in the name is no number: {listed(list(self.families.set_aside))}."
            notes.append(Note(text, kind="set-aside", count=len(self.families.set_aside)))
        if not self.step.case:
            notes.append(Note(f"no --case was named, so the column {ROW_NUMBER} numbers the rows.", kind="row-number"))
        return tuple(notes)

    def _repeated_cases(self) -> tuple[Note, ...]:
        if not self.step.case:
            return ()
        groups = grouped(self.wide, self.step.case)
        counts = np.bincount(groups.codes[groups.codes >= 0], minlength=groups.count)
        notes = []
        rows = np.flatnonzero(np.append(counts > 1, False)[groups.codes])
        if len(rows):
            texts = key_texts(self.wide, self.step.case, rows[:MOST_EXAMPLES])
            examples = tuple(zip((rows[:MOST_EXAMPLES] + self.wide.first_row).tolist(), texts, strict=True))
            cases = int(np.count_nonzero(counts > 1))
            text = f"{counted(cases, 'case stands', 'cases stand')} in more than one row, so case and occasion repeat."
            notes.append(Note(text, ", ".join(self.step.case), examples, "repeated-case", cases))
        gone = np.flatnonzero(groups.codes < 0)
        if len(gone):
            nothing = tuple((int(row) + self.wide.first_row, None) for row in gone[:MOST_EXAMPLES])
            notes.append(
                Note(
                    f"{counted(len(gone), 'row', 'rows')} without a case.",
                    ", ".join(self.step.case),
                    nothing,
                    "missing-case",
                    len(gone),
                )
            )
        return tuple(notes)


def common_label(labels: list[str]) -> str:
    """What labels share at their beginning, cut at a word: "Sleep, month 3", "Sleep, month 12" give "Sleep"."""
    filled = [label for label in labels if label]
    if not filled:
        return ""
    if len(set(filled)) == 1:
        return filled[0]
    first, last = min(filled), max(filled)
    same = next((at for at, (one, two) in enumerate(zip(first, last, strict=False)) if one != two), len(first))
    prefix = first[:same]
    # Not through a word or a number, and without the word that only announces the occasion.
    if not prefix.endswith(" "):
        prefix = prefix.rpartition(" ")[0]
    head, comma, _ = prefix.rpartition(",")
    return (head if comma else prefix).strip(" ,;:-([") or filled[0]


def listed(names: list[str], most: int = 12) -> str:
    """Names in a row, cut where they are many."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
