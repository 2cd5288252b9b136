"""Two deliveries held against each other; the ledger that makes the new one of the old."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.rows.keys import key_texts
from lomrix.core.steps.account import Account, Balance, Listing, Parts
from lomrix.core.steps.changes.described import described_otherwise
from lomrix.core.steps.changes.pairing import Paired, paired
from lomrix.core.steps.changes.settings import Changes, tolerance_of
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import NUMERIC, same_cells
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.selection import unknown_column
from lomrix.core.table.table import Table

LEDGER = ("row", "variable", "old", "action", "new", "why", "by")
MOST_EXAMPLES = 3
MOST_KEYS = 8
MOST_LINES = 30
Rows = npt.NDArray[np.int64]


def compared(step: Changes, tables: Inputs, wanted: Collection[str]) -> Result:
    """Hold the new delivery against the old one."""
    work = Held(step, tables.one("old"), tables.one("new"))
    return Result(work.ledger(), work.account())


@dataclass(frozen=True)
class Changed:
    """What became of one column in the rows that both sides have.

    Parameters
    ----------
    pairs
        Places among the pairs where the cells differ.
    near
        How many more differ by no more than the tolerance.
    """

    pairs: Rows
    near: int


@dataclass
class Held:
    """Two deliveries being held against each other."""

    step: Changes
    old: Table
    new: Table

    def __post_init__(self) -> None:
        for table in (self.old, self.new):
            for name in self.step.key:
                if name not in table.columns:
                    raise unknown_column(name, table.names, table.name)

    @cached_property
    def rows(self) -> Paired:
        """Which rows are the same."""
        return paired(self.old, self.new, self.step.key)

    @cached_property
    def shared(self) -> list[str]:
        """The columns that both have, without the key."""
        return [name for name in self.old.names if name in self.new.columns and name not in self.step.key]

    @cached_property
    def changed(self) -> dict[str, Changed]:
        """What became of each column that both have."""
        return {name: self._of_column(name) for name in self.shared}

    def _pair(self, name: str) -> tuple[Column, Column]:
        """A column of both sides, row against row; one without any value is of the other's type."""
        before, now = self.old[name].take(self.rows.old), self.new[name].take(self.rows.new)
        return before.fitting(now.type), now.fitting(before.type)

    def _of_column(self, name: str) -> Changed:
        before, now = self._pair(name)
        differ = ~same_cells(before, now)
        tolerance = tolerance_of(self.step.tolerance)
        if not tolerance or not {before.type, now.type} <= NUMERIC:
            return Changed(np.flatnonzero(differ), 0)
        both = ~before.is_missing & ~now.is_missing
        distance = np.abs(before.values.astype(np.float64) - now.values.astype(np.float64))
        near = differ & both & (np.nan_to_num(distance, nan=np.inf) <= tolerance)
        return Changed(np.flatnonzero(differ & ~near), int(np.count_nonzero(near)))

    # ------------------------------------------------------------------ ledger

    def ledger(self) -> Table:
        """The corrections that make the new delivery of the old one, as far as corrections can."""
        heads = (*self.step.key, *LEDGER)
        parts = [self._corrections(name, changed) for name, changed in self.changed.items() if len(changed.pairs)]
        rows = self.rows.gone
        parts.append(self._lines(rows, None, None, repeated("leave-out", rows), None, f"not in {self.new.name}"))
        texts = [pa.concat_arrays([part[at] for part in parts]) for at in range(len(heads))]
        return Table(
            {name: text_column(array) for name, array in zip(heads, texts, strict=True)}, name="changes"
        )  # fmt: skip

    def _corrections(self, name: str, changed: Changed) -> list[pa.Array]:
        rows = self.rows.old[changed.pairs]
        old, new = self.old[name].take(rows), self.new[name].take(self.rows.new[changed.pairs])
        action = pc.if_else(pa.array(new.is_missing), repeated("missing", rows), repeated("set", rows))
        return self._lines(
            rows, name, worded(old, blank=None), action, worded(new, blank=BLANK), f"as in {self.new.name}"
        )

    def _lines(
        self, rows: Rows, name: str | None, old: pa.Array | None, action: pa.Array, new: pa.Array | None, why: str
    ) -> list[pa.Array]:
        """Lines of the ledger, column by column: key, row, variable, old, action, new, why, by."""
        nothing = pa.nulls(len(rows), pa.large_string())
        return [
            *(self.old[key].take(rows).to_text().cast(pa.large_string()) for key in self.step.key),
            pa.array(rows + self.old.first_row).cast(pa.large_string()),
            nothing if name is None else repeated(name, rows),
            nothing if old is None else old,
            action,
            nothing if new is None else new,
            repeated(why, rows),
            nothing,
        ]

    # ----------------------------------------------------------------- account

    def account(self) -> Account:
        """What differs."""
        rows, old, new = self.rows, self.old, self.new
        cells = sum(len(one.pairs) for one in self.changed.values())
        near = sum(one.near for one in self.changed.values())
        gone = [name for name in old.names if name not in new.columns]
        come = [name for name in new.names if name not in old.columns]
        otherwise = list(described_otherwise(old, new))
        differs = bool(cells or len(rows.gone) or len(rows.come) or gone or come or otherwise or rows.turns)
        told = [
            words for words in (
                f"{counted(len(rows.come), 'row', 'rows')} new" if len(rows.come) else "",
                f"{len(rows.gone):,} gone" if len(rows.gone) else "",
                f"{counted(cells, 'cell', 'cells')} changed" if cells else "",
                f"{counted(len(gone) + len(come), 'column', 'columns')} new or gone" if gone or come else "",
                f"{counted(len(otherwise), 'entry', 'entries')} of the dictionary changed" if otherwise else "",
                "in another order" if rows.turns else "",
            ) if words
        ]  # fmt: skip
        return Account(
            "changes",
            f"{', '.join(told)}." if differs else f"{new.name} is as {old.name} was.",
            (
                rows_of(old, len(rows.old), ("gone", len(rows.gone)), rows.old_without),
                rows_of(new, len(rows.new), ("new", len(rows.come)), rows.new_without),
                Balance("cells in both", len(rows.old) * len(self.shared), self._cells(cells, near)),
            ),
            {"broken": differs, "new": len(rows.come), "gone": len(rows.gone), "changed": cells, "nearly": near,
             "columns_new": come, "columns_gone": gone},
            tuple(self._listings(otherwise)),
            tuple(self._notes(gone, come)),
        )  # fmt: skip

    def _cells(self, changed: int, near: int) -> Parts:
        """Cells of the rows and columns that both have, each counted on its own."""
        same = 0
        for name in self.shared:
            before, now = self._pair(name)
            same += int(np.count_nonzero(same_cells(before, now)))
        parts = (("as they were", same), ("nearly", near), ("changed", changed))
        return tuple((word, count) for word, count in parts if count or word == "as they were")

    def _listings(self, otherwise: list[tuple[str, str, str, str]]) -> list[Listing]:
        listings = []
        lines = []
        for name, changed in self.changed.items():
            if len(changed.pairs) or changed.near:
                lines.append((name, len(changed.pairs), changed.near, self._examples(name, changed.pairs)))
        if lines:
            heads = ("variable", "changed", "nearly equal", "examples: key, old → new")
            listings.append(Listing("changed cells", heads, tuple(lines)))
        for title, table, rows in (
            ("rows that are new", self.new, self.rows.come), ("rows that are gone", self.old, self.rows.gone),
        ):  # fmt: skip
            if len(rows):
                some = rows if self.step.list == "all" else rows[:MOST_KEYS]
                texts = key_texts(table, self.step.key, some)
                numbers = (some + table.first_row).tolist()
                listing = tuple(zip(numbers, texts, strict=True))
                more = "" if len(some) == len(rows) else f", the first {len(some)} of {len(rows):,}"
                listings.append(Listing(f"{title}{more}", ("row", ", ".join(self.step.key)), listing))
        if otherwise:
            shown = otherwise if self.step.list == "all" else otherwise[:MOST_LINES]
            more = "" if len(shown) == len(otherwise) else f", the first {len(shown)} of {len(otherwise)}"
            listings.append(Listing(f"the dictionary{more}", ("variable", "what", "old", "new"), tuple(shown)))
        return listings

    def _examples(self, name: str, pairs: Rows) -> str:
        some = pairs if self.step.list == "all" else pairs[:MOST_EXAMPLES]
        keys = key_texts(self.old, self.step.key, self.rows.old[some])
        old, new = cell_words(self.old[name], self.rows.old[some]), cell_words(self.new[name], self.rows.new[some])
        told = [
            f"{key}, {before or reason} → {now or gone}"
            for key, (before, reason), (now, gone) in zip(keys, old, new, strict=True)
        ]
        return "; ".join(told) + (" …" if len(some) < len(pairs) else "")

    def _notes(self, gone: list[str], come: list[str]) -> list[Note]:
        notes = []
        for words, names in (("columns that are gone", gone), ("columns that are new", come)):
            if names:
                notes.append(Note(f"{words}: {', '.join(names)}.", kind=words.replace(" ", "-"), count=len(names)))
        if self.rows.turns:
            text = f"rows stand in another order: it turns back {counted(self.rows.turns, 'time', 'times')}."
            notes.append(Note(text, kind="order", count=self.rows.turns))
        for table, count in ((self.old, self.rows.old_without), (self.new, self.rows.new_without)):
            if count:
                text = f"{counted(count, 'row', 'rows')} of {table.name} without a key: nothing to hold against."
                notes.append(Note(text, kind="no-key", count=count))
        if len(self.rows.come) or come:
            text = "a ledger mends cells and leaves rows out; new rows and columns are stacked or merged."
            notes.append(Note(text, kind="ledger", done=True))
        return notes


