"""Statistics of the rows in each group: one row per group, or beside every row."""

from __future__ import annotations

import re
from collections.abc import Collection
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.statistics import sizes
from lomrix.core.errors import UsageError
from lomrix.core.language.operands import made
from lomrix.core.rows.keys import Groups
from lomrix.core.rows.statistic_names import COUNTING, NUMERIC, OF_A_ROW, QUANTILE, SHARE, allowed_of, has
from lomrix.core.rows.statistics import BOUNDS, Summary, weights_of
from lomrix.core.steps.account import Account, Balance, Listing, kept_cells
from lomrix.core.steps.aggregate.figure import group_means
from lomrix.core.steps.aggregate.grouping import (
    groups_of,
    one_after_the_other,
    totals_of,
    with_keys,
)
from lomrix.core.steps.aggregate.notes import notes_of, proposals
from lomrix.core.steps.aggregate.settings import STATISTIC, Aggregate
from lomrix.core.steps.aggregate.suppression import ROWS, Suppression, suppress
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.notes import counted
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.variable import NOTHING_KNOWN, Variable

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
Pair = tuple[str, str]
Summaries = dict[str, Summary]
Columns = dict[str, Column]


def aggregated(step: Aggregate, tables: Inputs, wanted: Collection[str]) -> Result:
    """Aggregate the table."""
    table, by = with_keys(step, tables.one())
    work = Grouping(step, table, by)
    result = work.table()
    hidden = work.suppression.hidden
    extras = {"figure": group_means(work.summaries, hidden, work.groups, by, table)} if "figure" in wanted else {}
    variables = dict.fromkeys(name for name, _ in work.wanted)
    shown = dict.fromkeys([*by, *variables, *(work.names.values() or work.computed)]) if step.attach else ()
    return Result(result, work.account(result), extras, tuple(shown))


