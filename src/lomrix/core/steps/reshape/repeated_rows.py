"""Repeated rows: several rows of one case and occasion become one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.ordinals import Extent
from lomrix.core.arrays.statistics import group_sizes
from lomrix.core.errors import DataError
from lomrix.core.rows.cases import find_row_changes
from lomrix.core.rows.statistics import Summary
from lomrix.core.steps.reshape.to_wide import Reduction
from lomrix.core.table.column import Column, is_exact
from lomrix.core.table.numbers import Type
from lomrix.core.table.renaming import concatenate_columns
from lomrix.core.table.table import Table

Rows = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Reduced:
    """The result of reducing repeated rows."""

    table: Table  # the table with one row for each case and occasion, in the order of the first ones
    dropped: int  # number of rows that are no more
    cells: int  # number of cases and occasions that had several rows
    values_gone: dict[str, int]  # by column, the present values that are no more
    # by column that cannot be computed with, in how many cases and occasions its values differed, of which the first
    # was taken
    taken_first: dict[str, int]


def reduce_rows(
    table: Table,
    cells: Rows,
    repeated: Rows,
    columns: list[str],
    how: Reduction,
    extents: Mapping[str, Extent] | None = None,
) -> Reduced:
    """Reduce repeated rows to one.

    Parameters
    ----------
    table
        The long table.
    cells
        Case and occasion of each row as one number.
    repeated
        Rows that share their number with another one.
    columns
        The columns to reduce; of the others the kept row's cell stays.
    how
        The `first` or the `last` row, or a statistic of the present values; where that cannot be computed (texts,
        codes with labels, dates other than with min and max), the first present value.
    extents
        Those of all parts' repeated rows by column, if they are added up and this is a part.
    """
    order = repeated[np.argsort(cells[repeated], kind="stable")]
    is_new = np.diff(cells[order], prepend=-1) != 0
    firsts = order[is_new]
    kept = order[np.append(is_new[1:], True)[: len(order)]] if how == "last" else firsts
    group = np.cumsum(is_new) - 1
    keep = np.ones(len(table), np.bool_)
    keep[order] = False
    keep[firsts] = True
    # The kept row takes the position of the first one, so that cases keep their order.
    source = np.arange(len(table))
    source[firsts] = kept
    rows = source[keep]
    columns_made, taken_first = {}, {}
    for name, column in table.columns.items():
        if name in columns and how not in ("first", "last"):
            computes = column.type in ("integer", "number") and not table.dictionary.labels_of(name)
            computes |= column.type in ("date", "datetime") and how in ("min", "max")
            if not computes:
                taken_first[name] = _count_differing(column.take(order), group)
            extent = (extents or {}).get(name)
            column = _put_statistics(name, column, order, group, kept, how if computes else "", extent)
        columns_made[name] = column.take(rows)
    before = {name: len(table) - table[name].missing_count for name in columns}
    values_lost = {name: count - (len(rows) - columns_made[name].missing_count) for name, count in before.items()}
    numbers = None if table.row_numbers is None else table.row_numbers[rows]
    result = replace(table, columns=columns_made, row_numbers=numbers)
    return Reduced(result, len(table) - len(rows), len(firsts), values_lost, taken_first)


def _put_statistics(
    name: str, column: Column, order: Rows, group: Rows, kept: Rows, how: str, extent: Extent | None
) -> Column:
    """Put each group's statistic, or its first present value, into the row that is kept."""
    present = ~column.is_missing[order]
    count = len(kept)
    nonempty = np.flatnonzero(group_sizes(group[present], count))
    if not how:
        first = np.full(count, -1, np.int64)
        first[group[present][::-1]] = order[present][::-1]
        source = np.arange(len(column))
        source[kept[nonempty]] = first[nonempty]
        return column.take(source)
    type_: Type = "number" if how in ("mean", "median") else column.type
    if not len(nonempty):  # the type is that of other parts
        return column.widen(type_)
    summary = Summary(column.take(order), group, count, group_sizes(group, count), extent=extent)
    statistic = summary.compute(how).take(nonempty)
    if type_ == "number" != column.type and not is_exact(column.values).all():
        raise DataError(
            f"The {how} of {name} is a decimal, and {name} holds whole numbers too long for decimals.",
            todo="Name it in ‹constant›, or use ‹repeated=first›, last, min or max.",
        )
    column = column.widen(type_)
    # The statistics are appended to the column, then taken into the rows that are kept.
    source = np.arange(len(column))
    source[kept[nonempty]] = len(column) + np.arange(len(nonempty))
    return concatenate_columns([column, statistic], type_).take(source)


def _count_differing(column: Column, group: Rows) -> int:
    """Count the groups in which present values differ."""
    rows = np.flatnonzero(~column.is_missing)
    differ = find_row_changes(column.take(rows)) & (group[rows][1:] == group[rows][:-1])
    return len(np.unique(group[rows][1:][differ]))
