"""Compare two deliveries; write the ledger that turns the old one into the new."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.combining import MOST_EXAMPLES, First, Same, Shown
from lomrix.core.rows.keys import format_keys
from lomrix.core.steps.account import Account
from lomrix.core.steps.changes.account import ColumnTally, Side, Tally, note_order
from lomrix.core.steps.changes.pairing import RowPairs, count_turns, pair_rows
from lomrix.core.steps.changes.settings import Changes, parse_tolerance
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import NUMERIC, same_cells
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.selection import unknown_column_error
from lomrix.core.table.table import Table

LEDGER = ("row", "variable", "old", "action", "new", "why", "by")
MOST_KEYS = 8
MOST_REPEATED = 4
# As many as there are.
ALL = 2**62
# No table has more rows.
MOST_ROWS = 2**40
# The order of the rows of a part, and rows that are looked at together.
ORDER, BLOCK = "order", 1 << 20
Rows = npt.NDArray[np.int64]


def compare_deliveries(step: Changes, tables: Inputs, wanted: Collection[str]) -> Result:
    """Compare the new delivery with the old one, or the rows of some keys."""
    comparison = Comparison(step, tables.get_one("old"), tables.get_one("new"))
    account, tally = Account("changes", ""), comparison.make_tally()
    if not comparison.rows.are_clear:
        return Result(comparison.old.slice(0, 0), account, tally=tally, stops=True)
    extras = {} if comparison.old.row_numbers is None else {ORDER: comparison.list_order()}
    return Result(comparison.make_ledger(), account, extras, tally=tally)


def complete(step: Changes, result: Result, tables: Inputs) -> Result:
    """Complete the account by the order of all rows, if it comes from parts."""
    if ORDER not in result.extras:
        return result
    rows = result.extras[ORDER]["row"]
    turns = sum(count_turns(rows.slice(start, start + BLOCK + 1).values) for start in range(0, len(rows), BLOCK))
    extras = {name: extra for name, extra in result.extras.items() if name != ORDER}
    return replace(result, account=note_order(result.account, turns), extras=extras)


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
        columns = {name: make_column(array) for name, array in zip(heads, texts, strict=True)}
        numbers = None
        if self.old.row_numbers is not None:
            # The corrections of one column after the other, then the rows that are gone.
            changed = [self.changed[name].pairs for name in self.shared]
            of_parts = [*(self.rows.old[pairs] for pairs in changed), rows]
            numbers = np.concatenate(
                [self.old.row_numbers[part] + index * MOST_ROWS for index, part in enumerate(of_parts)]
            )
        return Table(columns, name="changes", row_numbers=numbers)

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
            pa.array(self.old.find_row_numbers(rows)).cast(pa.large_string()),
            empty if name is None else repeat_word(name, rows),
            empty if old is None else old,
            action,
            empty if new is None else new,
            repeat_word(why, rows),
            empty,
        ]

    # ------------------------------------------------------------------- tally

    def list_order(self) -> Table:
        """Return the number of the new row for each row that both have, in the order of the old rows."""
        numbers = np.asarray(self.new.find_row_numbers(self.rows.new), np.int64)
        return Table({"row": Column.of("integer", numbers)}, row_numbers=self.old.find_row_numbers(self.rows.old))

    def make_tally(self) -> Tally:
        """Return what the account needs of these rows."""
        rows, most = self.rows, MOST_KEYS if self.step.list == "first" else ALL
        is_clear = rows.are_clear
        types = {
            name: (self._count_values(self.old[name]), self._count_values(self.new[name]))
            for name in self.shared if self.old[name].type != self.new[name].type
        }  # fmt: skip
        return Tally(
            self._describe_side(self.old, rows.removed, rows.old_without, rows.old_repeated, most),
            self._describe_side(self.new, rows.added, rows.new_without, rows.new_repeated, most),
            len(rows.old),
            {name: self._tally_column(name) for name in self.shared} if is_clear else {},
            types,
            count_turns(rows.new) if self.old.row_numbers is None else 0,
            Same((self.old.slice(0, 0), self.new.slice(0, 0))),
        )

    @staticmethod
    def _count_values(column: Column) -> int:
        return len(column) - column.missing_count

    def _describe_side(self, table: Table, alone: Rows, without: int, repeated: Rows, most: int) -> Side:
        def list_keys(rows: Rows, most: int) -> list[tuple[int, str]]:
            return [*zip(table.number_rows(rows[:most]), format_keys(table, self.step.key, rows[:most]), strict=True)]

        shown = [(number, f"row {number}: {text}") for number, text in list_keys(repeated, MOST_REPEATED)]
        return Side(
            len(table), without, len(alone), First(tuple(list_keys(alone, most)), most),
            Shown(shown, len(repeated), most=MOST_REPEATED),
        )  # fmt: skip

    def _tally_column(self, name: str) -> ColumnTally:
        changed = self.changed[name]
        before, now = self._take_pair(name)
        same = int(np.count_nonzero(same_cells(before, now)))
        return ColumnTally(same, len(changed.pairs), changed.near, self._show_examples(name, changed.pairs))

    def _show_examples(self, name: str, pairs: Rows) -> Shown:
        most = MOST_EXAMPLES if self.step.list == "first" else ALL
        rows, new_rows = self.rows.old[pairs[:most]], self.rows.new[pairs[:most]]
        cells = zip(split_cells(self.old[name], rows), split_cells(self.new[name], new_rows), strict=True)
        keys = zip(self.old.number_rows(rows), format_keys(self.old, self.step.key, rows), strict=True)
        items = [
            (number, f"{key}, {before or before_reason} → {now or now_reason}")
            for (number, key), ((before, before_reason), (now, now_reason)) in zip(keys, cells, strict=True)
        ]
        return Shown(items, len(pairs), separator="; ", most=most)


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
