"""Sort rows by columns, ascending or descending."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.codes import LARGEST, Codes, order_codes
from lomrix.core.combining import Words
from lomrix.core.rows.keys import rank_cells
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.selection import parse_sort_word
from lomrix.core.table.table import Table

# Values that reach over less than this can be multiplied with those of another column.
FAR = 2**31


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
        missing = int(np.count_nonzero(is_missing))
        text = Words("{n:row} without a value {n:=comes|come} last.", n=missing)
        notes.append(Note(text, name, (), "last", missing))
        if is_descending:
            ranks = count - 1 - ranks
        ranks[is_missing] = count
        if size * (count + 1) >= LARGEST:
            codes, old = key_codes.compact_codes(codes, size)
            size = len(old)
        codes, size = codes * (count + 1) + ranks, size * (count + 1)
    return order_codes(codes, size), notes


def find_bounds(sample: Table, word: str, count: int) -> Table:
    """Return values of a column that divide rows into about `count` parts of one size, in the order of a sort word."""
    name, _ = parse_sort_word(word, sample.columns)
    ranks, _ = rank_in_order(sample, name)
    present = np.flatnonzero(ranks >= 0)
    ordered = present[np.argsort(ranks[present], kind="stable")]
    edges = np.linspace(0, len(ordered), count + 1).astype(np.int64)[1:-1]
    rows = ordered[edges] if len(ordered) else ordered
    _, distinct = np.unique(ranks[rows], return_index=True)
    return sample.only([name]).take(rows[distinct])


def divide_by_order(table: Table, word: str, bounds: Table) -> npt.NDArray[np.int64]:
    """Return for each row the number of the stretch of the order in which it is.

    Numbers ascend in the order. Stretch 0 is before the first bound, 1 is the first bound itself, 2 is between the
    first and the second, and so on; the last one has the missing cells. Odd ones have only one value.
    """
    name, is_descending = parse_sort_word(word, table.columns)
    ranks, _ = rank_in_order(concatenate_tables([replace(table.only([name]), row_numbers=None), bounds]), name)
    of_rows, of_bounds = ranks[: len(table)], np.sort(ranks[len(table) :])
    stretch = np.searchsorted(of_bounds, of_rows) + np.searchsorted(of_bounds, of_rows, side="right")
    if is_descending:
        stretch = 2 * len(of_bounds) - stretch
    return np.where(of_rows < 0, 2 * len(of_bounds) + 1, stretch)


def rank_in_order(table: Table, name: str) -> tuple[Codes, int]:
    """Return for each cell of a column a number from 0 in the order of the values (-1: missing), and their limit."""
    column = table[name]
    labels: Collection[str] = table.dictionary.labels_of(name)
    whole = to_whole_numbers(column) if not labels or column.type != "string" else None
    present = whole if whole is None or column.why is None else whole[column.why == 0]
    if whole is not None and present is not None and len(present):
        low, high = int(present.min()), int(present.max())
        # Where they do not reach too far, the values themselves are in order, and ranks need not be found.
        if high - low < FAR:
            return (whole - low if column.why is None else np.where(column.why == 0, whole - low, -1)), high - low + 1
    ranks, count = rank_cells(column)
    if column.type != "string" or not labels:
        return ranks, count
    first = np.zeros(count, np.int64)
    first[ranks[ranks >= 0]] = np.flatnonzero(ranks >= 0)
    order = {code: position for position, code in enumerate(labels)}
    positions = np.array([order.get(text, len(order)) for text in column.take(first).cells()], np.int64)
    in_order = np.append(np.argsort(np.lexsort((np.arange(count), positions))), -1)
    return in_order[ranks], count


def to_whole_numbers(column: Column) -> npt.NDArray[np.int64] | None:
    """Return integers, dates, or the digits of ids of one shape as integers; None for any other column."""
    if column.type == "string":
        shaped = column.strings.shaped() if column.stored is None and column.why is None else None
        return None if shaped is None else shaped[0]
    return column.values.astype(np.int64) if column.type in ("integer", "date", "datetime") else None
