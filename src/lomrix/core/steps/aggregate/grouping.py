"""Which rows make which groups: by columns or computed keys, missing keys, empty groups, and all together."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError
from lomrix.core.language.carried import carried_into
from lomrix.core.language.evaluate import evaluated
from lomrix.core.language.parse import parsed
from lomrix.core.rows.keys import Groups, grouped, ordered_ranks
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.table.column import Column, either
from lomrix.core.table.numbers import is_number, number_of
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.variable import Variable

TOTAL = "total"
MOST_GROUPS = 5_000_000


def with_keys(step: Aggregate, table: Table) -> tuple[Table, tuple[str, ...]]:
    """The table with its computed keys, and the names of all keys.

    Raises
    ------
    DataError
        Where a computed key's name is taken.
    """
    names: list[str] = []
    for name, words in step.keys:
        if not name:
            names += [one for one in chosen_columns(words, table.types(), table.name) if one not in names]
            continue
        require_free(name, table.names, "a group's key")
        column, carried = evaluated(words, table), carried_into(parsed(words), table.dictionary)
        made = table.with_columns({**table.columns, name: column})
        dictionary = made.dictionary.with_variable(
            name, Variable(description=f"Derived: {words}", codes=carried.entry.codes, label=carried.entry.label)
        )
        if carried.labels is not None:
            dictionary = dictionary.with_codes(name, carried.labels)
            dictionary = dictionary.with_variable(name, dictionary.of(name).with_(codes=name))
        table = Table(made.columns, dictionary, table.history, table.name, table.first_row)
        names.append(name)
    return table, tuple(names)


def groups_of(step: Aggregate, table: Table, by: Sequence[str]) -> Groups:
    """The groups in the order of their values."""
    if step.missing_group == "own":
        return grouped_with_missing(table, by)
    groups = grouped(table, tuple(by))
    return with_empty(groups, table, by) if step.empty_groups else groups


def grouped_with_missing(table: Table, by: Sequence[str]) -> Groups:
    """Groups in which a missing key is a value of its own, one for each reason, behind all others."""
    columns = {}
    for name in by:
        column = table[name]
        ranks, size = ordered_ranks(column)
        if column.why is not None:
            ranks = np.where(column.why == 0, ranks, size - 1 + column.why.astype(np.int64))
        columns[name] = Column.of("integer", ranks)
    groups = grouped(Table(columns), tuple(by))
    first = first_rows(groups.codes, groups.count)
    return Groups(groups.codes, groups.count, {name: table[name].take(first) for name in by})


def first_rows(codes: npt.NDArray[np.int64], count: int) -> npt.NDArray[np.int64]:
    """The first row of each group."""
    first = np.zeros(count, np.int64)
    rows = np.flatnonzero(codes >= 0)[::-1]
    first[codes[rows]] = rows
    return first


def with_empty(groups: Groups, table: Table, by: Sequence[str]) -> Groups:
    """Groups to which those of declared codes that no row has are added.

    Raises
    ------
    DataError
        Where that would make too many.
    """
    levels = {name: declared(groups.values[name], table, name) for name in by}
    count = int(np.prod([len(column) for column in levels.values()], dtype=np.float64))
    if count > MOST_GROUPS:
        raise DataError(f"There would be {count:,} groups.", todo="Leave ‹empty_groups› out, or name fewer keys.")
    sizes = [len(column) for column in levels.values()]
    at = np.zeros(groups.count, np.int64)
    for name, size in zip(by, sizes, strict=True):
        at = at * size + places_in(groups.values[name], levels[name])
    places = np.unravel_index(np.arange(count), sizes)
    values = {name: levels[name].take(place) for name, place in zip(by, places, strict=True)}
    return Groups(np.append(at, -1)[groups.codes], count, values)


def declared(values: Column, table: Table, name: str) -> Column:
    """The values of a key that occur, and those of its codes that do not, in order."""
    codes = list(table.dictionary.labels_of(name))
    if values.type in ("integer", "number"):
        numbers = [number_of(code) for code in codes if is_number(code)]
        distinct = np.unique(np.append(values.values[~values.is_missing], np.array(numbers, values.values.dtype)))
        return Column.of(values.type, distinct)
    if values.type != "string":
        return values.take(first_rows(*ordered_ranks(values)))
    whole = Column.of_cells("string", list(dict.fromkeys([*values.cells(), *codes])))
    ranks, _ = ordered_ranks(whole)
    return whole.take(np.argsort(ranks, kind="stable"))


def places_in(values: Column, levels: Column) -> npt.NDArray[np.int64]:
    """Where each value stands among the levels, which hold all of them in order."""
    if values.type != "string":
        return np.searchsorted(levels.values, values.values)
    place = {text: at for at, text in enumerate(levels.cells())}
    return np.array([place[text] for text in values.cells()], np.int64)


def inner_codes(groups: Groups, by: Sequence[str]) -> list[npt.NDArray[np.int64]]:
    """For each level of totals the total that each group belongs to: over the last key, the last two, and so on."""
    found = []
    for kept in range(len(by) - 1, -1, -1):
        few = Table({name: groups.values[name] for name in by[:kept]})
        found.append(grouped_with_missing(few, by[:kept]).codes if kept else np.zeros(groups.count, np.int64))
    return found


def totals_of(groups: Groups, by: Sequence[str]) -> list[Groups]:
    """All groups together: over the last key, over the last two, and so on.

    Of the keys that do not count the value is missing, `total`.
    """
    found = []
    for kept in range(len(by) - 1, -1, -1):
        few = Table({name: groups.values[name] for name in by[:kept]})
        inner = grouped_with_missing(few, by[:kept]) if kept else Groups(np.zeros(groups.count, np.int64), 1, {})
        values = dict(inner.values)
        for name in by[kept:]:
            values[name] = Column.all_missing(groups.values[name].type, inner.count, TOTAL)
        found.append(Groups(np.append(inner.codes, -1)[groups.codes], inner.count, values))
    return found


def one_after_the_other(columns: Sequence[Column]) -> Column:
    """Columns of one type under each other."""
    whole = columns[0]
    for more in columns[1:]:
        rows = np.arange(len(whole) + len(more))
        first = whole.take_or(np.where(rows < len(whole), rows, -1), TOTAL)
        second = more.take_or(np.maximum(rows - len(whole), -1), TOTAL)
        whole = either(first, second, rows >= len(whole))
    return whole
