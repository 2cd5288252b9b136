"""Candidate keys: columns that uniquely identify rows, or nearly."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Collection, Iterable, Mapping
from itertools import combinations

import numpy as np

from lomrix.core.arrays.matching import count_codes
from lomrix.core.rows.keys import encode_cells
from lomrix.core.rows.occurrences import count_occurrences, is_unique
from lomrix.core.table.table import Table

# Pairs are searched among this many columns that could be part of a key.
MOST_KEY_COLUMNS = 8
# Rows repeat within cases if there are at most this many cases per row.
MOSTLY_REPEATED = 0.7
IS_ID = re.compile(r"(?i)(^|_)(id|case|person|subject)$|id$")


def find_candidate_keys(
    table: Table, distinct: Mapping[str, int] | None = None, rows_at_once: int | None = None
) -> list[str]:
    """Return the columns without missing cells that uniquely identify rows; else such pairs of columns.

    `distinct` has the number of distinct values of each column if that is known, `rows_at_once` how many rows may be
    compared at once, if not all.
    """
    usable = [name for name, column in table.columns.items() if column.type != "number" and not column.missing_count]
    if len(table) < 2:
        return []

    def may_be_unique(names: tuple[str, ...]) -> bool:
        return distinct is None or math.prod(distinct.get(name, len(table)) for name in names) >= len(table)

    def list_unique(choices: Iterable[tuple[str, ...]]) -> list[str]:
        return [
            " + ".join(names) for names in choices if may_be_unique(names) and is_unique(table, names, rows_at_once)
        ]

    return list_unique((name,) for name in usable) or list_unique(combinations(usable[:MOST_KEY_COLUMNS], 2))


def guess_case(
    table: Table,
    taken: Collection[str] = (),
    rows_at_once: int | None = None,
    count_distinct: Callable[[str], int] | None = None,
) -> str:
    """Return the column that most likely names the case where rows repeat within cases (empty if none), not one of
    `taken`; `rows_at_once` is how many rows may be compared at once, if not all, and `count_distinct` counts the
    values of a column, if that is known.
    """
    memory = table.dictionary.other_layout
    if memory is not None and len(memory.case) == 1 and memory.case[0] in table.columns:
        return "" if memory.case[0] in taken else memory.case[0]
    ids = [name for name, column in table.columns.items() if column.type in ("string", "integer") and name not in taken]
    numbers = {}
    for name in ids:
        if table.dictionary.labels_of(name) or table[name].missing_count:
            continue
        if count_distinct is not None:
            numbers[name] = count_distinct(name)
            continue
        if rows_at_once is not None:
            numbers[name] = count_occurrences(table[name], rows_at_once).distinct
            continue
        codes, size = encode_cells(table[name])
        numbers[name] = int(np.count_nonzero(count_codes(codes, size)))
    few = {name: count for name, count in numbers.items() if 1 < count <= MOSTLY_REPEATED * len(table)}
    among = table.only([*numbers, *(name for name in taken if name in table.columns)])
    keys = {part for key in find_candidate_keys(among, numbers, rows_at_once) for part in key.split(" + ")}
    named = [name for name in few if IS_ID.search(name) or name in keys]
    return max(named, key=lambda name: few[name], default="")
