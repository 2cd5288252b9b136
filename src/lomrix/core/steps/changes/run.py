"""Compare two deliveries; write the ledger that turns the old one into the new."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.rows.keys import format_keys
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.changes.pairing import RowPairs, pair_rows
from lomrix.core.steps.changes.settings import Changes, parse_tolerance
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import NUMERIC, same_cells
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.selection import unknown_column_error
from lomrix.core.table.table import Table

LEDGER = ("row", "variable", "old", "action", "new", "why", "by")
MOST_EXAMPLES = 3
MOST_KEYS = 8
MOST_LINES = 30
Rows = npt.NDArray[np.int64]


def compare_deliveries(step: Changes, tables: Inputs, wanted: Collection[str]) -> Result:
    """Compare the new delivery with the old one."""
    comparison = Comparison(step, tables.get_one("old"), tables.get_one("new"))
    return Result(comparison.make_ledger(), comparison.make_account())


@dataclass(frozen=True)
class ChangedCells:
    """Differences in one column: positions among the pairs, and the number of further ones within the tolerance."""

    pairs: Rows
    near: int


@dataclass
class Comparison:
    """Two deliveries being compared."""

    step: Changes
    old: Table
    new: Table

    def __post_init__(self) -> None:
        for table in (self.old, self.new):
            for name in self.step.key:
                if name not in table.columns:
                    raise unknown_column_error(name, table.names, table.name)

    @cached_property
    def rows(self) -> RowPairs:
        """The rows that correspond."""
        return pair_rows(self.old, self.new, self.step.key)

    @cached_property
    def shared(self) -> list[str]:
        """The columns that both have, without the key."""
        return [name for name in self.old.names if name in self.new.columns and name not in self.step.key]

    @cached_property
    def changed(self) -> dict[str, ChangedCells]:
        """The differences in each shared column."""
        return {name: self._compare_column(name) for name in self.shared}

    def _take_pair(self, name: str) -> tuple[Column, Column]:
        """Return a column of both sides, row by row; one without any value takes the other's type."""
        before, now = self.old[name].take(self.rows.old), self.new[name].take(self.rows.new)
        return before.fit_type(now.type), now.fit_type(before.type)

    def _compare_column(self, name: str) -> ChangedCells:
        before, now = self._take_pair(name)
        differ = ~same_cells(before, now)
        tolerance = parse_tolerance(self.step.tolerance)
        if not tolerance or not {before.type, now.type} <= NUMERIC:
            return ChangedCells(np.flatnonzero(differ), 0)
        both = ~before.is_missing & ~now.is_missing
        distance = np.abs(before.values.astype(np.float64) - now.values.astype(np.float64))
        near = differ & both & (np.nan_to_num(distance, nan=np.inf) <= tolerance)
        return ChangedCells(np.flatnonzero(differ & ~near), int(np.count_nonzero(near)))

    # ------------------------------------------------------------------ ledger

    def make_ledger(self) -> Table:
        """Return the corrections that turn the old delivery into the new, as far as corrections can."""
        heads = (*self.step.key, *LEDGER)
        parts = [self._make_corrections(name, changed) for name, changed in self.changed.items() if len(changed.pairs)]
        rows = self.rows.removed
        parts.append(
            self._make_lines(rows, None, None, repeat_word("leave-out", rows), None, f"not in {self.new.name}")
        )
        texts = [pa.concat_arrays([part[index] for part in parts]) for index in range(len(heads))]
        return Table(
            {name: make_column(array) for name, array in zip(heads, texts, strict=True)}, name="changes"
        )  # fmt: skip

    def _make_corrections(self, name: str, changed: ChangedCells) -> list[pa.Array]:
        rows = self.rows.old[changed.pairs]
        old, new = self.old[name].take(rows), self.new[name].take(self.rows.new[changed.pairs])
        action = pc.if_else(pa.array(new.is_missing), repeat_word("missing", rows), repeat_word("set", rows))
        return self._make_lines(
            rows, name, format_cells(old, blank=None), action, format_cells(new, blank=BLANK), f"as in {self.new.name}"
        )

    def _make_lines(
        self, rows: Rows, name: str | None, old: pa.Array | None, action: pa.Array, new: pa.Array | None, why: str
    ) -> list[pa.Array]:
        """Return lines of the ledger, column by column: key, row, variable, old, action, new, why, by."""
        empty = pa.nulls(len(rows), pa.large_string())
        return [
            *(self.old[key].take(rows).to_text().cast(pa.large_string()) for key in self.step.key),
            pa.array(rows + self.old.first_row).cast(pa.large_string()),
            empty if name is None else repeat_word(name, rows),
            empty if old is None else old,
            action,
            empty if new is None else new,
            repeat_word(why, rows),
            empty,
        ]

    # ----------------------------------------------------------------- account

    def make_account(self) -> Account:
        """Report what differs."""
        rows, old, new = self.rows, self.old, self.new
        cells = sum(len(changed_cells.pairs) for changed_cells in self.changed.values())
        near = sum(changed_cells.near for changed_cells in self.changed.values())
        removed = [name for name in old.names if name not in new.columns]
        added = [name for name in new.names if name not in old.columns]
        dictionary_changes = list(compare_dictionaries(old, new))
        differs = bool(
            cells or len(rows.removed) or len(rows.added) or removed or added or dictionary_changes or rows.turns
        )
        parts = [
            words for words in (
                f"{pluralize(len(rows.added), 'row')} new" if len(rows.added) else "",
                f"{len(rows.removed):,} gone" if len(rows.removed) else "",
                f"{pluralize(cells, 'cell')} changed" if cells else "",
                f"{pluralize(len(removed) + len(added), 'column')} new or gone" if removed or added else "",
                f"{pluralize(len(dictionary_changes), 'entry', 'entries')} of the dictionary changed"
                if dictionary_changes else "",
                "in another order" if rows.turns else "",
            ) if words
        ]  # fmt: skip
        return Account(
            "changes",
            f"{', '.join(parts)}." if differs else f"{new.name} is the same as {old.name}.",
            (
                balance_rows(old, len(rows.old), Part("left out", len(rows.removed), "gone"), rows.old_without),
                balance_rows(new, len(rows.new), Part("added", len(rows.added), "new"), rows.new_without),
                Balance("cells in both", len(rows.old) * len(self.shared), self._count_cells(cells, near)),
            ),
            {"broken": differs, "new": len(rows.added), "gone": len(rows.removed), "changed": cells, "nearly": near,
             "columns_new": added, "columns_gone": removed},
            tuple(self._make_listings(dictionary_changes)),
            tuple(self._make_notes(removed, added)),
        )  # fmt: skip

    def _count_cells(self, changed: int, near: int) -> tuple[Part, ...]:
        """Count the cells of shared rows and columns, each kind on its own."""
        same = 0
        for name in self.shared:
            before, now = self._take_pair(name)
            same += int(np.count_nonzero(same_cells(before, now)))
        return Part("kept", same, "unchanged"), Part("kept", near, "nearly"), Part("changed", changed)

    def _make_listings(self, dictionary_changes: list[tuple[str, str, str, str]]) -> list[Listing]:
        listings = []
        lines = []
        for name, changed in self.changed.items():
            if len(changed.pairs) or changed.near:
                lines.append((name, len(changed.pairs), changed.near, self._format_examples(name, changed.pairs)))
        if lines:
            heads = ("variable", "changed", "nearly equal", "examples: key, old → new")
            listings.append(Listing("changed cells", heads, tuple(lines)))
        for title, table, rows in (
            ("rows that are new", self.new, self.rows.added), ("rows that are gone", self.old, self.rows.removed),
        ):  # fmt: skip
            if len(rows):
                first_rows = rows if self.step.list == "all" else rows[:MOST_KEYS]
                texts = format_keys(table, self.step.key, first_rows)
                numbers = (first_rows + table.first_row).tolist()
                listing = tuple(zip(numbers, texts, strict=True))
                more = "" if len(first_rows) == len(rows) else f", the first {len(first_rows)} of {len(rows):,}"
                listings.append(Listing(f"{title}{more}", ("row", ", ".join(self.step.key)), listing))
        if dictionary_changes:
            shown = dictionary_changes if self.step.list == "all" else dictionary_changes[:MOST_LINES]
            more = (
                ""
                if len(shown) == len(dictionary_changes)
                else f", the first {len(shown)} of {len(dictionary_changes)}"
            )
            listings.append(Listing(f"the dictionary{more}", ("variable", "what", "old", "new"), tuple(shown)))
        return listings

    def _format_examples(self, name: str, pairs: Rows) -> str:
        first_pairs = pairs if self.step.list == "all" else pairs[:MOST_EXAMPLES]
        keys = format_keys(self.old, self.step.key, self.rows.old[first_pairs])
        old, new = (
            split_cells(self.old[name], self.rows.old[first_pairs]),
            split_cells(self.new[name], self.rows.new[first_pairs]),
        )
        parts = [
            f"{key}, {before or before_reason} → {now or now_reason}"
            for key, (before, before_reason), (now, now_reason) in zip(keys, old, new, strict=True)
        ]
        return "; ".join(parts) + (" …" if len(first_pairs) < len(pairs) else "")

    def _make_notes(self, removed: list[str], added: list[str]) -> list[Note]:
        notes = []
        for words, names in (("columns that are gone", removed), ("columns that are new", added)):
            if names:
                notes.append(Note(f"{words}: {', '.join(names)}.", kind=words.replace(" ", "-"), count=len(names)))
        if self.rows.turns:
            text = f"rows are in another order: it turns back {pluralize(self.rows.turns, 'time')}."
            notes.append(Note(text, kind="order", count=self.rows.turns))
        for table, count in ((self.old, self.rows.old_without), (self.new, self.rows.new_without)):
            if count:
                text = f"{pluralize(count, 'row')} of {table.name} without a key: nothing to hold against."
                notes.append(Note(text, kind="no-key", count=count))
        if len(self.rows.added) or added:
            text = "a ledger mends cells and leaves rows out; new rows and columns are stacked or merged."
            notes.append(Note(text, kind="ledger", done=True))
        return notes


