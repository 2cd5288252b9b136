"""Sort rows by columns, ascending or descending."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.codes import Codes
from lomrix.core.rows.keys import rank_cells
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.selection import parse_sort_word
from lomrix.core.table.table import Table

# Codes of rows stay below this, so that they can be multiplied by a number of rows.
LARGEST = 2**62


def sort_rows(table: Table, words: Sequence[str]) -> tuple[npt.NDArray[np.int64], list[Note]]:
    """Return the rows in order, and notes on missing cells.

    The order is stable. Numbers and dates are in order of value, texts with a dictionary's codes in the order of these,
    other texts in natural order; missing cells come last in either direction.
    """
    codes, size = np.zeros(len(table), np.int64), 1
    notes = []
    for word in words:
        name, is_descending = parse_sort_word(word, table.columns)
        ranks, count = rank_in_order(table, name)
        is_missing = ranks < 0
        if missing := int(np.count_nonzero(is_missing)):
            verb = "comes" if missing == 1 else "come"
            notes.append(Note(f"{pluralize(missing, 'row')} without a value {verb} last.", name, (), "last", missing))
        if is_descending:
            ranks = count - 1 - ranks
        ranks[is_missing] = count
        if size * (count + 1) >= LARGEST:
            codes, old = key_codes.compact_codes(codes, size)
            size = len(old)
        codes, size = codes * (count + 1) + ranks, size * (count + 1)
    return order_codes(codes, size), notes


def order_codes(codes: Codes, size: int) -> npt.NDArray[np.int64]:
    """Return the positions that sort codes below `size`; equal codes stay in order."""
    rows = len(codes)
    if size * max(rows, 1) >= LARGEST:
        return np.argsort(codes, kind="stable")
    # Sorting values is several times faster than sorting positions.
    both = codes * rows + np.arange(rows)
    both.sort()
    return np.asarray(both % max(rows, 1))


def rank_in_order(table: Table, name: str) -> tuple[Codes, int]:
    """Return the rank of each cell of a column (-1: missing), and the number of ranks."""
    column = table[name]
    ranks, count = rank_cells(column)
    labels: Collection[str] = table.dictionary.labels_of(name)
    if column.type != "string" or not labels:
        return ranks, count
    first = np.zeros(count, np.int64)
    first[ranks[ranks >= 0]] = np.flatnonzero(ranks >= 0)
    order = {code: position for position, code in enumerate(labels)}
    positions = np.array([order.get(text, len(order)) for text in column.take(first).cells()], np.int64)
    in_order = np.append(np.argsort(np.lexsort((np.arange(count), positions))), -1)
    return in_order[ranks], count
