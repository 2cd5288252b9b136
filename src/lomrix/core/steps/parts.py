"""Steps done part by part: parts of tables, and how their results become that of the whole."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.combining import Combinable, Run, combine_all, run_in_memory
from lomrix.core.errors import AllRowsNeededError, DataError
from lomrix.core.rows.partitions import find_cuts, hash_rows
from lomrix.core.rows.sorting import divide_by_order, find_bounds
from lomrix.core.steps.account import Account
from lomrix.core.steps.step import Inputs, Result, Step, load_function
from lomrix.core.table.column import Column
from lomrix.core.table.renaming import concatenate_tables, join_in_row_order, sort_by_number
from lomrix.core.table.table import Table

# Partitions that are made at once; larger tables are divided again.
MOST_PARTITIONS = 64
# A partition may have this many times the planned rows before it is divided again.
TOLERANCE = 2
MOST_DIVISIONS = 4
# Rows are partitioned and sorted in this many blocks per part, since that takes memory of its own.
BLOCKS = 3
# Rows by which the bounds between parts of an order are found.
SAMPLE = 50_000
# The tables of a part by role, each in pieces that follow each other.
Pieces = Mapping[str, Sequence[Table]]


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


@dataclass
class Parts:
    """A step, its tables, and how they are divided into parts of about `size` rows."""

    step: Step
    tables: Inputs
    size: int
    make_store: Callable[[], Store]
    run: Run
    partitions: list[Pieces] = field(default_factory=list)

    @cached_property
    def cuts(self) -> list[int] | None:
        """Rows at which a table can be cut since its keys are sorted; None if they are not, or there are several
        tables.
        """
        columns = self.step.division.columns
        if not self.step.division.is_by_key or len(columns) > 1:
            return None
        (role,) = columns
        return find_cuts(
            self.tables.get_one(role), self.size, -(-self.size // BLOCKS),
            lambda block: self.step.make_keys(role, block)[0], has_common_pool=not self.step.keying,
        )  # fmt: skip

    @property
    def follow_each_other(self) -> bool:
        """True if the results of the parts are in their order."""
        return self.step.division.kind in ("any rows", "by order") or self.cuts is not None

    @property
    def others(self) -> Pieces:
        """Tables that are not divided, which every part has whole."""
        divided = self.step.division.columns
        return {name: self.tables.get_all(name) for name in self.tables.roles if name not in divided}

    def survey(self, report: Callable[[int], None]) -> Any:
        """Return what must be known of all parts, after reporting the number of each; None if nothing.

        Raises DataError if it shows that the data break an expectation.
        """
        if not self.step.surveying:
            return None
        if self.step.division.is_by_key:
            self.partitions = list(self.split_keys())

        def list_arguments() -> Iterator[tuple[Any, ...]]:
            for number, part in enumerate(self.partitions or self.split_rows(), start=1):
                report(number)
                yield self.step, part

        surveys = [*self.run(survey_part, list_arguments())]
        errors = [survey for survey in surveys if isinstance(survey, DataError)]
        if errors:
            raise combine_all(errors)
        survey = combine_all(surveys)
        self.step.check(self.tables, survey)
        return survey

    def stream(self, wanted: Collection[str]) -> Result | None:
        """Return the result if the step makes it of blocks of rows; else None."""
        if not self.step.streaming or self.cuts is not None:
            return None
        stream = load_function(self.step.streaming)
        result: Result | None = stream(self.step, self.tables, wanted, self.size, self.make_store, self.run)
        if result is None:
            return None
        return replace(result, account=self.step.conclude([(result.account, result.tally)]), tally=None)

    def split(self) -> Iterator[Pieces]:
        """Yield the parts: rows in their order, partitions in which the rows of a key are together, or stretches of an
        order that rows are sorted in.
        """
        if self.partitions:
            return iter(self.partitions)
        split = {"any rows": self.split_rows, "by key": self.split_keys, "by order": self.split_order}
        return split[self.step.division.kind]()

    def split_rows(self) -> Iterator[Pieces]:
        """Yield parts of the first role's tables, one after the other, each with the other tables as a whole."""
        role = self.step.roles[0].name
        whole = {name: self.tables.get_all(name) for name in self.tables.roles}
        empty = [table.slice(0, 0) for table in whole[role]]
        for index, table in enumerate(whole[role]):
            for start, stop in itertools.pairwise(self.cuts or [*range(0, max(len(table), 1), self.size), len(table)]):
                yield {**whole, role: [*empty[:index], table.slice(start, stop), *empty[index + 1 :]]}

    def split_keys(self) -> Iterator[Pieces]:
        """Yield partitions of the tables: rows of one key are in the same one, in their order."""
        if self.cuts is not None:
            yield from self.split_rows()
            return
        roles = list(self.step.division.columns)
        divided = {role: self.tables.get_one(role) for role in roles}
        as_text = choose_key_types(self.step, divided)
        blocks = {role: list(table.split(-(-self.size // BLOCKS))) for role, table in divided.items()}
        for part in self.divide(blocks, as_text, 0):
            yield {**part, **self.others}

    def divide(self, blocks: Pieces, as_text: Sequence[bool], depth: int) -> Iterator[Pieces]:
        """Yield partitions in which the largest table has about as many rows as planned; larger ones are divided
        again.
        """
        count = min(-(-count_rows(blocks) // self.size), MOST_PARTITIONS)
        if count <= 1 or depth == MOST_DIVISIONS:
            yield blocks
            return
        by_role = {
            role: list(
                self.run(
                    divide_block,
                    (
                        (self.step, role, block, as_text, count, depth, self.tables.get_one(role).first_row)
                        for block in map(forget_caches, blocks[role])
                    ),
                    keeps=True,
                )
            )
            for role in blocks
        }
        parts = [{role: [pieces[index] for pieces in by_role[role]] for role in blocks} for index in range(count)]
        filled = [part for part in parts if count_rows(part)]
        can_divide = len(filled) > 1  # one key is never divided
        for part in filled or parts[:1]:
            is_too_large = count_rows(part) > TOLERANCE * self.size and can_divide
            yield from self.divide(part, as_text, depth + 1) if is_too_large else [part]

    def split_order(self) -> Iterator[Pieces]:
        """Yield stretches of the rows in the order in which they are sorted."""
        ((role, words),) = self.step.division.columns.items()
        blocks = list(self.tables.get_one(role).split(-(-self.size // BLOCKS)))
        for stretch in self.divide_order(blocks, words):
            yield {**self.others, role: stretch}

    def divide_order(self, blocks: Sequence[Table], words: Sequence[str]) -> Iterator[Sequence[Table]]:
        """Yield the rows of some blocks in stretches of about as many rows as planned, if several words allow that."""
        rows = sum(map(len, blocks))
        if rows <= self.size or not words:
            yield blocks
            return
        word, first_row = words[0], self.tables.get_one(self.step.roles[0].name).first_row
        sample = concatenate_tables([block.take(np.arange(0, len(block), rows // SAMPLE + 1)) for block in blocks])
        prepared = prepare_block(self.step, sample, self.others)
        bounds = find_bounds(prepared, word, min(-(-rows // self.size) * BLOCKS, MOST_PARTITIONS))
        arguments = ((self.step, block, self.others, word, bounds, first_row) for block in map(forget_caches, blocks))
        divided = list(self.run(order_block, arguments, keeps=True))
        pending: list[Table] = []
        for number, stretch in enumerate(zip(*map(release_each, divided), strict=True)):
            size = sum(map(len, stretch))
            if pending and sum(map(len, pending)) + size > self.size:
                yield pending
                pending = []
            if size > self.size:
                # An odd one has only one value, so that the next word decides.
                yield from self.divide_order(stretch, words[1:] if number % 2 else words)
            else:
                pending = [*pending, *stretch]
        if pending:
            yield pending


def apply_in_parts(
    step: Step,
    tables: Inputs,
    wanted: Collection[str],
    size: int,
    make_store: Callable[[], Store] = MemoryStore,
    report: Callable[[int], None] = lambda part: None,
    run: Run = run_in_memory,
) -> Result:
    """Apply a step to parts of about `size` rows; the result is that of `Step.apply`.

    `make_store` makes what tables are kept in; `report` gets the number of the next part, from 1, and 0 after the last.
    """
    if step.simplifying:

        def apply(simpler: Step, some: Inputs) -> Result:
            return apply_in_parts(simpler, some, wanted, size, make_store, report, run)

        result: Result | None = load_function(step.simplifying)(step, tables, apply, size, make_store)
        if result is not None:
            return replace(result, account=step.conclude([(result.account, None)]))
    parts = Parts(step, tables, size, make_store, run)
    streamed = parts.stream(wanted)
    if streamed is not None:
        return streamed
    if step.division.kind == "blocks":
        raise AllRowsNeededError(f"{step.word} needs all rows at once.")
    if step.division.kind == "survey only":
        survey = parts.survey(report)
        report(0)
        return step.apply(tables, wanted, survey)
    survey, results_of_parts = parts.survey(lambda part: None), PartResults(parts)

    def list_arguments() -> Iterator[tuple[Any, ...]]:
        for number, part in enumerate(parts.split(), start=1):
            report(number)
            yield step, part, wanted, survey

    # What comes in its order goes straight to its store.
    for part in run(process_part, list_arguments(), keeps=not parts.follow_each_other or bool(wanted)):
        results_of_parts.add(part)
    report(0)
    return results_of_parts.join()


@dataclass
class PartResults:
    """The results of parts, as they come."""

    parts: Parts
    tables: dict[str, list[Table]] = field(default_factory=dict)
    stores: dict[str, Store] = field(default_factory=dict)
    accounts: list[tuple[Account, Any]] = field(default_factory=list)  # with what each part gives the conclusion
    errors: list[DataError] = field(default_factory=list)
    extras: dict[str, Any] = field(default_factory=dict)
    retyped: dict[str, None] = field(default_factory=dict)
    shown: tuple[str, ...] = ()
    stops: bool = False

    def add(self, result: Result | DataError) -> None:
        """Add the result of the next part; its tables are kept unless the step is to stop."""
        if isinstance(result, DataError):
            self.errors.append(result)
            return
        self.accounts.append((result.account, result.tally))
        self.retyped.update(dict.fromkeys(result.retyped))
        self.shown, self.stops = result.shown, self.stops or result.stops
        if self.stops or self.errors:
            return
        self.keep("", result.table)
        for name, extra in result.extras.items():
            adds_up = name in self.extras and isinstance(extra, Combinable)
            self.extras[name] = self.extras[name].combine(extra) if adds_up else extra
            if isinstance(extra, Table):
                self.keep(name, extra)

    def join(self) -> Result:
        """Return the result of all parts.

        Raises the DataError of parts, or of what they show together.
        """
        if self.errors:
            raise combine_all(self.errors)
        parts = self.parts
        # What the parts show together may stop the step, before its table is put in order.
        account = parts.step.conclude(self.accounts)
        table = parts.step.arrange(self.finish(""), parts.tables)
        extras = {name: self.finish(name) if isinstance(extra, Table) else extra for name, extra in self.extras.items()}
        return parts.step.complete(Result(table, account, extras, self.shown, tuple(self.retyped)), parts.tables)

    def keep(self, name: str, table: Table) -> None:
        """Keep a table of the next part."""
        if self.parts.cuts is not None or (not name and self.parts.step.division.kind == "by order"):
            table = replace(table, row_numbers=None)
        if table.row_numbers is not None:
            self.tables.setdefault(name, []).append(table)
            return
        if name not in self.stores:
            self.stores[name] = self.parts.make_store()
        self.stores[name].append(table)

    def finish(self, name: str) -> Table:
        """Return a table of all parts, in the order of the rows' numbers if they have any."""
        tables = self.tables.get(name)
        if tables is None:
            return replace(self.stores[name].finish(), row_numbers=None)
        store = self.parts.make_store()
        numbers = [table.row_numbers for table in tables if table.row_numbers is not None and len(table)]
        low, high = min((each[0] for each in numbers), default=0), max((each[-1] for each in numbers), default=0)
        # As many cells at once as a part has, since the rows may be longer.
        cells = sum(len(table) * len(table.columns) for table in tables)
        first = self.parts.tables.get_one(self.parts.step.roles[0].name)
        cells_at_once = self.parts.size * len(first.columns)
        pieces = max(-(-cells * BLOCKS // cells_at_once), 1)
        edges = np.linspace(low, high + 1, pieces + 1).astype(np.int64).tolist()
        ranges = ((tables, first, last) for first, last in itertools.pairwise(edges))
        for piece in self.parts.run(join_between, ranges):
            store.append(piece)
        return store.finish()


# ------------------------------------------------------- what is done with each part


def survey_part(step: Step, part: Pieces) -> Any:
    """Return what must be known of a part, or what is wrong with its data."""
    try:
        return step.survey(join_pieces(step, part))
    except DataError as error:
        return error


def process_part(step: Step, part: Pieces, wanted: Collection[str], survey: Any) -> Result | DataError:
    """Process a part; what is wrong with its data is a result too, since other parts may have more of it."""
    try:
        result = step.process(join_pieces(step, part), wanted, survey)
    except DataError as error:
        return error
    return replace(
        result,
        table=result.table if step.division.kind == "by order" else sort_by_number(result.table),
        extras={
            name: sort_by_number(extra) if isinstance(extra, Table) else extra for name, extra in result.extras.items()
        },
    )


def join_pieces(step: Step, part: Pieces) -> Inputs:
    """Return the tables of a part, each in one piece."""
    many = {role.name for role in step.roles if role.many and role.name not in step.division.columns}
    tables = {role: pieces if role in many else join_in_row_order(pieces) for role, pieces in part.items() if pieces}
    return Inputs(**tables)


def divide_block(
    step: Step, role: str, block: Table, as_text: Sequence[bool], count: int, depth: int, first_row: int
) -> list[Table]:
    """Return the rows of a block in partitions by a hash of their keys; they keep their numbers."""
    keys = zip(step.make_keys(role, block), as_text, strict=True)
    hashes = hash_rows([to_key(column, is_text=is_text) for column, is_text in keys], depth)
    return share_out(block, (hashes % np.uint64(count)).astype(np.int64), count, first_row)


def prepare_block(step: Step, block: Table, others: Pieces) -> Table:
    """Return the rows of a block with the column that they are sorted by."""
    return step.prepare(join_pieces(step, {**others, step.roles[0].name: [block]}))


def order_block(step: Step, block: Table, others: Pieces, word: str, bounds: Table, first_row: int) -> list[Table]:
    """Return the rows of a block in stretches of an order; they keep their numbers."""
    block = prepare_block(step, block, others)
    return share_out(block, divide_by_order(block, word, bounds), 2 * len(bounds) + 2, first_row)


def share_out(block: Table, partitions: Array, count: int, first_row: int) -> list[Table]:
    """Return the rows of a block by the number of their partition; they keep their own numbers."""
    numbers = block.find_row_numbers(np.arange(len(block)))
    order = np.argsort(partitions, kind="stable")
    ends = np.searchsorted(partitions[order], np.arange(count + 1))
    return [
        replace(block.take(order[first:last]), row_numbers=numbers[order[first:last]], first_row=first_row)
        for first, last in itertools.pairwise(ends.tolist())
    ]


def forget_caches(block: Table) -> Table:
    """Return a block of which nothing is kept, such as its distinct strings, once it was used."""
    return block.slice(0, len(block))


def release_each(tables: list[Table]) -> Iterator[Table]:
    """Yield tables that are used once, so that they can be removed from memory then."""
    tables.reverse()
    while tables:
        yield tables.pop()


def join_between(tables: Sequence[Table], low: int, high: int) -> Table:
    """Return the rows with numbers from `low` to below `high`, in their order, from tables that are in this order."""
    pieces = []
    for table in tables:
        assert table.row_numbers is not None
        start, stop = np.searchsorted(table.row_numbers, [low, high]).tolist()
        pieces.append(table.slice(start, stop))
    return replace(join_in_row_order(pieces), row_numbers=None)


# -------------------------------------------------------------------------- rows and keys


def count_rows(part: Pieces) -> int:
    """Count the rows of the largest table."""
    return max(sum(map(len, pieces)) for pieces in part.values())


def choose_key_types(step: Step, tables: Mapping[str, Table]) -> list[bool]:
    """Return for each key whether it is compared as text, since one table has it as text and another does not."""
    result = []
    for columns in zip(*(step.make_keys(role, table.slice(0, 0)) for role, table in tables.items()), strict=True):
        types = {column.type for column in columns}
        result.append("string" in types and len(types) > 1)
    return result


def to_key(column: Column, *, is_text: bool) -> Column:
    """Return a key in the form in which it is compared."""
    if not is_text or column.type == "string":
        return column
    if column.type == "number" and not column.is_without_values:
        whole = np.nan_to_num(column.values)
        if (whole == np.floor(whole)).all() and (np.abs(whole) < 2.0**53).all():
            column = Column.of("integer", whole, column.why, column.reasons)
    return column.widen("string")
