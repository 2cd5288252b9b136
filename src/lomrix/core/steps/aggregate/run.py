"""Statistics of the rows in each group: one row per group, or beside every row."""

from __future__ import annotations

from collections.abc import Collection
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.statistics import STATISTICS, Values, sizes
from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import Groups, grouped
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

    def __post_init__(self) -> None:
        names = [name for words, _ in self.step.statistics for name in chosen_columns(words, self.rows.types())]
        blank = {name: self.rows[name].fitting("number") for name in names if self.rows[name].is_without_values}
        # A column with no value at all fits any statistic.
        self.computed_from = self.rows.with_columns({**self.rows.columns, **blank})

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
            type_ = self.computed_from[variable].type
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
        taken = [*self.step.by, *(self.rows.names if self.step.attach else ())]
        for variable, name in self.wanted:
            require_free(f"{variable}_{name}", taken, "a statistic")
            taken.append(f"{variable}_{name}")
        if not self.wanted:
            return {"rows": Column.of("integer", self.sizes)}
        # Variables are worked on side by side, the statistics of one after each other, since they share their work.
        variables = dict.fromkeys(variable for variable, _ in self.wanted)
        with ThreadPoolExecutor() as workers:
            found = dict(zip(variables, workers.map(self._of_variable, variables), strict=True))
        return {f"{variable}_{name}": found[variable][name] for variable, name in self.wanted}

    def _of_variable(self, variable: str) -> dict[str, Column]:
        values = self._values(variable)
        return {name: self._statistic(variable, name, values) for one, name in self.wanted if one == variable}

    @cached_property
    def inside(self) -> npt.NDArray[np.bool_] | None:
        """True for rows in a group; None where all rows are."""
        inside = self.groups.codes >= 0
        return None if inside.all() else inside

    @cached_property
    def sizes(self) -> npt.NDArray[np.int64]:
        """Number of rows per group."""
        codes = self.groups.codes
        return sizes(codes if self.inside is None else codes[self.inside], self.groups.count)

    def _values(self, variable: str) -> Values:
        """The present cells of a variable in their groups."""
        column, codes = self.computed_from[variable], self.groups.codes
        values = column.values
        if column.why is not None or self.inside is not None:
            present = (codes >= 0) & ~column.is_missing
            codes, values = codes[present], values[present]
        if column.type in ("date", "datetime"):
            values = values.astype(np.int64)
        return Values(codes, values, self.groups.count)

    def _statistic(self, variable: str, name: str, values: Values) -> Column:
        column, number = self.computed_from[variable], values.sizes
        if name == "n":
            return Column.of("integer", number)
        if name == "missing":
            return Column.of("integer", self.sizes - number)
        is_time = column.type in ("date", "datetime")
        result = STATISTICS[name](values)
        undefined = ~np.isfinite(result) | (number == 0)
        why = undefined.astype(np.uint8)
        why[number < self.step.min_n] = 2
        reasons = (UNDEFINED, TOO_FEW)
        if is_time:
            whole = np.nan_to_num(result).astype(np.int64)
            return Column.of(column.type, whole.astype(column.values.dtype), why, reasons)
        if result.dtype.kind == "i" and column.type == "integer":
            return Column.of("integer", result, why, reasons)
        return Column.of("number", result.astype(np.float64), why, reasons)

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
        by, number = ", ".join(self.step.by), self.sizes
        used = {variable: self.rows[variable] for variable, _ in self.wanted}
        listing = tuple((name, *self._used(column)) for name, column in used.items())
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
        groups = int(np.count_nonzero(self.sizes))
        return Balance("groups that the rows show", groups, (("in the result", len(made)),), quiet=True)

    def _used(self, column: Column) -> tuple[int, int, str]:
        """Values of a variable that were used, cells that were skipped, and why."""
        rows = len(column) if self.inside is None else int(np.count_nonzero(self.inside))
        if column.why is None:
            return rows, 0, "none"
        counts = np.bincount(column.why if self.inside is None else column.why[self.inside], minlength=256)
        told = [f"{count:,} {why}" for why, count in zip(column.reasons, counts[1:].tolist(), strict=False) if count]
        return int(counts[0]), rows - int(counts[0]), ", ".join(told) or "none"

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
