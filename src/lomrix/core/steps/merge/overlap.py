"""Overlap: columns of the same name on both sides of a merge that are not its keys."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import key_texts
from lomrix.core.steps.account import Listing
from lomrix.core.steps.merge.origin import stacked_texts
from lomrix.core.steps.merge.settings import SECOND_NAME, KeyPairs, OverlapRule
from lomrix.core.table.column import Column, common_type, either
from lomrix.core.table.comparison import equal_cells
from lomrix.core.table.notes import Note
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
    rule: OverlapRule,
    base: Table,
    added: Table,
    key: KeyPairs,
    base_rows: Rows,
    added_rows: Rows,
    second_name: str = SECOND_NAME,
) -> Overlap:
    """Settle the columns that both tables have.

    Parameters
    ----------
    rule
        `check` keeps one column where the files agree and stops where they differ; `base` and `added` take
        that side; `fill` takes the base and fills its missing cells; `both` keeps two columns.
    base, added
        The two tables.
    key
        The merge's keys, which are not concerned.
    base_rows, added_rows
        Row of each side for each row of the result, -1 where there is none.
    second_name
        Under `both`, the name of the added table's column.

    Raises
    ------
    DataError
        Under `check`, where cells differ; the first are named, and all stand in a draft of a ledger.
    """
    keys = {name for pair in key for name in pair}
    shared = [name for name in base.names if name in added.columns and name not in keys]
    overlap = Overlap()
    rows, notes, refused = [], [], []
    drafts: list[Table] = []
    for name in shared:
        if rule == "both":
            overlap.renamed[name] = second_name.replace("{column}", name).replace("{file}", added.name)
            require_free(overlap.renamed[name], [*base.names, *added.names], f"the second column {name}")
            continue
        sides = Sides(name, base, added, base_rows, added_rows)
        rows.append((name, sides.agreeing, len(sides.differing), sides.filled))
        if rule == "check" and len(sides.differing):
            refused.append(sides.told([base_name for base_name, _ in key]))
        if len(sides.differing):
            drafts.append(sides.ledger([base_name for base_name, _ in key]))
        overlap.columns[name] = sides.taken(rule)
        overlap.dropped.add(name)
        if len(sides.differing) and rule != "check":
            side = added.name if rule == "added" else base.name
            text = f"{len(sides.differing):,} cells differ; the value of {side} was taken."
            notes.append(Note(text, name, (), "overridden", len(sides.differing)))
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

    def __init__(self, name: str, base: Table, added: Table, base_rows: Rows, added_rows: Rows) -> None:
        type_ = common_type((base[name], added[name]))
        if type_ is None:
            raise DataError(
                f"The column {name} is {base[name].type} in {base.name} and {added[name].type} in {added.name}.",
                todo="Mend the cells that are not of one type, give ‹type›, or say ‹overlap=both›.",
            )
        self.name, self.base, self.added = name, base, added
        self.base_rows, self.added_rows = base_rows, added_rows
        self.mine = base[name].widened(type_).take_or(base_rows, UNMATCHED)
        self.theirs = added[name].widened(type_).take_or(added_rows, UNMATCHED)
        both = ~self.mine.is_missing & ~self.theirs.is_missing
        differ = both & ~equal_cells(self.mine, self.theirs)
        self.differing = np.flatnonzero(differ)
        self.agreeing = int(np.count_nonzero(both)) - len(self.differing)
        self.filled = int(np.count_nonzero(self.mine.is_missing & ~self.theirs.is_missing))

    def taken(self, rule: OverlapRule) -> Column:
        """The one column under a rule; a row that only one side has takes that side's cell and its reason."""
        first, second, rows = self.mine, self.theirs, self.base_rows
        if rule == "added":
            first, second, rows = self.theirs, self.mine, self.added_rows
        use_second = rows < 0
        if rule in ("check", "fill"):
            use_second = use_second | (first.is_missing & ~second.is_missing)
        return either(first, second, use_second)

    def ledger(self, key: list[str]) -> Table:
        """The differing cells as a draft of a ledger for the base."""
        rows = self.base_rows[self.differing]
        mine = self.mine.take(self.differing).to_text().to_pylist()
        theirs = self.theirs.take(self.differing).to_text().to_pylist()
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