def balance_rows(table: Table, shared: int, alone: Part, without: int) -> Balance:
    """Balance the rows of one side: shared, its own, and without a key."""
    parts = (Part("kept", shared, "in-both"), alone, Part("missing", without, "no-key"))
    return Balance("compared rows", len(table), parts, table.name)


def repeat_word(word: str, rows: Rows) -> pa.Array:
    """Return a word once per row."""
    return pa.array([word], pa.large_string()).take(pa.array(np.zeros(len(rows), np.int64)))


def format_cells(column: Column, blank: str | None) -> pa.Array:
    """Return cells as in a ledger: the value as text, or the reason why it is missing; `blank` for a blank."""
    texts = column.to_text().cast(pa.large_string())
    if column.why is None:
        return texts
    words = pa.array([None, *(blank if one == BLANK else one for one in column.reasons)], pa.large_string())
    return pc.if_else(pa.array(column.is_missing), words.take(pa.array(column.why.astype(np.int64))), texts)


def make_column(texts: pa.Array) -> Column:
    """Return a column of texts, blank where null."""
    is_missing = texts.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
    return Column.of_strings(None, Pool(texts), is_missing, (BLANK,))


def split_cells(column: Column, rows: Rows) -> list[tuple[str, str]]:
    """Return for each cell the text of the value and the reason; one of the two is empty."""
    texts, reasons = column.take(rows).to_text().to_pylist(), column.reason_cells(rows)
    return [("" if why else str(text), why or "") for text, why in zip(texts, reasons, strict=True)]


