"""Few groups of more rows than memory holds: values are kept on disk by variable, and looked at in blocks.

A division by key would leave all rows of a group together, which may be most rows of the table.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from lomrix.core.arrays.matching import sum_counts
from lomrix.core.arrays.types import Array, Counts
from lomrix.core.combining import Combinable, combine, combine_all
from lomrix.core.rows.candidate_keys import guess_case
from lomrix.core.rows.counted import CountedRows
from lomrix.core.rows.keys import Groups, locate_rows
from lomrix.core.rows.statistics import Summary
from lomrix.core.steps.aggregate.account import Used
from lomrix.core.steps.aggregate.grouping import add_computed_keys, find_groups, make_totals
from lomrix.core.steps.aggregate.run import Extents, Grouping, survey
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.aggregate.suppression import (
    ROWS,
    CountedCells,
    Suppression,
    divide_cells,
    encode_cases,
    is_condition,
    suppress,
)
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

if TYPE_CHECKING:
    from lomrix.core.combining import Run
    from lomrix.core.steps.parts import Store

# Groups that are aggregated this way: more of them are divided by key, unless they are needed together.
MOST_GROUPS, MOST_TOGETHER = 1_000, 16_000
VALUE, GROUP = "value", "group"
# Bytes that a group and case together take while they are counted, as measured.
PERSON_SIZE = 50


@dataclass(frozen=True)
class BlockSurvey(Combinable):
    """What is known of some rows: the keys and how often each occurs, how far values reach, and a row with a value of
    each column.
    """

    keys: CountedRows
    extents: Extents
    sample: Table

    def combine(self, later: BlockSurvey) -> BlockSurvey:
        """Add what is known of later rows."""
        sample = concatenate_tables([self.sample, later.sample])
        return BlockSurvey(
            self.keys.combine(later.keys), combine(self.extents, later.extents), sample.take(find_filled_rows(sample))
        )


def aggregate_few_groups(
    step: Aggregate, tables: Inputs, wanted: Collection[str], size: int, make_store: Callable[[], Store], run: Run
) -> Result | None:
    """Aggregate a table in blocks; None if it has too many groups, which are divided by key, or too many cases."""
    blocks = list(tables.get_one().split(size))
    most = MOST_GROUPS if step.division.is_by_key else MOST_TOGETHER
    if step.attach or len(survey_block(step, blocks[0]).keys.counts) > most:
        return None
    known = combine_all(run(survey_block, ((step, block) for block in blocks)))
    if len(known.keys.counts) > most:
        return None
    sample, by = add_computed_keys(step, replace(known.sample, first_row=blocks[0].first_row))
    groups = find_groups(step, known.keys.table, by)
    sizes = sum_counts(groups.codes, groups.count, known.keys.counts)
    grouping = Grouping(step, sample, by, known.extents)
    grouping.groups = Groups(np.zeros(len(sample), np.int64), groups.count, groups.values)
    grouping.sizes = sizes
    totals = make_totals(Groups(np.arange(groups.count), groups.count, groups.values), by) if step.totals else []
    variables = list(dict.fromkeys(name for name, _ in grouping.wanted))
    stores = {name: make_store() for name in variables}
    used = dict.fromkeys(variables, Used(0, 0, 0, {}))
    people, most_people = dict[str, CountedRows](), size * len(sample.names) * step.cell_size // PERSON_SIZE
    codes, keys = [np.arange(groups.count), *(level.codes for level in totals)], Table(groups.values)
    for encoded in run(encode_block, ((step, block, keys, codes) for block in blocks), keeps=True):
        for name in variables:
            stores[name].append(encoded.values[name])
            used[name] = combine(used[name], encoded.used[name])
        people = combine(people, encoded.people)
        if sum(len(counted.counts) for counted in people.values()) > most_people:
            return None
    counted = BlockGroups(step, people, tables.get_one(), size)
    grouping.suppression = Suppression(step, grouping.groups, by, grouping.wanted, counted)
    stored = {name: stores[name].finish() for name in variables}
    grouping.computed = compute(grouping, stored, 0, sizes)
    sizes_of_totals = (sum_counts(level.codes, level.count, sizes) for level in totals)
    grouping.levels = [
        {**level.values, **compute(grouping, stored, index, sizes_of_level)}
        for index, (level, sizes_of_level) in enumerate(zip(totals, sizes_of_totals, strict=True), start=1)
    ]
    result = grouping.make_table()
    shown = {name: None if grouping.suppression.hides_all(name) else used[name] for name in variables}
    tally = replace(
        grouping.make_tally(), used=shown, left=count_left(known.keys, groups.codes, by), rows=known.keys.total
    )
    return Result(result, grouping.make_account(result), tally=tally)


@dataclass
class BlockGroups:
    """Who is behind groups: rows counted by group and case, for each variable those that have a value; and the table,
    of which so many rows may be compared at once.
    """

    step: Aggregate
    people: Mapping[str, CountedRows]
    table: Table
    rows_at_once: int

    def list_cells(self, variable: str) -> list[CountedCells]:
        """Return the cells of a variable; of a condition also those for which it is true, and false."""
        counted = self.people[variable]
        cases = encode_cases(counted.table, self.step.case)
        is_true = counted.table[VALUE].values if VALUE in counted.table.columns else None
        parts = divide_cells(counted.table[GROUP].values, is_true)
        return [CountedCells(part, cases, counted.counts) for part in parts]

    def count_unknown(self) -> int:
        """Count the rows in a group that have no case."""
        counted = self.people[ROWS]
        cases = encode_cases(counted.table, self.step.case)
        return 0 if cases is None else int(counted.counts[cases < 0].sum())

    def count_rows(self) -> int:
        """Count all rows."""
        return len(self.table)

    def guess_case(self) -> str:
        """Return the column that likely names the case; empty if rows do not repeat in one."""
        taken = {*self.step.by, *self.people, self.step.weight}
        return guess_case(self.table, taken, self.rows_at_once)


def survey_block(step: Aggregate, block: Table) -> BlockSurvey:
    """Survey some rows."""
    table, by = add_computed_keys(step, block)
    return BlockSurvey(
        CountedRows.of(table, by), survey(step, Inputs(source=block)), block.take(find_filled_rows(block))
    )


def find_filled_rows(table: Table) -> Array:
    """Return for each column the first row with a value; they show its type."""
    filled = [np.flatnonzero(~column.is_missing)[:1] for column in table.columns.values()]
    return np.unique(np.concatenate(filled))


@dataclass(frozen=True)
class EncodedBlock:
    """By variable, the values of some rows with the numbers of their groups, how many are used, and who has them."""

    values: dict[str, Table]
    used: dict[str, Used]
    people: dict[str, CountedRows]  # also of all rows; empty if nothing is suppressed


def encode_block(step: Aggregate, block: Table, keys: Table, levels: Sequence[Array]) -> EncodedBlock:
    """Encode some rows; `levels` has the group, and for each level of totals the total, of each of the keys."""
    table, by = add_computed_keys(step, block)
    grouping = Grouping(step, table, by, {})
    codes = locate_rows(keys, table.only(by))
    inside = np.flatnonzero(codes >= 0)
    values, used, people = {}, {}, {}
    if step.min_n:
        people[ROWS] = count_people(step, table, inside, codes)
    for name in dict.fromkeys(name for name, _ in grouping.wanted):
        column = grouping.computed_from[name].take(inside)
        present = np.flatnonzero(~column.is_missing)
        groups = codes[inside[present]]
        numbers = {str(index): Column.of("integer", level[groups]) for index, level in enumerate(levels)}
        values[name] = Table({**numbers, VALUE: column.take(present)})
        evidence = CodeEvidence.of(column)
        used[name] = Used(len(present), len(inside) - len(present), 0, column.reason_counts(), evidence)
        if step.min_n:
            is_true = column.take(present) if is_condition(step, name) else None
            people[name] = count_people(step, table, inside[present], codes, is_true)
    return EncodedBlock(values, used, people)


def count_people(
    step: Aggregate, table: Table, rows: Array, codes: Array, is_true: Column | None = None
) -> CountedRows:
    """Count some rows by their group, their case, and whether a condition is true."""
    columns = {GROUP: Column.of("integer", codes[rows])} | ({} if is_true is None else {VALUE: is_true})
    columns |= {name: table[name].take(rows) for name in step.case}
    return CountedRows.of(Table(columns), list(columns))


def compute(grouping: Grouping, stored: Mapping[str, Table], level: int, sizes: Counts) -> dict[str, Column]:
    """Compute the statistics of the groups at one level, one variable after the other, from values on disk."""
    hidden = grouping.suppression.get_hidden
    if not stored:
        return {ROWS: suppress(Column.of("integer", sizes), hidden(ROWS, level))}
    computed: dict[tuple[str, str], Column] = {}
    for name, table in stored.items():
        column = table[VALUE]
        if column.is_without_values:  # blocks without a value do not know its type
            column = column.fit_type(grouping.computed_from[name].type)
        summary = Summary(
            column, table[str(level)].values, len(sizes), sizes, grouping.rows.dictionary.labels_of(name),
            extent=grouping.extents.get(name), is_on_disk=True,
        )  # fmt: skip
        computed |= {pair: summary.compute(pair[1]) for pair in grouping.wanted if pair[0] == name}
    return {grouping.names[pair]: suppress(computed[pair], hidden(pair[0], level)) for pair in grouping.wanted}


def count_left(keys: CountedRows, codes: Array, by: Sequence[str]) -> dict[str, int]:
    """Count the rows in no group, by the first key that is missing."""
    remaining, counts = codes < 0, {}
    for name in by:
        lost = remaining & keys.table[name].is_missing
        remaining &= ~lost
        counts[name] = int(keys.counts[lost].sum())
    return counts
