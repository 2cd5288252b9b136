"""Scope: what an expression may use beyond its own row."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.ordinals import Extent
from lomrix.core.combining import Combinable, combine
from lomrix.core.errors import UsageError
from lomrix.core.language.operands import merge_reasons
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table

if TYPE_CHECKING:
    from lomrix.core.rows.cases import Cases
    from lomrix.core.rows.timeline import Timeline

Rows = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Grouped:
    """Rows in groups."""

    codes: Rows
    count: int
    keys: tuple[Column, ...]

    @cached_property
    def sizes(self) -> Rows:
        """Rows of each group."""
        return np.bincount(self.codes[self.codes >= 0], minlength=self.count)

    def spread(self, of_groups: Column) -> Column:
        """Return each row's cell of its group; a row without a group gets the reason of its key."""
        if self.count == 1 and of_groups.why is None and len(self.codes) and self.codes.min() == 0:
            return of_groups.broadcast(len(self.codes))
        result = of_groups.take_or(self.codes, UNDEFINED)
        if (self.codes >= 0).all():
            return result
        why, reasons = merge_reasons(list(self.keys))
        missing = self.codes < 0
        result = result.clear_missing(missing)
        for number, reason in enumerate(reasons, start=1):
            result = result.with_missing(missing & (why == number), reason)
        return result


@dataclass(frozen=True)
class Survey(Combinable):
    """What functions of a case must know of the whole where the table is a part of it.

    `occasions` has each combination of occasions once, in order of appearance; `extents` are those of columns.
    """

    occasions: Table | None = None
    extents: Mapping[str, Extent] = field(default_factory=dict)

    @classmethod
    def of(cls, table: Table, occasion: tuple[str, ...], columns: Iterable[str]) -> Survey:
        """Survey a table, or a part of it."""
        extents = {}
        for name in columns:
            column = table[name]
            if column.type in ("integer", "number"):
                extents[name] = Extent.measure(column.values[~column.is_missing])
        return cls(find_distinct_rows(table.only(occasion)) if occasion else None, extents)

    def combine(self, later: Survey) -> Survey:
        """Return the survey of both parts."""
        occasions = self.occasions
        if occasions is not None and later.occasions is not None:
            occasions = find_distinct_rows(concatenate_tables([occasions, later.occasions]))
        return Survey(occasions, combine(self.extents, later.extents))


def find_distinct_rows(table: Table) -> Table:
    """Return each row once, in order of appearance; rows with a missing cell are left out."""
    from lomrix.core.rows.keys import encode_rows, find_group_starts

    codes, size = encode_rows(table, tuple(table.names))
    occurs = np.bincount(codes[codes >= 0], minlength=size) > 0
    return table.take(np.sort(find_group_starts(codes, size)[occurs]))


@dataclass
class Scope:
    """A table with its case and occasion columns (empty if not stated). A step that adds columns updates the table."""

    table: Table
    case: tuple[str, ...] = ()
    occasion: tuple[str, ...] = ()
    reports: list[Note] = field(default_factory=list)
    _groups: dict[tuple[int, ...], Grouped] = field(default_factory=dict)
    survey: Survey = field(default_factory=Survey)

    def __len__(self) -> int:
        return len(self.table)

    def require(self, needs: tuple[str, ...], doing: str) -> None:
        """Stop if a function needs the case or occasion columns and they are not stated.

        Raises UsageError naming the settings.
        """
        given = {"case": self.case, "occasion": self.occasion}
        missing = [name for name in needs if not given[name]]
        if missing:
            reason = "depends on the occasions of a case" if "occasion" in needs else "uses all rows of a case"
            settings = " and ".join(f"‹{name}=COLUMN›" for name in missing)
            raise UsageError(f"{doing}() {reason}, which are not stated.", todo=f"Use {settings}.")

    @cached_property
    def cases(self) -> Cases:
        """The cases of the table."""
        from lomrix.core.rows.cases import Cases

        return Cases(self.table, self.case)

    @cached_property
    def timeline(self) -> Timeline:
        """The rows in the order of their occasions."""
        from lomrix.core.rows.timeline import Timeline

        return Timeline(self.table, self.cases, self.occasion, self.survey.occasions)

    def add_note(self, note: Note, rows: Rows) -> None:
        """Note something about the current expression, with the first rows concerned."""
        self.reports.append(replace(note, examples=self.table.show_rows(np.sort(rows))))

    @property
    def order_notes(self) -> list[Note]:
        """Notes on expressions that used an order of occasions given only by the rows."""
        return self.timeline.order_notes if "timeline" in self.__dict__ else []

    @cached_property
    def by_case(self) -> Grouped:
        """The rows by case."""
        return Grouped(self.cases.of_row, len(self.cases), tuple(self.table[name] for name in self.case))

    def group_by(self, keys: tuple[Column, ...]) -> Grouped:
        """Return the rows by the values of some columns; computed once for the same columns."""
        from lomrix.core.rows.keys import encode_rows

        key = tuple(map(id, keys))
        if key not in self._groups:
            names = tuple(map(str, range(len(keys))))
            codes, size = encode_rows(Table(dict(zip(names, keys, strict=True))), names)
            first = np.full(size + 1, len(codes), np.int64)
            first[codes[::-1]] = np.arange(len(codes))[::-1]
            first[size] = len(codes)  # where missing keys went
            order = np.argsort(first[:size], kind="stable")
            count = int(np.count_nonzero(first[:size] < len(codes)))
            number = np.full(size + 1, -1, np.int64)
            number[order[:count]] = np.arange(count)
            self._groups[key] = Grouped(number[codes], count, keys)
        return self._groups[key]

    def compute_statistic(self, column: Column, groups: Grouped, name: str) -> Column:
        """Compute a statistic of a column in its groups, one value per row."""
        return self.compute_statistics(column, groups, (name,))[0]

    def compute_statistics(self, column: Column, groups: Grouped, names: tuple[str, ...]) -> list[Column]:
        """Compute statistics of a column in its groups, one value per row.

        Raises UsageError if the column's type does not have it.
        """
        from lomrix.core.rows.statistic_names import has_statistic
        from lomrix.core.rows.statistics import Summary

        if column.is_without_values and column.type == "string":
            column = column.fit_type("number")
        for name in names:
            if not has_statistic(column.type, name):
                raise UsageError(
                    f"The {name} of values of type {column.type} cannot be computed.",
                    todo="Use numbers; check lists unusual cells.",
                )
        name = next((name for name, known in self.table.columns.items() if known is column), "")
        extent = self.survey.extents.get(name)
        summary = Summary(column, groups.codes, groups.count, groups.sizes, extent=extent)
        return [groups.spread(summary.compute(name)) for name in names]

    def choose(self, words: str) -> list[Column]:
        """Return the columns that a choice names.

        Raises UsageError if a word names none.
        """
        return [self.table[name] for name in choose_columns(words, self.table.types(), self.table.name)]

    def set_table(self, table: Table) -> None:
        """Use another table of the same rows from now on."""
        before, self.table = self.table, table
        if any(before.columns.get(name) is not table.columns.get(name) for name in (*self.case, *self.occasion)):
            for name in ("cases", "timeline", "by_case"):
                self.__dict__.pop(name, None)
