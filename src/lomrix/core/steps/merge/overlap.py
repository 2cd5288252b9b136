"""Overlap: columns of the same name on both sides of a merge that are not its keys."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import key_texts
from lomrix.core.steps.account import Listing
from lomrix.core.steps.merge.origin import stacked_texts
from lomrix.core.steps.merge.settings import KeyPairs, Merge, OverlapRule
from lomrix.core.table.column import Column, common_type, either
from lomrix.core.table.comparison import equal_cells
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.texts import table_of_texts

MOST_EXAMPLES = 5
Rows = Array


@dataclass
class Overlap:
    """What became of the columns of the same name.

    Parameters
    ----------
    columns
        The columns that stand for both sides, by name.
    dropped
        Columns of the added table that do not come on their own.
    renamed
        New names of columns of the added table.
    """

    columns: dict[str, Column] = field(default_factory=dict)
    dropped: set[str] = field(default_factory=set)
    renamed: dict[str, str] = field(default_factory=dict)
    listings: tuple[Listing, ...] = ()
    notes: tuple[Note, ...] = ()
    conflicts: Table | None = None


def resolved_overlap(
    step: Merge,
    base: Table,
    added: Table,
    key: KeyPairs,
    base_rows: Rows,
    added_rows: Rows,
    key_column: Callable[[str], Column | None],
) -> Overlap:
    """Settle the columns that both tables have, but for those that are the key of both.

    A column of the added table that is called as a key of the base is held against that key. The columns that nearness
    compares differ by nature, so both are kept.

    Parameters
    ----------
    step
        What was asked for.
    base, added
        The two tables.
    key
        The merge's keys.
    base_rows, added_rows
        Row of each side for each row of the result, -1 where there is none.
    key_column
        The result's column for a key of the base; None for any other name.

    Raises
    ------
    DataError
        Under `check`, where cells differ; the first are named, and all stand in a draft of a ledger.
    """
    rule, near = step.overlap, step.nearness
    key_names = [name for _, name in key]
    shared = [name for name in base.names if name in added.columns and name not in key_names]
    keys = [base_name for base_name, _ in key]
    overlap = Overlap()
    rows, notes, refused = [], [], []
    drafts: list[Table] = []
    for name in shared:
        if rule == "both" or (near is not None and near.base == near.added == name):
            overlap.renamed[name] = step.second_name.replace("{column}", name).replace("{file}", added.name)
            require_free(overlap.renamed[name], [*base.names, *added.names], f"the second column {name}")
            continue
        sides = Sides(name, base, added, base_rows, added_rows, key_column(name))
        rows.append((name, sides.agreeing, len(sides.differing), sides.filled))
        if rule == "check" and len(sides.differing):
            refused.append(sides.told(keys))
        if len(sides.differing):
            drafts.append(sides.ledger(keys))
        overlap.columns[name] = sides.taken(rule)
        overlap.dropped.add(name)
        if len(sides.differing) and rule != "check":
            side = added.name if rule == "added" else base.name
            cells = counted(len(sides.differing), "cell differs", "cells differ")
            notes.append(Note(f"{cells}; the value of {side} was taken.", name, (), "overridden", len(sides.differing)))
        if sides.emptied and rule == "added":
            cells = counted(sides.emptied, "value", "values")
            text = f"{cells} of {base.name} gave way to a missing cell of {added.name}; ‹overlap=fill› keeps "
            text += f"{plural(sides.emptied, 'it', 'them')}."
            notes.append(Note(text, name, (), "emptied", sides.emptied))
    if refused:
        raise DataError(
            f"{base.name} and {added.name} do not agree on columns that both have.",
            where="; ".join(refused),
            todo="Mend the cells (‹conflicts=FILE› makes them a ledger), or say ‹overlap=base›, added, fill or both.",
            extras={"conflicts": stacked_texts(drafts)},
        )
    if rows:
        columns = ("column", "cells that agree", "that differ", "that only the added file has")
        overlap.listings = (Listing("columns in both files", columns, tuple(rows)),)
    overlap.notes = tuple(notes)
    overlap.conflicts = stacked_texts(drafts)
    return overlap


class Sides:
    """One column as both tables hold it, row by row of the result."""

    def __init__(
        self, name: str, base: Table, added: Table, base_rows: Rows, added_rows: Rows, key: Column | None = None
    ) -> None:
        type_ = common_type((base[name], added[name]), keeps_whole=True)
        if type_ is None:
            raise DataError(
                f"The column {name} is {base[name].type} in {base.name} and {added[name].type} in {added.name}.",
                todo="Mend the cells that are not of one type, give ‹type›, or say ‹overlap=both›.",
            )
        self.name, self.base, self.added = name, base, added
        self.base_rows, self.added_rows = base_rows, added_rows
        # A key has a value in every row, whichever table the row is of.
        self.is_key = key is not None
        self.mine = key.widened(type_) if key is not None else base[name].widened(type_).take_or(base_rows, UNMATCHED)
        self.theirs = added[name].widened(type_).take_or(added_rows, UNMATCHED)
        both = ~self.mine.is_missing & ~self.theirs.is_missing
        differ = both & ~equal_cells(self.mine, self.theirs)
        self.differing = np.flatnonzero(differ)
        self.agreeing = int(np.count_nonzero(both)) - len(self.differing)
        there = (base_rows >= 0) & (added_rows >= 0)
        self.emptied = int(np.count_nonzero(there & ~self.mine.is_missing & self.theirs.is_missing))
        self.filled = int(np.count_nonzero(self.mine.is_missing & ~self.theirs.is_missing))

    def taken(self, rule: OverlapRule) -> Column:
        """The one column under a rule; a row that only one side has takes that side's cell and its reason."""
        first, second, rows = self.mine, self.theirs, self.base_rows
        if rule == "added":
            first, second, rows = self.theirs, self.mine, self.added_rows
        use_second = (rows < 0) & (first.is_missing | (not self.is_key))
        if rule in ("check", "fill"):
            use_second = use_second | (first.is_missing & ~second.is_missing)
        return either(first, second, use_second)

    def ledger(self, key: list[str]) -> Table:
        """The differing cells as a draft of a ledger for the base."""
        # A base row that has several partners is one row to mend.
        rows, firsts = np.unique(self.base_rows[self.differing], return_index=True)
        own = self.differing[firsts[rows >= 0]]
        rows = rows[rows >= 0]
        mine = self.mine.take(own).to_text().to_pylist()
        theirs = self.theirs.take(own).to_text().to_pylist()
        keys = [self.base[name].take(rows).to_text().to_pylist() for name in key]
        why = f"{self.base.name} and {self.added.name} differ"
        lines = [
            (*own, str(row + self.base.first_row), self.name, one, "set", two, why)
            for *own, row, one, two in zip(*keys, rows.tolist(), mine, theirs, strict=True)
        ]
        return table_of_texts([*key, "row", "variable", "old", "action", "new", "why"], lines, "ledger")

    def told(self, key: list[str]) -> str:
        """The first differing cells in words."""
        some = self.differing[:MOST_EXAMPLES]
        keys = key_texts(self.base, key, self.base_rows[some])
        mine = self.mine.take(some).to_text().to_pylist()
        theirs = self.theirs.take(some).to_text().to_pylist()
        rows = (self.base_rows[some] + self.base.first_row).tolist()
        cells = ", ".join(
            f"{one} (row {row}) {a} against {b}" for one, row, a, b in zip(keys, rows, mine, theirs, strict=True)
        )
        more = " …" if len(self.differing) > len(some) else ""
        count = len(self.differing)
        return f"{self.name}: {count:,} {'cell differs' if count == 1 else 'cells differ'}: {cells}{more}"
