"""Steps done part by part: parts of tables, and how their results become that of the whole."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.combining import combine_all
from lomrix.core.errors import DataError
from lomrix.core.rows.partitions import hash_rows
from lomrix.core.steps.account import Account
from lomrix.core.steps.step import Inputs, Result, Step
from lomrix.core.table.column import Column
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

# Partitions that are made at once; larger tables are divided again.
MOST_PARTITIONS = 64
# A partition may have this many times the planned rows before it is divided again.
TOLERANCE = 2
MOST_DIVISIONS = 4
# Rows are partitioned and sorted in this many blocks per part, since that takes memory of its own.
BLOCKS = 3


class Store(Protocol):
    """Where a table that is made part by part is kept."""

    def append(self, table: Table) -> None:
        """Append the rows of a part."""

    def finish(self) -> Table:
        """Return the table."""


@dataclass
class MemoryStore:
    """Parts of a table in memory."""

    parts: list[Table] = field(default_factory=list)

    def append(self, table: Table) -> None:
        """Append the rows of a part."""
        self.parts.append(table)

    def finish(self) -> Table:
        """Return the table."""
        return concatenate_tables(self.parts)


def apply_in_parts(
    step: Step,
    tables: Inputs,
    wanted: Collection[str],
    size: int,
    make_store: Callable[[], Store] = MemoryStore,
    report: Callable[[int], None] = lambda part: None,
) -> Result:
    """Apply a step to parts of about `size` rows; the result is that of `Step.apply`.

    `make_store` makes what tables are kept in; `report` gets the number of the next part, from 1, and 0 after the last.
    """
    parts = split_rows_of_inputs if step.division.kind == "any rows" else split_keys_of_inputs
    survey = combine_all(map(step.survey, split_rows_of_inputs(step, tables, size))) if step.surveying else None
    done: list[tuple[Account, Any]] = []
    errors: list[DataError] = []
    extras: dict[str, Store] = {}
    retyped: dict[str, None] = {}
    store, shown, stops = make_store(), tuple[str, ...](), False
    for number, part in enumerate(parts(step, tables, size, make_store), start=1):
        report(number)
        try:
            result = step.process(part, wanted, survey)
        except DataError as error:
            errors.append(error)
            continue
        done.append((result.account, result.tally))
        retyped.update(dict.fromkeys(result.retyped))
        shown, stops = result.shown, stops or result.stops
        if not stops and not errors:
            store.append(result.table)
            for name, extra in result.extras.items():
                extras.setdefault(name, make_store()).append(extra)
    report(0)
    if errors:
        raise combine_all(errors)
    # What the parts show together may stop the step, before its table is put in order.
    account = step.conclude(done)
    table = store.finish()
    table = step.arrange(table, tables) if step.arranging else sort_by_number(table, size, make_store)
    sorted_extras = {name: sort_by_number(extra.finish(), size, make_store) for name, extra in extras.items()}
    return Result(table, account, sorted_extras, shown, tuple(retyped))


# ------------------------------------------------------------------------- by rows


def slice_rows(table: Table, start: int, stop: int) -> Table:
    """Return some rows of a table without copying; they keep their numbers."""
    rows = {name: column.slice(start, stop) for name, column in table.columns.items()}
    numbers = None if table.row_numbers is None else table.row_numbers[start:stop]
    return replace(table, columns=rows, first_row=table.first_row + start, row_numbers=numbers)


def split_rows(table: Table, size: int) -> Iterator[Table]:
    """Yield a table some rows at a time; a table without rows is one part."""
    for start in range(0, max(len(table), 1), size):
        yield slice_rows(table, start, start + size)


def split_rows_of_inputs(
    step: Step, tables: Inputs, size: int, make_store: Callable[[], Store] = MemoryStore
) -> Iterator[Inputs]:
    """Yield parts of the first role's table, each with the other tables as a whole."""
    role = step.roles[0].name
    others = {name: tables.get_all(name) for name in tables.roles if name != role}
    for part in split_rows(tables.get_one(role), size):
        yield Inputs(**{role: part}, **others)


# ------------------------------------------------------------------------- by key


def split_keys_of_inputs(step: Step, tables: Inputs, size: int, make_store: Callable[[], Store]) -> Iterator[Inputs]:
    """Yield partitions of the tables: rows of one key are in one of them, in their order."""
    roles = list(step.division.columns)
    others = {name: tables.get_all(name) for name in tables.roles if name not in roles}
    divided = {role: tables.get_one(role) for role in roles}
    for part in divide(step, divided, choose_key_types(step, divided), size, make_store, 0):
        yield Inputs(**part, **others)