PARTS = ("label", "unit", "missing", "minimum", "maximum", "allowed", "level")
Line = tuple[str, str, str, str]


def compare_dictionaries(old: Table, new: Table) -> Iterator[Line]:
    """Yield variable, part, old and new: types, labels, codes, missing codes, limits."""
    for name in (before_value for before_value in old.names if before_value in new.columns):
        # A column without any value fits every type.
        if old[name].type != new[name].type and not (old[name].is_without_values or new[name].is_without_values):
            yield name, "type", old[name].type, new[name].type
        before, now = old.dictionary.of(name), new.dictionary.of(name)
        for part in PARTS:
            before_value, now_value = getattr(before, part), getattr(now, part)
            if before_value != now_value:
                yield (
                    name,
                    "missing codes" if part == "missing" else part,
                    format_part(before_value),
                    format_part(now_value),
                )
        old_codes, new_codes = old.dictionary.labels_of(name), new.dictionary.labels_of(name)
        for code in dict.fromkeys([*old_codes, *new_codes]):
            if old_codes.get(code) != new_codes.get(code):
                yield name, f"code {code}", old_codes.get(code, ""), new_codes.get(code, "")


def format_part(value: object) -> str:
    """Format a part of an entry."""
    if isinstance(value, dict):
        return ", ".join(f"{code} {reason}" for code, reason in value.items())
    if isinstance(value, tuple):
        return ", ".join(map(str, value))
    return "" if value is None else str(value)