def rows_of(table: Table, both: int, alone: tuple[str, int], without: int) -> Balance:
    """Rows of one side: those that both have, those that it has alone, and those without a key."""
    parts = (("in both", both), alone, ("without a key", without))
    return Balance(f"rows of {table.name}", len(table), tuple((w, n) for w, n in parts if n or w == "in both"))


def repeated(word: str, rows: Rows) -> pa.Array:
    """A word as often as there are rows."""
    return pa.array([word], pa.large_string()).take(pa.array(np.zeros(len(rows), np.int64)))


def worded(column: Column, blank: str | None) -> pa.Array:
    """Cells as a ledger says them: the value as text, or the reason why it is missing; `blank` for a blank."""
    texts = column.to_text().cast(pa.large_string())
    if column.why is None:
        return texts
    words = pa.array([None, *(blank if one == BLANK else one for one in column.reasons)], pa.large_string())
    return pc.if_else(pa.array(column.is_missing), words.take(pa.array(column.why.astype(np.int64))), texts)


def text_column(texts: pa.Array) -> Column:
    """A column of texts, blank where there is none."""
    gone = texts.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
    return Column.of_strings(None, Pool(texts), gone, (BLANK,))


def cell_words(column: Column, rows: Rows) -> list[tuple[str, str]]:
    """For some cells the text of the value and the reason; one of the two is empty."""
    texts, reasons = column.take(rows).to_text().to_pylist(), column.reason_cells(rows)
    return [("" if why else str(text), why or "") for text, why in zip(texts, reasons, strict=True)]
