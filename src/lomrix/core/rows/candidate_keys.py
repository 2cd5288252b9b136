"""Candidate keys: columns that uniquely identify rows, or nearly."""

from __future__ import annotations

import re
from collections.abc import Collection
from itertools import combinations

import numpy as np

from lomrix.core.arrays.matching import count_codes as counted_codes
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.rows.keys import encode_cells, encode_rows
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.table import Table

# Pairs are searched among this many columns that could be part of a key.
MOST_KEY_COLUMNS = 8
SAMPLE = 20_000
# A column is nearly a key if its distinct values are at least this share of the rows.
NEARLY = 0.98
LEAST_ROWS = 20
# Rows repeat within cases if there are at most this many cases per row.
MOSTLY_REPEATED = 0.7
IS_ID = re.compile(r"(?i)(^|_)(id|case|person|subject)$|id$")


def find_candidate_keys(table: Table) -> list[str]:
    """Return the columns without missing cells that uniquely identify rows; else such pairs of columns."""
    usable = [name for name, column in table.columns.items() if column.type != "number" and not column.missing_count]
    if len(table) < 2:
        return []
    singles = [name for name in usable if is_unique(table, (name,))]
    if singles:
        return singles
    pairs = combinations(usable[:MOST_KEY_COLUMNS], 2)
    return [" + ".join(pair) for pair in pairs if is_unique(table, pair)]


def guess_case(table: Table, taken: Collection[str] = ()) -> str:
    """Return the column that most likely names the case where rows repeat within cases (empty if none), not one of
    `taken`.
    """
    memory = table.dictionary.other_layout
    if memory is not None and len(memory.case) == 1 and memory.case[0] in table.columns:
        return "" if memory.case[0] in taken else memory.case[0]
    ids = [name for name, column in table.columns.items() if column.type in ("string", "integer") and name not in taken]
    numbers = {}
    for name in ids:
        if table.dictionary.labels_of(name) or table[name].missing_count:
            continue
        codes, size = encode_cells(table[name])
        numbers[name] = int(np.count_nonzero(counted_codes(codes, size)))
    few = {name: count for name, count in numbers.items() if 1 < count <= MOSTLY_REPEATED * len(table)}
    keys = {part for key in find_candidate_keys(table.only([*numbers, *(n for n in taken if n in table.columns)]))
            for part in key.split(" + ")}  # fmt: skip
    named = [name for name in few if IS_ID.search(name) or name in keys]
    return max(named, key=lambda name: few[name], default="")


def note_near_keys(table: Table) -> list[Note]:
    """Note columns that would uniquely identify rows but for a few repeated or missing values."""
    notes = []
    for name, column in table.columns.items():
        # Numbers are ids in the first column; elsewhere they are measurements.
        is_id = column.type == "string" or (column.type == "integer" and name == table.names[0])
        if not is_id or len(table) < LEAST_ROWS:
            continue
        codes, size = encode_cells(column)
        counts = counted_codes(codes, size)
        repeated = np.flatnonzero(np.append(counts > 1, False)[codes])
        if not len(repeated) or np.count_nonzero(counts) < NEARLY * len(table):
            continue
        first_rows = repeated[:MOST_EXAMPLES]
        texts = column.take(first_rows).to_text().to_pylist()
        examples = table.show_rows(first_rows, texts)
        values = int(np.count_nonzero(counts > 1))
        text = f"nearly a key, but {pluralize(values, 'value is', 'values are')} in several rows."
        notes.append(Note(text, name, examples, "nearly-key", len(repeated)))
    return notes


def is_unique(table: Table, names: tuple[str, ...]) -> bool:
    """Return whether no two rows have equal values; the first rows are tested first."""
    table = table.only(names)
    for part in (table.first(SAMPLE), table):
        codes, size = encode_rows(part, names)
        if np.count_nonzero(counted_codes(codes, size)) < len(part):
            return False
    return True
