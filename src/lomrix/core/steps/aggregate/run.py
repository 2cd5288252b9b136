"""Statistics of the rows in each group: one row per group, or beside every row."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import counted
from lomrix.core.arrays.statistics import STATISTICS, sizes
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import Groups, grouped, row_codes
from lomrix.core.steps.account import Account, Balance, Listing, kept_cells
from lomrix.core.steps.aggregate.settings import COUNTING, KNOWN, Aggregate
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import TOO_FEW, UNDEFINED
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.variable import NOTHING_KNOWN, Variable

LABELS = {"n": "number of values of", "missing": "number missing of", "min": "minimum of", "max": "maximum of"}
# Statistics that keep the type and the dates of their variable.
SAME_KIND = ("min", "max", "median")


def aggregated(step: Aggregate, tables: Inputs, wanted: Collection[str]) -> Result:
    """Aggregate the table."""
    work = Grouping(step, tables.one())
    made = work.table()
    return Result(made, work.account(made))


@dataclass
class Grouping:
    """One table on its way to group level."""

    step: Aggregate
    rows: Table
    _kept: dict[str, tuple[Any, Any, Any]] = field(default_factory=dict)

    @cached_property
    def groups(self) -> Groups:
        """The groups in the order of their values."""
        return grouped(self.rows, self.step.by)

    @cached_property
    def wanted(self) -> list[tuple[str, str]]:
        """Variable and statistic of each new column."""
        pairs: dict[tuple[str, str], None] = {}
        for words, names in self.step.statistics:
            for variable in chosen_columns(words, self.rows.types(), self.rows.name):
                pairs.update({(variable, name): None for name in names})
        for variable, name in pairs:
            type_ = self.rows[variable].type
            allowed: tuple[str, ...] = KNOWN if type_ in ("integer", "number", "boolean") else (*COUNTING, *SAME_KIND)
            if type_ == "string":
                allowed = COUNTING
            if name not in allowed:
                raise UsageError(
                    f"The {name} of {variable} cannot be computed: it is {type_}.",
                    todo=f"Of a {type_} ask {' '.join(allowed)}. If {variable} should be numbers, "
                    "the notes of the reading name the cells that keep it from that.",
                )
        return list(pairs)

    @cached_property
    def computed(self) -> dict[str, Column]:
        """The new columns, one cell per group."""
        columns: dict[str, Column] = {}
        for variable, name in self.wanted:
            made = f"{variable}_{name}"
            require_free(made, [*self.step.by, *columns, *(self.rows.names if self.step.attach else ())], "a statistic")
            columns[made] = self._statistic(variable, name)
        if not self.wanted:
            columns["rows"] = Column.of("integer", sizes(self._in_groups, self.groups.count))
        return columns

    @property
    def _in_groups(self) -> npt.NDArray[Any]:
        return self.groups.codes[self.groups.codes >= 0]

    def _values(self, variable: str) -> tuple[Any, Any, Any]:
        """Group codes and values of the present cells of a variable, and their number per group; kept for the next."""
        if variable not in self._kept:
            column, codes, values = self.rows[variable], self.groups.codes, self.rows[variable].values
            present = (codes >= 0) & ~column.is_missing
            if not present.all():
                codes, values = codes[present], values[present]
            self._kept = {variable: (codes, values, sizes(codes, self.groups.count))}
        return self._kept[variable]

    def _statistic(self, variable: str, name: str) -> Column:
        column, count = self.rows[variable], self.groups.count
        codes, values, number = self._values(variable)
        if name == "n":
            return Column.of("integer", number)
        if name == "missing":
            return Column.of("integer", sizes(self._in_groups, count) - number)
        is_time = column.type in ("date", "datetime")
        result = STATISTICS[name](codes, values.astype(np.int64) if is_time else values, count)
        undefined = np.isnan(result) | (number == 0)
        why = undefined.astype(np.uint8)
        why[number < self.step.min_n] = 2
        reasons = (UNDEFINED, TOO_FEW)
        if is_time:
            return Column.of(
                column.type, np.nan_to_num(result).astype(np.int64).astype(column.values.dtype), why, reasons
            )
        exact = np.abs(np.nan_to_num(result)).max(initial=0) < 2**53
        if column.type == "integer" and name in ("min", "max", "sum") and exact:
            return Column.of("integer", np.nan_to_num(result).astype(np.int64), why, reasons)
        return Column.of("number", result, why, reasons)

    # ------------------------------------------------------------------- table

    def table(self) -> Table:
        """One row per group, or all rows with their group's statistics."""
        if self.step.attach:
            columns = dict(self.rows.columns)
            columns |= {name: column.take_or(self.groups.codes, UNDEFINED) for name, column in self.computed.items()}
        else:
            columns = {**self.groups.values, **self.computed}
        dictionary = self.rows.dictionary
        for variable, name in self.wanted:
            dictionary = dictionary.with_variable(f"{variable}_{name}", self._described(variable, name))
        return Table(columns, dictionary.for_columns(columns), name=self.rows.name)

    def _described(self, variable: str, name: str) -> Variable:
        entry = self.rows.dictionary.of(variable)
        label = f"{LABELS.get(name, f'{name} of')} {entry.label or variable}"
        unit = "" if name in COUNTING else entry.unit
        return NOTHING_KNOWN.with_(label=label, unit=unit, level="group")

    # ----------------------------------------------------------------- account

    def account(self, made: Table) -> Account:
        """What the grouping did."""
        codes = self.groups.codes
        by = ", ".join(self.step.by)
        number = sizes(self._in_groups, self.groups.count)
        used = {variable: self.rows[variable] for variable, _ in self.wanted}
        inside = codes >= 0
        listing = tuple(
            (
                name,
                int(np.count_nonzero(inside & ~column.is_missing)),
                int(np.count_nonzero(inside & column.is_missing)),
                ", ".join(
                    f"{count:,} {why}" for why, count in column.take(np.flatnonzero(inside)).reason_counts().items()
                )
                or "none",
            )
            for name, column in used.items()
        )
        range_ = f", {number.min():,} to {number.max():,} rows each" if len(number) else ""
        return Account(
            "aggregate",
            f"{len(self.rows):,} rows became {self.groups.count:,} groups by {by}{range_}."
            if not self.step.attach
            else f"{len(made):,} rows got the statistics of their group, {self.groups.count:,} groups by {by}.",
            (
                Balance(
                    f"rows of {self.rows.name}", len(self.rows), (("in a group", int(number.sum())), *self._left())
                ),
                self._of_result(made),
            ),
            {"groups": self.groups.count, "rows": len(made), "columns": list(self.computed)},
            (Listing("values used", ("variable", "values", "skipped as missing", "why"), listing),) if listing else (),
            self._notes(),
        )

    def _of_result(self, made: Table) -> Balance:
        """Groups that the rows show against those in the result; beside every row, the cells that are kept."""
        if self.step.attach:
            return kept_cells(self.rows, made)
        rows = [self.rows[name].is_missing for name in self.step.by]
        present = ~np.logical_or.reduce(rows) if rows else np.ones(len(self.rows), np.bool_)
        codes, size = row_codes(self.rows, self.step.by)
        groups = int(np.count_nonzero(counted(codes[present], size)))
        return Balance("groups that the rows show", groups, (("in the result", len(made)),), quiet=True)

    def _left(self) -> tuple[tuple[str, int], ...]:
        """Rows in no group, by the first grouping column that is missing."""
        rest = self.groups.codes < 0
        parts = []
        for name in self.step.by:
            here = rest & self.rows[name].is_missing
            rest = rest & ~here
            parts.append((f"{name} missing, in no group", int(np.count_nonzero(here))))
        return tuple((word, count) for word, count in parts if count)

    def _notes(self) -> tuple[Note, ...]:
        notes = []
        for name, column in self.computed.items():
            for reason, count in column.reason_counts().items():
                text = f"{count:,} of {len(column):,} groups are missing ({reason})."
                notes.append(Note(text, name, (), reason, count))
        return tuple(notes)
