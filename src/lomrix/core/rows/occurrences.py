"""Distinct values and how often each occurs, of columns in memory or in passes over a table on disk."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from lomrix.core.arrays.codes import Codes
from lomrix.core.arrays.matching import count_codes, find_first_rows, sum_counts
from lomrix.core.arrays.types import Array, Counts
from lomrix.core.combining import MOST_EXAMPLES, Combinable
from lomrix.core.rows.keys import encode_rows
from lomrix.core.rows.partitions import Hashes, hash_rows
from lomrix.core.table.column import Column
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

# Most frequent values that are kept.
MOST_FREQUENT = 8
# Most values of a column can occur once only if it has more distinct ones than this.
FEW = 20
# A column is nearly a key if its distinct values are at least this share of the rows.
NEARLY = 0.98
# Rows in which the first of each value are looked for.
FIRST_ROWS = 1 << 16
# Rows that are tested first, since most columns repeat values soon.
SAMPLE = 20_000
# Rows that are looked at together.
BLOCK = 1 << 18


@dataclass(frozen=True)
class DistinctRows(Combinable):
    """Distinct rows without missing cells: the first of each, with its number, and how often it occurs."""

    table: Table
    counts: Counts

    @classmethod
    def of(cls, table: Table, counts: Counts | None = None) -> DistinctRows:
        """Count rows that each stand for one row, or for as many as `counts` has."""
        codes, size = encode_rows(table, tuple(table.names))
        return cls.of_codes(table, codes, sum_counts(codes, size, counts))

    @classmethod
    def of_codes(cls, table: Table, codes: Codes, counts: Counts) -> DistinctRows:
        """Choose the rows by their codes (-1: missing), given how often each code occurs."""
        rows = np.sort(find_firsts(codes, counts)[counts > 0])
        return cls(take_numbered(table, rows), counts[codes[rows]])

    def combine(self, later: DistinctRows) -> DistinctRows:
        """Add later rows."""
        both = concatenate_tables([self.table, later.table])
        return DistinctRows.of(both, np.concatenate([self.counts, later.counts]))

    @property
    def values(self) -> Column:
        """The values, if there is one column."""
        (column,) = self.table.columns.values()
        return column


def take_numbered(table: Table, rows: Array) -> Table:
    """Return some rows with their numbers."""
    return replace(table.take(rows), row_numbers=table.find_row_numbers(rows))


@dataclass(frozen=True)
class Occurrences:
    """How often each value, or combination of values, occurs among the rows that have all of them."""

    distinct: int
    repeated: int  # distinct values that are in several rows, and the number of these rows
    repeated_rows: int
    most_frequent: tuple[tuple[int, int], ...] = ()  # cells and first row of each

    @classmethod
    def of(cls, counts: Counts, most_frequent: tuple[tuple[int, int], ...] = ()) -> Occurrences:
        """Count values, given how often each occurs."""
        is_repeated = counts > 1
        return cls(
            int(np.count_nonzero(counts)), int(np.count_nonzero(is_repeated)), int(counts[is_repeated].sum()),
            most_frequent,
        )  # fmt: skip

    def add(self, other: Occurrences) -> Occurrences:
        """Add those of other values."""
        frequent = sorted((*self.most_frequent, *other.most_frequent), key=lambda pair: (-pair[0], pair[1]))
        return Occurrences(
            self.distinct + other.distinct, self.repeated + other.repeated, self.repeated_rows + other.repeated_rows,
            tuple(frequent[:MOST_FREQUENT]),
        )  # fmt: skip


def find_most_frequent(counts: Counts, first: Array) -> tuple[tuple[int, int], ...]:
    """Return cells and first row of the most frequent values, given those of all; equally frequent ones by row."""
    candidates = np.flatnonzero(counts)
    if len(candidates) > MOST_FREQUENT:
        least = np.partition(counts[candidates], -MOST_FREQUENT)[-MOST_FREQUENT]
        candidates = candidates[counts[candidates] >= least]
    best = candidates[np.lexsort((first[candidates], -counts[candidates]))[:MOST_FREQUENT]]
    return tuple(zip(counts[best].tolist(), first[best].tolist(), strict=True))


def is_mostly_distinct(distinct: int, rows: int) -> bool:
    """Return whether most values occur once, so that none of them is frequent."""
    return distinct > max(FEW, rows // 2)


def count_occurrences(column: Column, most: int) -> Occurrences:
    """Count the values of a column, holding at most about so many distinct ones at once.

    Where there are more it takes several passes, each of which has all cells with some of the hashes.
    """
    result, classes = Occurrences(0, 0, 0), [(1, 0)]
    while classes:
        divisor, remainder = classes.pop()
        tally = HashTally()
        for hashes, rows in choose_by_hash([column], 1, 0):
            is_wanted = hashes % np.uint64(divisor) == remainder
            tally.add(hashes[is_wanted], rows[is_wanted])
            while tally.count > most:
                classes.append((2 * divisor, remainder + divisor))
                divisor *= 2
                tally.keep(divisor, remainder)
        result = result.add(tally.finish())
    return result


@dataclass
class HashTally:
    """Distinct hashes, how often each occurs, and the first row of each; those of new blocks stay apart for a while."""

    blocks: list[tuple[Hashes, Counts, Array]] = field(default_factory=list)

    def add(self, hashes: Hashes, rows: Array) -> None:
        """Add the hashes of later rows."""
        distinct, first, counts = np.unique(hashes, return_index=True, return_counts=True)
        self.blocks.append((distinct, counts, rows[first]))
        # Merging only as much again as there was keeps the work proportional to the rows.
        if sum(len(block[0]) for block in self.blocks[1:]) > len(self.blocks[0][0]):
            self.merge()

    def merge(self) -> None:
        """Make one block of all."""
        hashes, counts, rows = (np.concatenate(parts) for parts in zip(*self.blocks, strict=True))
        self.blocks = []
        distinct, first, codes = np.unique(hashes, return_index=True, return_inverse=True)
        self.blocks = [(distinct, np.bincount(codes, counts, len(distinct)).astype(np.int64), rows[first])]

    @property
    def count(self) -> int:
        """Number of distinct hashes in the first block."""
        return len(self.blocks[0][0])

    def keep(self, divisor: int, remainder: int) -> None:
        """Keep only the hashes that have a remainder."""
        chosen = [block[0] % np.uint64(divisor) == remainder for block in self.blocks]
        self.blocks = [
            (hashes[mask], counts[mask], rows[mask])
            for mask, (hashes, counts, rows) in zip(chosen, self.blocks, strict=True)
        ]

    def finish(self) -> Occurrences:
        """Return what was counted."""
        self.merge()
        ((_, counts, rows),) = self.blocks
        return Occurrences.of(counts, find_most_frequent(counts, rows))


def choose_by_hash(columns: Sequence[Column], divisor: int, remainder: int) -> Iterator[tuple[Hashes, Array]]:
    """Yield the hashes of rows that have a remainder, and their rows, block by block; rows with missing cells have no
    hash.
    """
    count = len(columns[0])
    for start in range(0, max(count, 1), BLOCK):
        parts = [column.slice(start, min(start + BLOCK, count)) for column in columns]
        hashes = hash_rows(parts)
        is_chosen = np.logical_and.reduce([~part.is_missing for part in parts])
        if divisor > 1:
            is_chosen &= hashes % np.uint64(divisor) == remainder
        yield hashes[is_chosen], np.flatnonzero(is_chosen) + start


def find_repeats(column: Column, rows_at_once: int) -> Array:
    """Return the first rows whose value is in several rows, in a column that has few of them."""
    first, passes = np.zeros(0, np.int64), max(-(-len(column) // rows_at_once), 1)
    for index in range(passes):
        chosen = zip(*choose_by_hash([column], passes, index), strict=True)
        hashes, rows = (np.concatenate(parts) for parts in chosen)
        _, codes, counts = np.unique(hashes, return_inverse=True, return_counts=True)
        first = np.sort(np.concatenate([first, rows[counts[codes] > 1]]))[:MOST_EXAMPLES]
    return first


def is_unique(table: Table, names: Sequence[str], rows_at_once: int | None = None) -> bool:
    """Return whether no two rows have equal values and none is missing; the first rows are tested first.

    With `rows_at_once` hashes of so many rows are compared in each of several passes.
    """
    if any(table[name].missing_count for name in names):
        return False
    if len(table) > SAMPLE and not is_unique(table.only(names).first(SAMPLE), names):
        return False
    if rows_at_once is None:
        codes, size = encode_rows(table, tuple(names))
        return int(np.count_nonzero(count_codes(codes, size))) == len(table)
    passes, columns = -(-len(table) // rows_at_once), [table[name] for name in names]
    return all(has_no_repeat(columns, passes, index) for index in range(passes))


def has_no_repeat(columns: Sequence[Column], divisor: int, remainder: int) -> bool:
    """Return whether no two of the hashes that have a remainder are equal."""
    hashes = np.zeros(0, np.uint64)
    for block, _ in choose_by_hash(columns, divisor, remainder):
        # Growing in place takes half the memory of a list of blocks that is put together.
        hashes.resize(len(hashes) + len(block), refcheck=False)
        hashes[-len(block) or len(hashes) :] = block
    hashes.sort()
    return not (hashes[1:] == hashes[:-1]).any()


def find_firsts(codes: Codes, counts: Counts) -> Array:
    """Return the first row of each code; mostly all are among the first rows."""
    first = find_first_rows(codes[:FIRST_ROWS], len(counts))
    return first if len(codes) <= FIRST_ROWS or (first[counts > 0] >= 0).all() else find_first_rows(codes, len(counts))
