"""Statistics of the rows in each group: one row per group, or added to every row."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.ordinals import Extent
from lomrix.core.arrays.statistics import group_sizes
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import evaluate_condition
from lomrix.core.language.operands import make_result
from lomrix.core.language.parse import find_names, parse
from lomrix.core.rows.keys import Groups, group_with_missing
from lomrix.core.rows.statistic_names import COUNTING, NUMERIC, OF_A_ROW, QUANTILE, SHARE, has_statistic, list_allowed
from lomrix.core.rows.statistics import BOUNDS, Summary, get_weights
from lomrix.core.steps.account import Account, Balance, Part, balance_values
from lomrix.core.steps.aggregate.account import GroupTally, Used
from lomrix.core.steps.aggregate.figure import make_group_means
from lomrix.core.steps.aggregate.grouping import (
    add_computed_keys,
    concatenate,
    find_groups,
    make_totals,
)
from lomrix.core.steps.aggregate.settings import STATISTIC, Aggregate
from lomrix.core.steps.aggregate.suppression import ROWS, Suppression, TableGroups, suppress
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.variable import NO_ENTRY, Variable

LABELS = {
    "n": "number of values of", "missing": "number missing of", "distinct": "number of different values of",
    "min": "minimum of", "max": "maximum of", "se": "standard error of the mean of", "iqr": "interquartile range of",
    "ci_low": "lower end of the 95 % interval of the mean of",
    "ci_high": "upper end of the 95 % interval of the mean of",
    "first": "first value of", "last": "last value of", "commonest": "commonest value of",
    "deviation": "distance from the mean of the group of",
}  # fmt: skip
HEADS = ("variable", "values", "skipped as missing", "why")
DEVIATION = "deviation"
WITHOUT_UNIT = (*COUNTING, "variance")
TRUE_SHARE = "share(true)"
COMPARED = {">=": " from ", "<=": " to ", "==": " is ", "!=": " is not ", ">": " over ", "<": " below "}
Pair = tuple[str, str]
Summaries = dict[str, Summary]
Columns = dict[str, Column]


def format_condition(condition: str) -> str:
    """Format a condition in words, so that it can be part of a name.

    >>> format_condition("sleep>=420")
    'sleep from 420'
    """
    return re.sub(r"\s*(>=|<=|==|!=|>|<)\s*", lambda match: COMPARED[match[1]], condition)


Extents = Mapping[str, Extent]


def aggregate(step: Aggregate, tables: Inputs, wanted: Collection[str], extents: Extents | None = None) -> Result:
    """Aggregate the table, or a part of it; `extents` are those of the whole."""
    table, by = add_computed_keys(step, tables.get_one())
    grouping = Grouping(step, table, by, extents or {})
    result = grouping.make_table()
    hidden = grouping.suppression.get_hidden
    extras = (
        {"figure": make_group_means(grouping.summaries, hidden, grouping.groups, by, table)}
        if "figure" in wanted
        else {}
    )
    variables = dict.fromkeys(name for name, _ in grouping.wanted)
    shown = dict.fromkeys([*by, *variables, *(grouping.names.values() or grouping.computed)]) if step.attach else ()
    return Result(result, grouping.make_account(result), extras, tuple(shown), tally=grouping.make_tally())


def survey(step: Aggregate, tables: Inputs) -> Extents:
    """Measure the values that are summed."""
    table, by = add_computed_keys(step, tables.get_one())
    grouping = Grouping(step, table, by, {})
    in_group = np.ones(len(table), np.bool_)
    if step.missing_group == "left-out":
        for name in by:
            in_group &= ~table[name].is_missing
    result = {}
    for name in dict.fromkeys(name for name, _ in grouping.wanted):
        column = grouping.computed_from[name]
        # A part without any value of a text does not know its type.
        if column.type != "string" and (name not in table.columns or table[name].type == column.type):
            values = column.values[in_group & ~column.is_missing]
            result[name] = Extent.measure(values.view(np.int64) if values.dtype.kind == "M" else values)
    return result


def compact(columns: Mapping[str, Column]) -> dict[str, Column]:
    """Return columns whose strings are copied out of those of all rows."""
    return {name: column.compact() for name, column in columns.items()}


def make_keys(step: Aggregate, role: str, table: Table) -> list[Column]:
    """Return the keys of each row."""
    table, by = add_computed_keys(step, table)
    return [table[name] for name in by]


def arrange(step: Aggregate, table: Table, tables: Inputs) -> Table:
    """Sort the groups of all parts."""
    if step.attach:
        return table
    _, by = add_computed_keys(step, tables.get_one().first(0))
    return table.take(np.argsort(group_with_missing(table, by).codes, kind="stable"))


@dataclass
class Grouping:
    """A table being aggregated: the step, the table with computed keys, and the names of the keys."""

    step: Aggregate
    rows: Table
    by: tuple[str, ...]
    extents: Extents

    def __post_init__(self) -> None:
        types, table = self.rows.types(), self.rows.name
        names = [name for words, _ in self.step.statistics for name in choose_columns(words, types, table)]
        blank = {name: self.rows[name].fit_type("number") for name in names if self.rows[name].is_without_values}
        conditions = {found.condition: evaluate_condition(found.condition, self.rows) for found in self.step.conditions}
        # A column with no value at all fits any statistic.
        self.computed_from = self.rows.with_columns({**self.rows.columns, **blank, **conditions})
        self.template = HeaderTemplate.parse(self.step.header, measure_needed=False)

    @cached_property
    def groups(self) -> Groups:
        """The groups in the order of their values."""
        return find_groups(self.step, self.rows, self.by)

    @cached_property
    def wanted(self) -> list[Pair]:
        """Variable and statistic of each new column."""
        pairs: dict[Pair, None] = {}
        for words, names in self.step.statistics:
            for variable in choose_columns(words, self.rows.types(), self.rows.name):
                for name in names:
                    self._require_known(variable, name)
                    pairs.update({(variable, bound): None for bound in (BOUNDS if name == "ci" else (name,))})
        return [*pairs, *self.of_conditions]

    @cached_property
    def of_conditions(self) -> dict[Pair, str]:
        """The statistics of conditions, with the names of their columns."""
        result = {}
        for found in self.step.conditions:
            first = find_names(parse(found.condition))[0]
            words = f"{found.statistic} {format_condition(found.condition).removeprefix(first)}"
            name = found.name or self.template.format(first, {STATISTIC: re.sub(r"\W+", "_", words).strip("_")})
            result[found.condition, TRUE_SHARE if found.statistic == "share" else "sum"] = name
        return result

    def _require_known(self, variable: str, name: str) -> None:
        type_ = self.computed_from[variable].type
        if not has_statistic(type_, name):
            raise UsageError(
                f"The {name} of {variable} cannot be computed: it is {type_}.",
                todo=f"Of type {type_} ask {' '.join(list_allowed(type_))}. If {variable} should be numbers, "
                "check lists the cells that prevent it.",
                columns=[variable],
            )

    @cached_property
    def weights(self) -> npt.NDArray[np.float64] | None:
        """The weight of each row."""
        if not self.step.weight:
            return None
        return get_weights(self.rows[self.step.weight], self.step.weight, self.rows.first_row)

    @cached_property
    def names(self) -> dict[Pair, str]:
        """Names of the new columns."""
        taken = [*self.by, *(self.rows.names if self.step.attach else ())]
        names = {}
        for pair in [*self.wanted, *self.deviations]:
            statistic = re.sub(r"\W+", "_", pair[1]).strip("_")
            names[pair] = self.of_conditions.get(pair) or self.template.format(pair[0], {STATISTIC: statistic})
            require_new_name(names[pair], taken, "a statistic")
            taken.append(names[pair])
        return names

    @property
    def deviations(self) -> list[Pair]:
        """Variables whose distance from the group mean is wanted."""
        if not self.step.deviation:
            return []
        numbers = (name for name, _ in self.wanted if name in self.rows.columns and self.rows[name].type in NUMERIC)
        return [(name, DEVIATION) for name in dict.fromkeys(numbers)]

    # -------------------------------------------------------------- statistics

    @cached_property
    def sizes(self) -> npt.NDArray[np.int64]:
        """Number of rows per group."""
        codes = self.groups.codes
        return group_sizes(codes if self.inside is None else codes[self.inside], self.groups.count)

    @cached_property
    def inside(self) -> npt.NDArray[np.bool_] | None:
        """True for rows in a group; None if all rows are."""
        inside = self.groups.codes >= 0
        return None if inside.all() else inside

    @cached_property
    def summaries(self) -> Summaries:
        """Statistics of each variable by group."""
        return self._summarize(self.groups, self.sizes)

    def _summarize(self, groups: Groups, rows: npt.NDArray[np.int64]) -> Summaries:
        labels = self.rows.dictionary.labels_of
        return {
            name: Summary(
                self.computed_from[name],
                groups.codes,
                groups.count,
                rows,
                labels(name),
                self.weights,
                self.extents.get(name),
            )
            for name in dict.fromkeys(name for name, _ in self.wanted)
        }

    def _compute_all(self, summaries: Summaries) -> dict[Pair, Column]:
        """Compute each statistic, one cell per group."""

        # Variables are computed in parallel, the statistics of one variable in sequence, since they share work.
        def compute_variable(name: str) -> dict[Pair, Column]:
            pairs = [pair for pair in self.wanted if pair[0] == name]
            return {pair: summaries[name].compute(pair[1]) for pair in pairs}

        parts = map_in_threads(compute_variable, summaries)
        return {pair: part[pair] for pair in self.wanted for part in parts if pair in part}

    @cached_property
    def computed(self) -> Columns:
        """The new columns by name, one cell per group."""
        return self._compute_level(self.groups, self.sizes, self.summaries, level=0)

    def _compute_level(self, groups: Groups, rows: npt.NDArray[np.int64], summaries: Summaries, level: int) -> Columns:
        """Return the new columns at one level of totals, with suppressed cells."""
        if not self.wanted:
            return {ROWS: suppress(Column.of("integer", rows), self.suppression.get_hidden(ROWS, level))}
        return {
            self.names[pair]: suppress(column, self.suppression.get_hidden(pair[0], level))
            for pair, column in self._compute_all(summaries).items()
        }

    @cached_property
    def suppression(self) -> Suppression:
        """Which groups are suppressed."""
        counted = TableGroups(self.step, self.rows, self.groups.codes, self.by, self.summaries)
        return Suppression(self.step, self.groups, self.by, self.wanted, counted)

    # ------------------------------------------------------------------- table

    def make_table(self) -> Table:
        """Return one row per group, or all rows with their group's statistics."""
        if self.step.attach:
            columns = dict(self.rows.columns)
            columns |= {name: column.take_or(self.groups.codes, UNDEFINED) for name, column in self.computed.items()}
            columns |= {self.names[pair]: self._compute_deviation(pair[0]) for pair in self.deviations}
        else:
            columns = {**self.groups.values, **self.computed}
            if self.step.totals:
                columns = {
                    name: concatenate([column, *(level[name] for level in self.levels)])
                    for name, column in columns.items()
                }
        dictionary = self.rows.dictionary
        for (variable, statistic), name in self.names.items():
            dictionary = dictionary.with_variable(name, self._describe(variable, statistic))
        numbers = self.rows.row_numbers if self.step.attach else None
        return replace(
            self.rows, columns=columns, dictionary=dictionary.for_columns(columns), row_numbers=numbers,
            names_in_source=(),
        )  # fmt: skip

    def _compute_deviation(self, variable: str) -> Column:
        """Return each value minus the mean of its group."""
        column, mean = self.computed_from[variable], self.summaries[variable].compute("mean")
        group_mean = suppress(mean, self.suppression.get_hidden(variable)).take_or(self.groups.codes, UNDEFINED)
        return make_result("number", column.values.astype(np.float64) - group_mean.values, [column, group_mean])

    @cached_property
    def levels(self) -> list[Columns]:
        """The keys and statistics of each level of totals."""
        levels = []
        for level, groups in enumerate(make_totals(self.groups, self.by), start=1):
            rows = group_sizes(groups.codes[groups.codes >= 0], groups.count)
            computed = self._compute_level(groups, rows, self._summarize(groups, rows), level)
            levels.append({**groups.values, **computed})
        return levels

    def _describe(self, variable: str, name: str) -> Variable:
        entry = self.rows.dictionary.of(variable)
        if (variable, name) in self.of_conditions:
            text = "number of rows with" if name == "sum" else "share with"
            return NO_ENTRY.with_parts(label=f"{text} {variable}", level="group")
        share = SHARE.fullmatch(name)
        text = f"share of {share[1]} in" if share else LABELS.get(name, f"{name} of")
        if QUANTILE.fullmatch(name):
            text = f"{name[1:]} % quantile of"
        unit = "" if name in WITHOUT_UNIT or share else entry.unit
        codes = entry.codes if name in OF_A_ROW else None
        return NO_ENTRY.with_parts(label=f"{text} {entry.label or variable}", unit=unit, codes=codes, level="group")

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table) -> Account:
        """Report what concerns the rows; the rest is made from the groups of all parts."""
        facts = {"rows": len(result), "columns": list(self.computed)}
        return Account(
            "aggregate", "", (self._balance_result(result),), facts, (), tuple(self.suppression.make_notes())
        )

    def make_tally(self) -> GroupTally:
        """Return what the account needs of the groups."""
        used = {variable: self.computed_from[variable] for variable, _ in self.wanted}
        return GroupTally(
            Table(compact(self.groups.values), self.rows.dictionary),
            self.sizes,
            Table(compact(self.computed)),
            {name: None if self.suppression.hides_all(name) else self._count_used(used[name]) for name in used},
            self._count_left(),
            len(self.rows),
            self.rows.name,
            tuple(self.names[pair] for pair in self.wanted if SHARE.fullmatch(pair[1])),
        )

    def _balance_result(self, result: Table) -> Balance:
        """Balance expected groups against rows of the result; or with ‹attach›, the cells kept."""
        if self.step.attach:
            return balance_values(self.rows, result)
        shown = int(np.count_nonzero(self.sizes))
        together = sum(groups.count for groups in make_totals(self.groups, self.by)) if self.step.totals else 0
        empty = int(np.count_nonzero(self.sizes == 0))
        parts = (Part("kept", shown, "groups"), Part("added", empty, "declared"), Part("added", together, "totals"))
        return Balance("rows of the result", len(result), parts, quiet=not empty and not together)

    def _count_used(self, column: Column) -> Used:
        """Count the values used of a variable, and the cells skipped."""
        inside, lost = self.inside, 0
        if self.weights is not None:
            inside = ~np.isnan(self.weights) if inside is None else inside & ~np.isnan(self.weights)
            lost = int(np.count_nonzero(np.isnan(self.weights)))
        rows = len(column) if inside is None else int(np.count_nonzero(inside))
        evidence = CodeEvidence.of(column, inside)
        if column.why is None:
            return Used(rows, 0, lost, {}, evidence)
        counts = np.bincount(column.why if inside is None else column.why[inside], minlength=256)
        missing = dict(zip(column.reasons, counts[1:].tolist(), strict=False))
        missing = {reason: count for reason, count in missing.items() if count}
        return Used(int(counts[0]), rows - int(counts[0]), lost, missing, evidence)

    def _count_left(self) -> dict[str, int]:
        """Count rows in no group, by the first key that is missing."""
        remaining = self.groups.codes < 0
        counts = {}
        for name in self.by:
            lost = remaining & self.rows[name].is_missing
            remaining = remaining & ~lost
            counts[name] = int(np.count_nonzero(lost))
        return counts
