"""Overlap: columns of the same name on both sides of a merge that are not its keys."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.characters import describe_likeness
from lomrix.core.combining import MOST_EXAMPLES, First, Words
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import format_keys
from lomrix.core.steps.account import Listing
from lomrix.core.steps.merge.origin import stack_texts
from lomrix.core.steps.merge.settings import KeyPairs, Merge, OverlapRule
from lomrix.core.table.column import Column, choose_cells, common_type
from lomrix.core.table.comparison import equal_cells
from lomrix.core.table.notes import Note
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.texts import make_text_table

Rows = Array


@dataclass
class Overlap:
    """How the columns of the same name were combined."""

    columns: dict[str, Column] = field(default_factory=dict)  # the columns that stand for both sides, by name
    dropped: set[str] = field(default_factory=set)  # columns of the added table that do not come on their own
    renamed: dict[str, str] = field(default_factory=dict)  # new names of columns of the added table
    listings: tuple[Listing, ...] = ()
    notes: tuple[Note, ...] = ()
    conflicts: Table | None = None
    differences: tuple[Difference, ...] = ()


@dataclass(frozen=True)
class Difference:
    """Cells of a column that differ: how many, and the first by row."""

    name: str
    count: int
    first: First

    @property
    def identity(self) -> str:
        """The column."""
        return self.name

    def combine(self, later: Difference) -> Difference:
        """Add the cells of a later part."""
        return Difference(self.name, self.count + later.count, self.first.combine(later.first))

    def __str__(self) -> str:
        shown = [text for _, text in self.first.items]
        more = " …" if self.count > len(shown) else ""
        verb = "cell differs" if self.count == 1 else "cells differ"
        return f"{self.name}: {self.count:,} {verb}: {', '.join(shown)}{more}"


def require_agreement(base: str, added: str, differences: Sequence[Difference], conflicts: Table | None) -> None:
    """Stop if cells differ.

    Raises DataError with the first of them, and a draft ledger of all.
    """
    differences = [difference for difference in differences if difference.count]
    if differences:
        raise DataError(
            f"{base} and {added} do not agree on columns that both have.",
            where="; ".join(map(str, differences)),
            todo="Correct the cells (‹conflicts=FILE› writes a ledger), or use ‹overlap=base›, added, fill or both.",
            columns=[difference.name for difference in differences],
            extras={"conflicts": conflicts},
        )


def resolve_overlap(
    step: Merge,
    base: Table,
    added: Table,
    key: KeyPairs,
    base_rows: Rows,
    added_rows: Rows,
    key_column: Callable[[str], Column | None],
) -> Overlap:
    """Combine the columns that both tables have, except those that are keys of both.

    `base_rows` and `added_rows` give the row of each side for each row of the result, -1 if there is none; `key_column`
    the result's column for a key of the base. An added column with the name of a key of the base is compared with that
    key. The columns that nearness compares differ by nature, so both are kept. Under `check` cells that differ are in
    `differences`, with a draft ledger of all of them.
    """
    keys = [base_name for base_name, _ in key]
    key_names = [name for _, name in key]
    overlap = Overlap()
    compared: list[OverlapColumn] = []
    for name in (name for name in base.names if name in added.columns and name not in key_names):
        if step.overlap == "both" or (step.nearness is not None and step.nearness.base == step.nearness.added == name):
            overlap.renamed[name] = step.second_name.replace("{column}", name).replace("{file}", added.name)
            require_new_name(overlap.renamed[name], [*base.names, *added.names], f"the second column {name}")
            continue
        column = OverlapColumn(name, base, added, base_rows, added_rows, key_column(name))
        overlap.columns[name] = column.combine(step.overlap)
        overlap.dropped.add(name)
        compared.append(column)
    differing = [column for column in compared if len(column.differing)]
    ledgers = [column.draft_ledger(keys) for column in differing]
    overlap.conflicts = stack_texts(ledgers)
    if overlap.conflicts is not None:
        # Column after column, in each by row: so that parts come in this order too.
        order = [compared.index(column) << 40 for column in differing]
        numbers = [
            place + np.array(ledger["row"].cells(), np.int64) for place, ledger in zip(order, ledgers, strict=True)
        ]
        overlap.conflicts = replace(overlap.conflicts, row_numbers=np.concatenate(numbers))
    if step.overlap == "check":
        overlap.differences = tuple(column.describe_differences(keys) for column in compared)
    if compared:
        rows = tuple((column.name, column.agreeing, len(column.differing), column.filled) for column in compared)
        heads = ("column", "cells that agree", "that differ", "that only the added file has")
        overlap.listings = (Listing("columns in both files", heads, rows),)
    overlap.notes = tuple(note for column in compared for note in column.make_notes(step.overlap))
    return overlap


class OverlapColumn:
    """One column as both tables hold it, for each row of the result."""

    def __init__(
        self, name: str, base: Table, added: Table, base_rows: Rows, added_rows: Rows, key: Column | None = None
    ) -> None:
        type_ = common_type((base[name], added[name]), keeps_whole=True)
        if type_ is None:
            raise DataError(
                f"The column {name} is {base[name].type} in {base.name} and {added[name].type} in {added.name}.",
                todo="Correct the cells of another type, state ‹type›, or use ‹overlap=both›.",
                columns=[name],
            )
        self.name, self.base, self.added = name, base, added
        self.base_rows, self.added_rows = base_rows, added_rows
        # A key has a value in every row, whichever table the row is of.
        self.is_key = key is not None
        self.base_cells = key.widen(type_) if key is not None else base[name].widen(type_).take_or(base_rows, UNMATCHED)
        self.added_cells = added[name].widen(type_).take_or(added_rows, UNMATCHED)
        both = ~self.base_cells.is_missing & ~self.added_cells.is_missing
        differ = both & ~equal_cells(self.base_cells, self.added_cells)
        self.differing = np.flatnonzero(differ)
        self.agreeing = int(np.count_nonzero(both)) - len(self.differing)
        is_in_both = (base_rows >= 0) & (added_rows >= 0)
        self.emptied = int(np.count_nonzero(is_in_both & ~self.base_cells.is_missing & self.added_cells.is_missing))
        self.filled = int(np.count_nonzero(self.base_cells.is_missing & ~self.added_cells.is_missing))

    def combine(self, rule: OverlapRule) -> Column:
        """Combine the cells by a rule; a row that only one side has takes that side's cell and its reason."""
        first, second, rows = self.base_cells, self.added_cells, self.base_rows
        if rule == "added":
            first, second, rows = self.added_cells, self.base_cells, self.added_rows
        use_second = (rows < 0) & (first.is_missing | (not self.is_key))
        if rule in ("check", "fill"):
            use_second = use_second | (first.is_missing & ~second.is_missing)
        return choose_cells(first, second, use_second)

    def make_notes(self, rule: OverlapRule) -> list[Note]:
        """Note values that the rule did not use, and those that it replaced by missing cells."""
        side = self.added.name if rule == "added" else self.base.name
        count = len(self.differing)
        text = Words(
            "{cells:cell differs|cells differ}; the value of {side} was used.", cells=count, side=side
        )  # fmt: skip
        notes = [Note(text, self.name, (), "overridden", count)]
        if rule == "added":
            text = Words(
                "{cells:value} of {base} replaced by a missing cell of {added}; ‹overlap=fill› keeps {cells:=it|them}.",
                cells=self.emptied, base=self.base.name, added=self.added.name,
            )  # fmt: skip
            notes.append(Note(text, self.name, (), "emptied", self.emptied))
        return notes

    def draft_ledger(self, key: list[str]) -> Table:
        """Return the differing cells as a draft ledger for the base."""
        # A base row with several partners is one row to correct.
        rows, firsts = np.unique(self.base_rows[self.differing], return_index=True)
        positions = self.differing[firsts[rows >= 0]]
        rows = rows[rows >= 0]
        base_texts = self.base_cells.take(positions).to_text().to_pylist()
        added_texts = self.added_cells.take(positions).to_text().to_pylist()
        keys = [self.base[name].take(rows).to_text().to_pylist() for name in key]
        why = f"{self.base.name} and {self.added.name} differ"
        lines = [
            (*positions, str(row), self.name, base_text, "set", added_text, why)
            for *positions, row, base_text, added_text in zip(
                *keys, self.base.number_rows(rows), base_texts, added_texts, strict=True
            )
        ]
        return make_text_table([*key, "row", "variable", "old", "action", "new", "why"], lines, "ledger")

    def describe_differences(self, key: list[str]) -> Difference:
        """Return how many cells differ, and the first of them."""
        first_rows = self.differing[:MOST_EXAMPLES]
        keys = format_keys(self.base, key, self.base_rows[first_rows])
        base_texts = self.base_cells.take(first_rows).to_text().to_pylist()
        added_texts = self.added_cells.take(first_rows).to_text().to_pylist()
        rows = self.base.number_rows(self.base_rows[first_rows])
        cells = tuple(
            (row, f"{key_text} (row {row}) {a} against {b}{describe_likeness(a, b)}")
            for key_text, row, a, b in zip(keys, rows, base_texts, added_texts, strict=True)
        )
        return Difference(self.name, len(self.differing), First(cells))