@dataclass
class Grouping:
    """One table on its way to group level.

    Parameters
    ----------
    step
        What was asked for.
    rows
        The table, with keys that were computed.
    by
        Names of the keys.
    """

    step: Aggregate
    rows: Table
    by: tuple[str, ...]

    def __post_init__(self) -> None:
        names = [name for words, _ in self.step.statistics for name in chosen_columns(words, self.rows.types())]
        blank = {name: self.rows[name].fitting("number") for name in names if self.rows[name].is_without_values}
        # A column with no value at all fits any statistic.
        self.computed_from = self.rows.with_columns({**self.rows.columns, **blank})
        self.template = HeaderTemplate.parsed(self.step.header, measure_needed=False)

    @cached_property
    def groups(self) -> Groups:
        """The groups in the order of their values."""
        return groups_of(self.step, self.rows, self.by)

    @cached_property
    def wanted(self) -> list[Pair]:
        """Variable and statistic of each new column."""
        pairs: dict[Pair, None] = {}
        for words, names in self.step.statistics:
            for variable in chosen_columns(words, self.rows.types(), self.rows.name):
                for name in names:
                    self._require_known(variable, name)
                    pairs.update({(variable, one): None for one in (BOUNDS if name == "ci" else (name,))})
        return list(pairs)

    def _require_known(self, variable: str, name: str) -> None:
        type_ = self.computed_from[variable].type
        if not has(type_, name):
            raise UsageError(
                f"The {name} of {variable} cannot be computed: it is {type_}.",
                todo=f"Of type {type_} ask {' '.join(allowed_of(type_))}. If {variable} should be numbers, "
                "check names the cells that keep it from that.",
            )

    @cached_property
    def weights(self) -> npt.NDArray[np.float64] | None:
        """The weight of each row."""
        if not self.step.weight:
            return None
        return weights_of(self.rows[self.step.weight], self.step.weight, self.rows.first_row)

    @cached_property
    def names(self) -> dict[Pair, str]:
        """Names of the new columns."""
        taken = [*self.by, *(self.rows.names if self.step.attach else ())]
        names = {}
        for pair in [*self.wanted, *self.deviations]:
            names[pair] = self.template.written(pair[0], {STATISTIC: re.sub(r"\W+", "_", pair[1]).strip("_")})
            require_free(names[pair], taken, "a statistic")
            taken.append(names[pair])
        return names

    @property
    def deviations(self) -> list[Pair]:
        """Variables whose distance from the mean of their group is wanted."""
        if not self.step.deviation:
            return []
        numbers = (name for name, _ in self.wanted if self.computed_from[name].type in NUMERIC)
        return [(name, DEVIATION) for name in dict.fromkeys(numbers)]

    # -------------------------------------------------------------- statistics

    @cached_property
    def sizes(self) -> npt.NDArray[np.int64]:
        """Number of rows per group."""
        codes = self.groups.codes
        return sizes(codes if self.inside is None else codes[self.inside], self.groups.count)

    @cached_property
    def inside(self) -> npt.NDArray[np.bool_] | None:
        """True for rows in a group; None where all rows are."""
        inside = self.groups.codes >= 0
        return None if inside.all() else inside

    @cached_property
    def summaries(self) -> Summaries:
        """What is known of each variable in its groups."""
        return self._summaries_of(self.groups, self.sizes)

    def _summaries_of(self, groups: Groups, rows: npt.NDArray[np.int64]) -> Summaries:
        labels = self.rows.dictionary.labels_of
        return {
            name: Summary(self.computed_from[name], groups.codes, groups.count, rows, labels(name), self.weights)
            for name in dict.fromkeys(name for name, _ in self.wanted)
        }

    def _statistics_of(self, summaries: Summaries) -> dict[Pair, Column]:
        """Each statistic, one cell per group."""

        # Variables are worked on side by side, the statistics of one after each other, since they share their work.
        def of_variable(name: str) -> dict[Pair, Column]:
            own = [pair for pair in self.wanted if pair[0] == name]
            return {pair: summaries[name].statistic(pair[1]) for pair in own}

        with ThreadPoolExecutor() as workers:
            found = list(workers.map(of_variable, summaries))
        return {pair: part[pair] for pair in self.wanted for part in found if pair in part}

    @cached_property
    def computed(self) -> Columns:
        """The new columns by name, one cell per group."""
        return self._shown(self.groups, self.sizes, self.summaries, level=0)

    def _shown(self, groups: Groups, rows: npt.NDArray[np.int64], summaries: Summaries, level: int) -> Columns:
        """The new columns at one level of totals, what must not be shown suppressed."""
        if not self.wanted:
            return {ROWS: suppress(Column.of("integer", rows), self.suppression.hidden(ROWS, level))}
        return {
            self.names[pair]: suppress(column, self.suppression.hidden(pair[0], level))
            for pair, column in self._statistics_of(summaries).items()
        }

    @cached_property
    def suppression(self) -> Suppression:
        """Which groups must not be shown."""
        return Suppression(self.step, self.rows, self.groups, self.by, self.summaries, self.wanted)

    # ------------------------------------------------------------------- table

    def table(self) -> Table:
        """One row per group, or all rows with their group's statistics."""
        if self.step.attach:
            columns = dict(self.rows.columns)
            columns |= {name: column.take_or(self.groups.codes, UNDEFINED) for name, column in self.computed.items()}
            columns |= {self.names[pair]: self._deviation(pair[0]) for pair in self.deviations}
        else:
            columns = {**self.groups.values, **self.computed}
            if self.step.totals:
                columns = self._with_totals(columns)
        dictionary = self.rows.dictionary
        for (variable, statistic), name in self.names.items():
            dictionary = dictionary.with_variable(name, self._described(variable, statistic))
        return replace(
            self.rows, columns=columns, dictionary=dictionary.for_columns(columns), names_in_source=()
        )  # fmt: skip

    def _deviation(self, variable: str) -> Column:
        """Each value less the mean of its group."""
        column, mean = self.computed_from[variable], self.summaries[variable].statistic("mean")
        beside = suppress(mean, self.suppression.hidden(variable)).take_or(self.groups.codes, UNDEFINED)
        return made("number", column.values.astype(np.float64) - beside.values, [column, beside])

    def _with_totals(self, columns: dict[str, Column]) -> dict[str, Column]:
        """The columns with rows for all groups together under them."""
        parts = {name: [column] for name, column in columns.items()}
        for level, groups in enumerate(totals_of(self.groups, self.by), start=1):
            rows = sizes(groups.codes[groups.codes >= 0], groups.count)
            below = {**groups.values, **self._shown(groups, rows, self._summaries_of(groups, rows), level)}
            for name, part in parts.items():
                part.append(below[name])
        return {name: one_after_the_other(part) for name, part in parts.items()}

    def _described(self, variable: str, name: str) -> Variable:
        entry = self.rows.dictionary.of(variable)
        share = SHARE.fullmatch(name)
        words = f"share of {share[1]} in" if share else LABELS.get(name, f"{name} of")
        if QUANTILE.fullmatch(name):
            words = f"{name[1:]} % quantile of"
        unit = "" if name in WITHOUT_UNIT or share else entry.unit
        codes = entry.codes if name in OF_A_ROW else None
        return NOTHING_KNOWN.with_(label=f"{words} {entry.label or variable}", unit=unit, codes=codes, level="group")

    # ----------------------------------------------------------------- account

    def account(self, made: Table) -> Account:
        """What the grouping did."""
        by, number = ", ".join(self.by), self.sizes
        filled = number[number > 0]
        used = {variable: self.rows[variable] for variable, _ in self.wanted}
        listing = tuple(
            (name, *(("suppressed", "", "") if self.suppression.hides_all(name) else self._used(column)))
            for name, column in used.items()
        )
        low, high = (int(filled.min()), int(filled.max())) if len(filled) else (0, 0)
        range_ = f", {counted(low, 'row', 'rows')} each" if low == high else f", {low:,} to {high:,} rows each"
        # The size of the smallest group is what a minimum size hides.
        range_ = range_ if high and not self.step.min_n else ""
        groups = counted(self.groups.count, "group", "groups")
        return Account(
            "aggregate",
            f"{counted(len(self.rows), 'row', 'rows')} became {groups} by {by}{range_}."
            if not self.step.attach
            else f"{counted(len(made), 'row', 'rows')} got the statistics of their group, {groups} by {by}.",
            (
                Balance(
                    f"rows of {self.rows.name}", len(self.rows), (("in a group", int(number.sum())), *self._left())
                ),
                self._of_result(made),
            ),
            {"groups": self.groups.count, "rows": len(made), "columns": list(self.computed)},
            (
                *(
                    [Listing("values used", ("variable", "values", "skipped as missing", "why"), listing)]
                    if listing
                    else []
                ),
                *self._computed_keys(),
            ),
            (
                *self.suppression.notes(),
                *notes_of(self.step, self.rows, self.by, self.groups, self.computed, self._unheld()),
            ),
            tuple(proposals(self.step, self.rows, self.by, self.groups)),
            left_out=0 if self.step.attach else len(self.rows) - int(number.sum()),
        )

    def _unheld(self) -> list[str]:
        """Shares of values that no cell holds."""
        shares = [self.names[pair] for pair in self.wanted if SHARE.fullmatch(pair[1])]
        return [name for name in shares if not np.nan_to_num(self.computed[name].values).any()]

    def _computed_keys(self) -> list[Listing]:
        """What the values of computed keys mean."""
        listings = []
        for name, words in self.step.keys if not self.step.min_n else ():
            labels = self.rows.dictionary.labels_of(name) if name else {}
            if labels:
                texts = self.groups.values[name].to_text().to_pylist()
                counts = {code: int(self.sizes[[text == code for text in texts]].sum()) for code in labels}
                lines = tuple((code, label, counts[code]) for code, label in labels.items())
                listings.append(Listing(f"{name} = {words}", ("code", "label", "rows"), lines))
        return listings

    def _of_result(self, made: Table) -> Balance:
        """Groups that the rows show against those in the result; beside every row, the cells that are kept."""
        if self.step.attach:
            return kept_cells(self.rows, made)
        shown = int(np.count_nonzero(self.sizes))
        together = sum(groups.count for groups in totals_of(self.groups, self.by)) if self.step.totals else 0
        empty = int(np.count_nonzero(self.sizes == 0))
        parts: tuple[tuple[str, int], ...]
        parts = (("for groups that the rows show", shown), ("for declared groups without a row", empty),
                 ("for all together", together))  # fmt: skip
        parts = tuple((word, count) for word, count in parts if count or word.endswith("show"))
        return Balance("rows of the result", len(made), parts, quiet=len(parts) == 1)

    def _used(self, column: Column) -> tuple[int, int, str]:
        """Values of a variable that were used, cells that were skipped, and why."""
        inside = self.inside
        told: list[str] = []
        if self.weights is not None:
            inside = ~np.isnan(self.weights) if inside is None else inside & ~np.isnan(self.weights)
            lost = int(np.count_nonzero(np.isnan(self.weights)))
            told += [f"{lost:,} without a weight"] if lost else []
        rows = len(column) if inside is None else int(np.count_nonzero(inside))
        if column.why is None:
            return rows, 0, ", ".join(told) or "none"
        counts = np.bincount(column.why if inside is None else column.why[inside], minlength=256)
        told += [f"{count:,} {why}" for why, count in zip(column.reasons, counts[1:].tolist(), strict=False) if count]
        return int(counts[0]), rows - int(counts[0]), ", ".join(told) or "none"

    def _left(self) -> tuple[tuple[str, int], ...]:
        """Rows in no group, by the first grouping column that is missing."""
        rest = self.groups.codes < 0
        parts = []
        for name in self.by:
            here = rest & self.rows[name].is_missing
            rest = rest & ~here
            parts.append((f"{name} missing, in no group", int(np.count_nonzero(here))))
        return tuple((word, count) for word, count in parts if count)