def choose_key_types(step: Step, tables: Mapping[str, Table]) -> list[bool]:
    """Return for each key whether it is compared as text, since one table has it as text and another does not."""
    result = []
    for columns in zip(*(step.make_keys(role, slice_rows(table, 0, 0)) for role, table in tables.items()), strict=True):
        types = {column.type for column in columns}
        result.append("string" in types and len(types) > 1)
    return result


def divide(
    step: Step,
    tables: Mapping[str, Table],
    as_text: Sequence[bool],
    size: int,
    make_store: Callable[[], Store],
    depth: int,
) -> Iterator[dict[str, Table]]:
    """Yield partitions in which the largest table has about `size` rows; larger ones are divided again."""
    largest = max(len(table) for table in tables.values())
    count = min(-(-largest // size), MOST_PARTITIONS)
    if count <= 1 or depth == MOST_DIVISIONS:
        yield dict(tables)
        return
    stores = {role: [make_store() for _ in range(count)] for role in tables}
    for role, table in tables.items():
        for start, block in enumerate(split_rows(table, -(-size // BLOCKS))):
            numbers = block.find_row_numbers(np.arange(len(block)))
            keys = zip(step.make_keys(role, block), as_text, strict=True)
            columns = [to_key(column, is_text=is_text) for column, is_text in keys]
            partitions = (hash_rows(columns, depth) % np.uint64(count)).astype(np.int64)
            order = np.argsort(partitions, kind="stable")
            ends = np.searchsorted(partitions[order], np.arange(count + 1))
            for store, (first, last) in zip(stores[role], itertools.pairwise(ends), strict=True):
                # The first block also where it has no row: every partition knows its columns.
                if last > first or not start:
                    rows = order[first:last]
                    store.append(replace(block.take(rows), row_numbers=numbers[rows], first_row=table.first_row))
    parts = [{role: stores[role][index].finish() for role in tables} for index in range(count)]
    filled = [part for part in parts if any(map(len, part.values()))]
    can_divide = len(filled) > 1  # one key is never divided
    filled = filled or [dict(tables)]
    del parts, stores
    while filled:
        part = filled.pop(0)  # so that what is computed of it and kept there is dropped with it
        is_too_large = max(map(len, part.values())) > TOLERANCE * size and can_divide
        yield from divide(step, part, as_text, size, make_store, depth + 1) if is_too_large else [part]


def to_key(column: Column, *, is_text: bool) -> Column:
    """Return a key in the form in which it is compared."""
    if not is_text or column.type == "string":
        return column
    if column.type == "number" and not column.is_without_values:
        whole = np.nan_to_num(column.values)
        if (whole == np.floor(whole)).all() and (np.abs(whole) < 2.0**53).all():
            column = Column.of("integer", whole, column.why, column.reasons)
    return column.widen("string")


def sort_by_number(table: Table, size: int, make_store: Callable[[], Store]) -> Table:
    """Return the rows in the order of their numbers, about `size` of them at a time."""
    numbers = table.row_numbers
    if numbers is None or not len(numbers):
        return replace(table, row_numbers=None)
    store = make_store()
    first, last = find_ends(numbers, size)
    size = -(-size // BLOCKS)
    edges = np.linspace(first, last + 1, -(-len(numbers) // size) + 1).astype(np.int64)
    for low, high in itertools.pairwise(edges.tolist()):
        rows = find_between(numbers, low, high, size)
        store.append(replace(table.take(rows[np.argsort(numbers[rows], kind="stable")]), row_numbers=None))
    return store.finish()


def find_ends(numbers: Array, size: int) -> tuple[int, int]:
    """Return the smallest and the largest number, without asking for all of them at once."""
    blocks: Iterable[Array] = (numbers[start : start + size] for start in range(0, len(numbers), size))
    ends = [(int(block.min()), int(block.max())) for block in blocks]
    return min(low for low, _ in ends), max(high for _, high in ends)


def find_between(numbers: Array, low: int, high: int, size: int) -> Array:
    """Return the positions of numbers from `low` to below `high`."""
    found = []
    for start in range(0, len(numbers), size):
        block = numbers[start : start + size]
        found.append(np.flatnonzero((block >= low) & (block < high)) + start)
    return np.concatenate(found)
