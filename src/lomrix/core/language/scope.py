"""Scope: what an expression may look at beside the cells of its own row."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import UsageError
from lomrix.core.language.operands import first_reason
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table

if TYPE_CHECKING:
    from lomrix.core.rows.cases import Cases
    from lomrix.core.rows.timeline import Timeline

Rows = npt.NDArray[np.int64]
MOST_EXAMPLES = 4


@dataclass(frozen=True)
class Grouped:
    """Rows in groups.

    Parameters
    ----------
    codes
        Group of each row, numbered in order of first appearance; -1 where a key is missing.
    count
        Number of groups.
    keys
        The columns that make them.
    """

    codes: Rows
    count: int
    keys: tuple[Column, ...]

    @cached_property
    def sizes(self) -> Rows:
        """Rows of each group."""
        return np.bincount(self.codes[self.codes >= 0], minlength=self.count)

    def beside(self, of_groups: Column) -> Column:
        """A cell of each group beside its rows; a row without a group misses it for the reason of its key."""
        if self.count == 1 and of_groups.why is None and len(self.codes) and self.codes.min() == 0:
            return of_groups.in_all(len(self.codes))
        made = of_groups.take_or(self.codes, UNDEFINED)
        if (self.codes >= 0).all():
            return made
        why, reasons = first_reason(list(self.keys))
        gone = self.codes < 0
        made = made.cleared(gone)
        for number, reason in enumerate(reasons, start=1):
            made = made.with_missing(gone & (why == number), reason)
        return made


@dataclass
class Scope:
    """A table, and who is who in it.

    Parameters
    ----------
    table
        The table; a step that adds columns to it puts the new one here.
    case, occasion
        The columns that name the case, and those that say when; empty where nobody said.
    """

    table: Table
    case: tuple[str, ...] = ()
    occasion: tuple[str, ...] = ()
    reports: list[Note] = field(default_factory=list)
    _groups: dict[tuple[int, ...], Grouped] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.table)

    def require(self, needs: tuple[str, ...], doing: str) -> None:
        """Stop where a function needs to know who is a case, or when a row was measured.

        Raises
        ------
        UsageError
            Naming what to say.
        """
        said = {"case": self.case, "occasion": self.occasion}
        wanting = [name for name in needs if not said[name]]
        if wanting:
            looks = "goes by the occasions of a case" if "occasion" in needs else "looks at all rows of a case"
            words = " and ".join(f"‹{name}=COLUMN›" for name in wanting)
            raise UsageError(f"{doing}() {looks}, and nothing says which they are.", todo=f"Say {words}.")

    @cached_property
    def cases(self) -> Cases:
        """The cases of the table."""
        from lomrix.core.rows.cases import Cases

        return Cases(self.table, self.case)

    @cached_property
    def timeline(self) -> Timeline:
        """The rows in the order of their occasions."""
        from lomrix.core.rows.timeline import Timeline

        return Timeline(self.table, self.cases, self.occasion)

    def report(self, note: Note, rows: Rows) -> None:
        """Have something reported of the expression that is being computed, with the first rows concerned."""
        examples = tuple((int(row) + self.table.first_row, None) for row in np.sort(rows)[:MOST_EXAMPLES])
        self.reports.append(replace(note, examples=examples))

    @property
    def order_notes(self) -> list[Note]:
        """What is reported where expressions went by an order of occasions that only the rows tell."""
        return self.timeline.order_notes if "timeline" in self.__dict__ else []

    @cached_property
    def by_case(self) -> Grouped:
        """The rows by case."""
        return Grouped(self.cases.of_row, len(self.cases), tuple(self.table[name] for name in self.case))

    def grouped(self, keys: tuple[Column, ...]) -> Grouped:
        """The rows by the values of some columns; found once for the same columns."""
        from lomrix.core.rows.keys import row_codes

        known = tuple(map(id, keys))
        if known not in self._groups:
            names = tuple(map(str, range(len(keys))))
            codes, size = row_codes(Table(dict(zip(names, keys, strict=True))), names)
            first = np.full(size + 1, len(codes), np.int64)
            first[codes[::-1]] = np.arange(len(codes))[::-1]
            first[size] = len(codes)  # where missing keys went
            order = np.argsort(first[:size], kind="stable")
            count = int(np.count_nonzero(first[:size] < len(codes)))
            number = np.full(size + 1, -1, np.int64)
            number[order[:count]] = np.arange(count)
            self._groups[known] = Grouped(number[codes], count, keys)
        return self._groups[known]

    def statistic(self, column: Column, groups: Grouped, name: str) -> Column:
        """A statistic of a column in its groups, beside every row, as `statistics` gives several."""
        return self.statistics(column, groups, (name,))[0]

    def statistics(self, column: Column, groups: Grouped, names: tuple[str, ...]) -> list[Column]:
        """Statistics of a column in its groups, beside every row.

        Raises
        ------
        UsageError
            Where such a column does not have it.
        """
        from lomrix.core.rows.statistic_names import has
        from lomrix.core.rows.statistics import Summary

        if column.is_without_values and column.type == "string":
            column = column.fitting("number")
        for name in names:
            if not has(column.type, name):
                raise UsageError(
                    f"The {name} of values of type {column.type} cannot be computed.",
                    todo="Give it numbers; check names odd cells.",
                )
        summary = Summary(column, groups.codes, groups.count, groups.sizes)
        return [groups.beside(summary.statistic(name)) for name in names]

    def columns(self, words: str) -> list[Column]:
        """The columns that a choice names.

        Raises
        ------
        UsageError
            Where a word names none.
        """
        return [self.table[name] for name in chosen_columns(words, self.table.types(), self.table.name)]

    def changed(self, table: Table) -> None:
        """Look at another table of the same rows from now on."""
        before, self.table = self.table, table
        if any(before.columns.get(name) is not table.columns.get(name) for name in (*self.case, *self.occasion)):
            for found in ("cases", "timeline", "by_case"):
                self.__dict__.pop(found, None)
