"""Profile: what a person wants to see first of a table."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from itertools import combinations
from typing import Any, Literal

import numpy as np

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.matching import counted as counted_codes
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.findings import mixed_decimals
from lomrix.core.steps.guess import guessed_families
from lomrix.core.steps.keys import row_codes, unordered_codes
from lomrix.core.steps.recode import distinct_cells
from lomrix.core.steps.step import Result, Step
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.table import Table

Sort = Literal["file", "name"]
COMMONEST = 4
HEADS = ("column", "type", "missing", "distinct", "range or commonest values", "label")
# Pairs are looked for among the first columns that could be part of a key.
MOST_KEY_COLUMNS = 8
SAMPLE = 20_000
# A column is nearly a key where at least this share of the rows has a value of its own.
NEARLY = 0.98
LEAST_ROWS = 20
MOST_EXAMPLES = 6


class Profile(Step):
    """Describe every column.

    Parameters
    ----------
    sort
        Columns in `file` order, or by `name`.
    as_labels
        Show labels in place of codes among the commonest values.
    """

    sort: Sort = "file"
    as_labels: bool = False

    @property
    def kept_together(self) -> tuple[str, ...]:
        """None: columns are described."""
        return ()

    def apply(self, *tables: Table) -> Result:
        """Describe the table; the result's table has one row per column."""
        (table,) = tables
        names = sorted(table.names) if self.sort == "name" else table.names
        with ThreadPoolExecutor() as workers:
            rows = list(workers.map(lambda name: self._row(table, name), names))
        keys = candidate_keys(table)
        families = guessed_families(table.names)
        cells = len(table) * len(table.names)
        missing = sum(column.missing_count for column in table.columns.values())
        advice = []
        if families is not None:
            case = f" --case {keys[0]}" if keys and " + " not in keys[0] else ""
            advice.append(f"lomrix to-long {{source}}{case} {families.options}")
        told = ", ".join(keys[:4]) if keys else "none, no column and no pair tells all rows apart"
        account = Account(
            "profile",
            f"{counted(len(table), 'row', 'rows')}, {counted(len(table.names), 'column', 'columns')}. "
            f"Candidate keys: {told}.",
            (Balance("cells", cells, (("with a value", cells - missing), ("missing", missing))),),
            {
                "rows": len(table), "keys": keys, "labels": {name: table.dictionary.of(name).label for name in names},
                "repeated_measures": families.measures if families is not None else {},
            },
            (Listing("columns", HEADS, tuple(rows), one_line=True), *self._families(families)),
            tuple(self._notes(table)),
            tuple(advice),
        )  # fmt: skip
        return Result(self._table(rows), account)

    def _row(self, table: Table, name: str) -> tuple[Any, ...]:
        column = table[name]
        missing = ", ".join(f"{count:,} {reason}" for reason, count in column.reason_counts().items())
        count, shown = described(column, table.dictionary.labels_of(name), self.as_labels)
        return (name, column.type, missing or "none", count, shown, table.dictionary.of(name).label)

    @staticmethod
    def _families(families: Any) -> tuple[Listing, ...]:
        if families is None:
            return ()
        rows = tuple(
            (measure, len(found), " ".join(found[:6]) + (" …" if len(found) > 6 else ""))
            for measure, found in families.measures.items()
        )
        return (Listing("likely repeated measures", ("measure", "columns", "found in"), rows),)

    @staticmethod
    def _notes(table: Table) -> list[Note]:
        notes = nearly_keys(table)
        for name, column in table.columns.items():
            if column.type == "number" and len(rows := mixed_decimals(column)):
                examples = tuple((int(row) + table.first_row, float(column.values[row])) for row in rows[:5])
                notes.append(Note("all other cells are whole numbers.", name, examples, "mixed-decimals", len(rows)))
            labels = table.dictionary.labels_of(name)
            if labels and (without := values_without_label(column, labels)):
                notes.append(
                    Note(f"values without a label: {', '.join(without[:10])}.", name, (), "no-label", len(without))
                )
        return notes

    @staticmethod
    def _table(rows: list[tuple[Any, ...]]) -> Table:
        heads = ("column", "type", "missing", "distinct", "values", "label")
        columns = {
            head: Column.of_cells("integer" if head == "distinct" else "string", [row[at] or None for row in rows])
            for at, head in enumerate(heads)
        }
        return Table(columns, name="profile")


