"""Which rows form which groups: by columns or computed keys, missing keys, empty groups, and totals."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError
from lomrix.core.language.carried import inherit_entry
from lomrix.core.language.evaluate import evaluate
from lomrix.core.language.parse import parse
from lomrix.core.rows.keys import Groups, find_group_starts, group_rows, group_with_missing, rank_cells
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.table.column import Column, choose_cells
from lomrix.core.table.numbers import is_number, parse_number
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.variable import Variable

TOTAL = "total"
MOST_GROUPS = 5_000_000


def add_computed_keys(step: Aggregate, table: Table) -> tuple[Table, tuple[str, ...]]:
    """Return the table with its computed keys, and the names of all keys.

    Raises DataError if a computed key's name is already used.
    """
    names: list[str] = []
    for name, expression in step.keys:
        if not name:
            names += [
                column_name
                for column_name in choose_columns(expression, table.types(), table.name)
                if column_name not in names
            ]
            continue
        require_new_name(name, table.names, "a group's key")
        column, inherited = evaluate(expression, table), inherit_entry(parse(expression), table.dictionary)
        result = table.with_columns({**table.columns, name: column})
        dictionary = result.dictionary.with_variable(
            name,
            Variable(description=f"Derived: {expression}", codes=inherited.entry.codes, label=inherited.entry.label),
        )
        if inherited.labels is not None:
            codes, dictionary = dictionary.add_codes(name, inherited.labels)
            dictionary = dictionary.with_variable(name, dictionary.of(name).with_parts(codes=codes))
        table = Table(result.columns, dictionary, table.history, table.name, table.first_row)
        names.append(name)
    return table, tuple(names)


def find_groups(step: Aggregate, table: Table, by: Sequence[str]) -> Groups:
    """Return the groups in the order of their values."""
    if step.missing_group == "own":
        return group_with_missing(table, by)
    groups = group_rows(table, tuple(by))
    return add_empty_groups(groups, table, by) if step.empty_groups else groups


def add_empty_groups(groups: Groups, table: Table, by: Sequence[str]) -> Groups:
    """Add the groups of declared codes that no row has.

    Raises DataError if that would make too many.
    """
    levels = {name: list_declared(groups.values[name], table, name) for name in by}
    count = int(np.prod([len(column) for column in levels.values()], dtype=np.float64))
    if count > MOST_GROUPS:
        raise DataError(f"The keys would make {count:,} groups.", todo="Leave ‹empty_groups› out, or name fewer keys.")
    sizes = [len(column) for column in levels.values()]
    codes = np.zeros(groups.count, np.int64)
    for name, size in zip(by, sizes, strict=True):
        codes = codes * size + find_positions(groups.values[name], levels[name])
    positions = np.unravel_index(np.arange(count), sizes)
    values = {name: levels[name].take(position) for name, position in zip(by, positions, strict=True)}
    return Groups(np.append(codes, -1)[groups.codes], count, values)


def list_declared(values: Column, table: Table, name: str) -> Column:
    """Return the values of a key that occur, and those of its codes that do not, in order."""
    codes = list(table.dictionary.labels_of(name))
    if values.type in ("integer", "number"):
        numbers = [parse_number(code) for code in codes if is_number(code)]
        distinct = np.unique(np.append(values.values[~values.is_missing], np.array(numbers, values.values.dtype)))
        return Column.of(values.type, distinct)
    if values.type != "string":
        return values.take(find_group_starts(*rank_cells(values)))
    whole = Column.of_cells("string", list(dict.fromkeys([*values.cells(), *codes])))
    ranks, _ = rank_cells(whole)
    return whole.take(np.argsort(ranks, kind="stable"))


def find_positions(values: Column, levels: Column) -> npt.NDArray[np.int64]:
    """Return the position of each value among the levels, which are sorted and include all of them."""
    if values.type != "string":
        return np.searchsorted(levels.values, values.values)
    position = {text: index for index, text in enumerate(levels.cells())}
    return np.array([position[text] for text in values.cells()], np.int64)


def find_total_codes(groups: Groups, by: Sequence[str]) -> list[npt.NDArray[np.int64]]:
    """Return for each level of totals the total of each group: over the last key, the last two, and so on."""
    result = []
    for kept in range(len(by) - 1, -1, -1):
        kept_keys = Table({name: groups.values[name] for name in by[:kept]})
        result.append(group_with_missing(kept_keys, by[:kept]).codes if kept else np.zeros(groups.count, np.int64))
    return result


def make_totals(groups: Groups, by: Sequence[str]) -> list[Groups]:
    """Return the groups of each level of totals: over the last key, over the last two, and so on.

    Of the keys that do not count the value is missing, `total`.
    """
    result = []
    for kept in range(len(by) - 1, -1, -1):
        kept_keys = Table({name: groups.values[name] for name in by[:kept]})
        inner = group_with_missing(kept_keys, by[:kept]) if kept else Groups(np.zeros(groups.count, np.int64), 1, {})
        values = dict(inner.values)
        for name in by[kept:]:
            values[name] = Column.all_missing(groups.values[name].type, inner.count, TOTAL)
        result.append(Groups(np.append(inner.codes, -1)[groups.codes], inner.count, values))
    return result


def concatenate(columns: Sequence[Column]) -> Column:
    """Concatenate columns of one type."""
    result = columns[0]
    for column in columns[1:]:
        rows = np.arange(len(result) + len(column))
        first = result.take_or(np.where(rows < len(result), rows, -1), TOTAL)
        second = column.take_or(np.maximum(rows - len(result), -1), TOTAL)
        result = choose_cells(first, second, rows >= len(result))
    return result
