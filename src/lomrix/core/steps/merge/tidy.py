"""Tidy keys: ignore spaces, case or leading zeros in keys, if asked for."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.combining import MOST_EXAMPLES, Shown, Words
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import encode_rows, format_keys
from lomrix.core.steps.merge.settings import KeyPairs, Merge
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table
from lomrix.core.text.values import collapse_spaces, unify_texts


def tidy_texts(texts: pa.Array, words: Sequence[str]) -> pa.Array:
    """Normalize texts.

    `spaces`: surrounding spaces are ignored, inner ones collapse to one. `case`: capitals become small letters.
    `zeros`: leading zeros of a number are ignored. `characters`: characters that look alike are the same.
    """
    if "characters" in words:
        texts = unify_texts(texts)
    if "spaces" in words:
        texts = collapse_spaces(texts)
    if "case" in words:
        texts = pc.utf8_lower(texts)
    if "zeros" in words:
        texts = pc.replace_substring_regex(texts, r"^(\s*)0+(\d)", r"\1\2")
    return texts


def tidy_column(column: Column, words: Sequence[str]) -> Column:
    """Normalize a key column; integers as their texts."""
    if column.type == "number":
        # Minus zero equals zero.
        return Column.of("number", column.values + 0.0, column.why, column.reasons)
    if column.type not in ("string", "integer"):
        return column
    column = column.widen("string").compact()
    normalized = tidy_texts(column.strings.strings, words)
    return Column.of_strings(column.values, Pool(normalized), column.why, column.reasons)


def make_keys(step: Merge, role: str, table: Table) -> list[Column]:
    """Return the keys of each row as they are compared."""
    columns = [table[name] for name in step.division.columns[role]]
    return [tidy_column(column, step.tidy_keys) for column in columns] if step.tidy_keys else columns


def tidy_tables(base: Table, added: Table, key: KeyPairs, words: Sequence[str]) -> tuple[Table, Table, list[Note]]:
    """Return both tables with normalized keys to match by, and notes.

    Raises DataError if two different keys of one file become equal.
    """
    tables, names = (base, added), tuple(zip(*key, strict=True))
    result = [
        table.with_columns({name: tidy_column(table[name], words) for name in names[side]})
        for side, table in enumerate(tables)
    ]
    for side, table in enumerate(tables):  # before all that the keys decide
        _require_distinct(table, result[side], names[side], rank=side - 2)
    notes = [Note(f"keys were compared ignoring {', '.join(words)}.", ", ".join(k for k, _ in key), kind="tidy")]
    return result[0], result[1], notes


def _require_distinct(before: Table, after: Table, names: tuple[str, ...], rank: int) -> None:
    old, old_size = encode_rows(before, names)
    new, new_size = encode_rows(after, names)
    rows = np.flatnonzero(new >= 0)
    first = np.full(new_size, -1, np.int64)
    first[new[rows][::-1]] = rows[::-1]
    conflicting = rows[old[rows] != old[first[new[rows]]]]
    del old_size
    if len(conflicting):
        some = conflicting[:MOST_EXAMPLES]
        pairs = zip(format_keys(before, names, first[new[some]]), format_keys(before, names, some), strict=True)
        texts = [f'"{left}" and "{right}"' for left, right in pairs]
        raise DataError(
            Words("Tidying would make different keys of {table} equal, in {rows:row}.",
                  table=before.name, rows=len(conflicting)),
            where=Shown(before.show_rows(some, texts), len(conflicting)),
            todo="Use fewer words, or correct the keys with a ledger.",
            rank=rank,
        )  # fmt: skip
