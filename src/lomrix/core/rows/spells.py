"""Spells of a table: starts and ends as numbers of one unit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from lomrix.core.arrays.codes import Codes
from lomrix.core.arrays.spells import Rows, SortedSpells
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Shown
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import format_keys
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table

TIMES = ("date", "datetime")
NUMBERS = ("integer", "number")


def to_times(columns: Sequence[Column], names: Sequence[str]) -> list[Array]:
    """Return columns as numbers of one unit: days if one of them is a date, else microseconds, or plain numbers.

    Raises DataError if they are not dates or numbers alike.
    """
    # A part may have no value where the whole has some.
    known = {*TIMES, *NUMBERS}
    types = {column.type for column in columns if column.type in known or not column.is_without_values} or {"date"}
    if not (types <= set(TIMES) or types <= set(NUMBERS)):
        shown = ", ".join(f"{name} is {column.type}" for name, column in zip(names, columns, strict=True))
        raise DataError(
            f"Spells need dates or numbers: {shown}.",
            todo="Correct the cells that are not (check lists them), or state their ‹type›.",
            columns=names,
        )
    if types <= set(NUMBERS):
        kind = np.float64 if "number" in types else np.int64
        return [np.nan_to_num(column.fit_type("integer").values).astype(kind) for column in columns]
    unit = "D" if "date" in types else "us"
    return [column.fit_type("date").values.astype(f"M8[{unit}]").astype(np.int64) for column in columns]


@dataclass
class Spells:
    """The spells of a table, with times that are looked up among them."""

    table: Table
    start: str
    end: str
    codes: Codes  # case of each row, -1: none
    size: int  # how many codes there can be
    day: Column | None = None  # times that are looked up; none by default
    day_name: str = ""

    def __post_init__(self) -> None:
        first, last = self.table[self.start], self.table[self.end]
        extra = [] if self.day is None else [self.day]
        names = [self.start, self.end, *([self.day_name] if extra else [])]
        times = to_times([first, last, *extra], names)
        self.is_open = last.is_missing
        self.has_no_start = first.is_missing
        self.starts, self.times = times[0], times[2] if extra else np.zeros(0, times[0].dtype)
        self.is_reversed = ~self.is_open & ~self.has_no_start & (times[1] < times[0])
        # An open spell lasts beyond every time that occurs.
        known = np.concatenate([times[0][~self.has_no_start], times[1][~self.is_open], self.times])
        self.ends = np.where(self.is_open, known.max(initial=0) + 1, times[1])
        self.starts = np.where(self.has_no_start, known.min(initial=0), self.starts)

    @cached_property
    def sorted(self) -> SortedSpells:
        """The usable spells in order."""
        codes = np.where(self.has_no_start | self.is_reversed, -1, self.codes)
        return SortedSpells(codes, max(self.size, 1), self.starts, self.ends, self.times)

    @property
    def overlaps(self) -> tuple[Rows, Rows]:
        """Spells that overlap an earlier one of the same case, and those."""
        return self.sorted.overlaps

    @property
    def gaps(self) -> tuple[Rows, Rows]:
        """Spells that start later than the day after the one before ended, and those before."""
        is_counted = self.starts.dtype.kind == "i" and self.table[self.start].type != "datetime"
        return self.sorted.find_gaps(1 if is_counted else 0)

    def show_pairs(self, case: Sequence[str], pairs: tuple[Rows, Rows], before: str = "") -> Shown:
        """Show the first pairs of spells: "0007 (rows 4, 5: from 2024-03-01, until 2024-03-09)"."""
        first = np.argsort(pairs[0], kind="stable")[:MOST_EXAMPLES]
        later, earlier = (rows[first] for rows in pairs)
        keys = format_keys(self.table, list(case), later)
        starts = format_keys(self.table, [self.start], later)
        ends = [end if end != "—" else "open" for end in format_keys(self.table, [self.end], earlier)]
        numbers = zip(self.table.number_rows(earlier), self.table.number_rows(later), strict=True)
        shown = [
            (row, f"{key} (rows {first_row}, {row}: until {end}, from {start})")
            for key, (first_row, row), end, start in zip(keys, numbers, ends, starts, strict=True)
        ]
        return Shown(shown, len(pairs[0]), before, "; ")