def described(column: Column, labels: Codes, as_labels: bool) -> tuple[int, str]:
    """Number of distinct values, and the range or the commonest values."""
    if column.missing_count == len(column):
        return 0, ""
    if column.type in ("number", "date", "datetime") or (column.type == "integer" and not labels):
        values = column.values if column.why is None else column.values[~column.is_missing]
        distinct = key_codes.distinct_values(values)
        if column.type == "number":
            return len(distinct), f"{distinct[0]:g} to {distinct[-1]:g}"
        return len(distinct), f"{distinct[0]} to {distinct[-1]}"
    codes, size = unordered_codes(column)
    distinct_count = int(np.count_nonzero(counted_codes(codes, size)))
    if distinct_count > max(20, len(column) // 2):
        rows = np.flatnonzero(codes >= 0)
        return distinct_count, "such as " + ", ".join(column.take(rows[[0, len(rows) // 2]]).to_text().to_pylist())
    _, texts, counts = distinct_cells(column)
    order = np.argsort(-counts, kind="stable")
    told = []
    for at in order[:COMMONEST]:
        label = CodeList(labels).label_of(texts[at])
        shown = (label or texts[at]) if as_labels else texts[at] + (f" {label}" if label else "")
        told.append(f"{shown} ({counts[at]:,})")
    return len(texts), ", ".join(told) + (" …" if len(texts) > COMMONEST else "")


def values_without_label(column: Column, labels: Codes) -> list[str]:
    """Values of a column that its list of codes does not name."""
    from lomrix.core.steps.findings import not_listed

    rows = not_listed(column, list(labels))
    return list(dict.fromkeys(column.take(rows[:1000]).to_text().to_pylist())) if len(rows) else []


def candidate_keys(table: Table) -> list[str]:
    """Columns without missing cells whose values tell all rows apart; else such pairs of columns."""
    usable = [name for name, column in table.columns.items() if column.type != "number" and not column.missing_count]
    if len(table) < 2:
        return []
    singles = [name for name in usable if tells_apart(table, (name,))]
    if singles:
        return singles
    pairs = combinations(usable[:MOST_KEY_COLUMNS], 2)
    return [" + ".join(pair) for pair in pairs if tells_apart(table, pair)]


def nearly_keys(table: Table) -> list[Note]:
    """Columns of text that would tell the rows apart but for a few that repeat or are missing."""
    notes = []
    for name, column in table.columns.items():
        if column.type != "string" or len(table) < LEAST_ROWS:
            continue
        codes, size = unordered_codes(column)
        counts = counted_codes(codes, size)
        repeated = np.flatnonzero(np.append(counts > 1, False)[codes])
        if not len(repeated) or np.count_nonzero(counts) < NEARLY * len(table):
            continue
        some = repeated[:MOST_EXAMPLES]
        texts = column.take(some).to_text().to_pylist()
        examples = tuple(zip((some + table.first_row).tolist(), texts, strict=True))
        values = int(np.count_nonzero(counts > 1))
        text = f"nearly a key, but {counted(values, 'value stands', 'values stand')} in several rows."
        notes.append(Note(text, name, examples, "nearly-key", len(repeated)))
    return notes


def tells_apart(table: Table, names: tuple[str, ...]) -> bool:
    """True where no two rows have equal values; a look at the first rows spares most of the work."""
    for part in (table.first(SAMPLE), table):
        codes, size = row_codes(part, names)
        if np.count_nonzero(counted_codes(codes, size)) < len(part):
            return False
    return True
