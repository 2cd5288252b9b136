"""Candidate keys: columns whose values tell all rows apart, or nearly all."""

from __future__ import annotations

import re
from collections.abc import Collection
from itertools import combinations

import numpy as np

from lomrix.core.arrays.matching import counted as counted_codes
from lomrix.core.rows.keys import row_codes, unordered_codes
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.table import Table

# Pairs are looked for among the first columns that could be part of a key.
MOST_KEY_COLUMNS = 8
SAMPLE = 20_000
# A column is nearly a key where at least this share of the rows has a value of its own.
NEARLY = 0.98
LEAST_ROWS = 20
MOST_EXAMPLES = 6
# Rows repeat within cases where there are at most so many cases for each row.
MOSTLY_REPEATED = 0.7
IS_ID = re.compile(r"(?i)(^|_)(id|case|person|subject)$|id$")


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


def likely_case(table: Table, taken: Collection[str] = ()) -> str:
    """Find the column that most likely names the case where rows repeat within cases; empty where none does.

    Parameters
    ----------
    table
        The table.
    taken
        Columns that are something else.
    """
    memory = table.dictionary.other_layout
    if memory is not None and len(memory.case) == 1 and memory.case[0] in table.columns:
        return "" if memory.case[0] in taken else memory.case[0]
    ids = [name for name, column in table.columns.items() if column.type in ("string", "integer") and name not in taken]
    numbers = {}
    for name in ids:
        if table.dictionary.labels_of(name) or table[name].missing_count:
            continue
        codes, size = unordered_codes(table[name])
        numbers[name] = int(np.count_nonzero(counted_codes(codes, size)))
    few = {name: count for name, count in numbers.items() if 1 < count <= MOSTLY_REPEATED * len(table)}
    keys = {part for key in candidate_keys(table.only([*numbers, *(n for n in taken if n in table.columns)]))
            for part in key.split(" + ")}  # fmt: skip
    named = [name for name in few if IS_ID.search(name) or name in keys]
    return max(named, key=lambda name: few[name], default="")


def nearly_keys(table: Table) -> list[Note]:
    """Columns of text that would tell the rows apart but for a few that repeat or are missing."""
    notes = []
    for name, column in table.columns.items():
        # Numbers are ids where they come first; elsewhere they are measured.
        is_id = column.type == "string" or (column.type == "integer" and name == table.names[0])
        if not is_id or len(table) < LEAST_ROWS:
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
    table = table.only(names)
    for part in (table.first(SAMPLE), table):
        codes, size = row_codes(part, names)
        if np.count_nonzero(counted_codes(codes, size)) < len(part):
            return False
    return True
