"""What may still identify people in a table without names."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.combining import Combinable
from lomrix.core.rows.distinct_sample import DistinctSample
from lomrix.core.rows.keys import group_rows
from lomrix.core.rows.partitions import Hashes, hash_texts
from lomrix.core.steps.account import Listing
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

# Texts that are mostly different and hold several words are read as free text.
FREE_TEXT_SHARE = 0.5
SMALL_GROUP = 5
MOST_GROUPS = 10
# Shorter texts occur in others by chance.
LEAST_LETTERS = 3
WORD = re.compile(r"\w[\w'’-]*")


def sample_values(column: Column) -> DistinctSample:
    """Survey a column: which of its values repeat, and which are phrases."""
    column = column.compact()
    if column.type != "string":
        return DistinctSample.of(column, np.zeros(len(column), np.bool_))
    trimmed = pc.utf8_trim_whitespace(column.strings.strings)
    is_phrase = pc.match_substring(trimmed, " ").to_numpy(zero_copy_only=False)
    return DistinctSample.of(column, np.append(is_phrase, False)[column.values])


def note_identifying(name: str, type_: str, values: DistinctSample) -> Iterator[Note]:
    """Note what the values of a column may reveal."""
    if type_ in ("date", "datetime") and values.share > FREE_TEXT_SHARE:
        text = "single days that are mostly different may identify; see ‹shift› and ‹coarsen›."
        yield Note(text, name, (), "dates", values.present)
    if type_ == "string" and values.present:
        if values.share > FREE_TEXT_SHARE and values.marked_share > FREE_TEXT_SHARE:
            yield Note("free text may hold names; see ‹remove›.", name, (), "free-text", values.present)
        elif values.never_repeats and values.present > SMALL_GROUP:
            yield Note("every value is unique, like an id; see ‹remove›.", name, (), "like-an-id", values.present)


# -------------------------------------------------------------------- names left


@dataclass(frozen=True)
class RemovedTexts(Combinable):
    """Texts that should be gone, whole and word by word, by their hashes."""

    hashes: Hashes  # in their order
    columns: npt.NDArray[np.int64]  # position of the column of each among those removed
    lengths: frozenset[int]  # in words

    @classmethod
    def of(cls, table: Table, names: Sequence[str]) -> RemovedTexts:
        """List the texts of some columns."""
        result = cls(np.zeros(0, np.uint64), np.zeros(0, np.int64), frozenset())
        for position, name in enumerate(names):
            column, parts, lengths = table[name], set[str](), {1}
            for text in column.to_text().unique().drop_null().to_pylist():
                words = split_words(text)
                parts.add(" ".join(words))
                parts.update(words if column.type == "string" else ())
                lengths.add(max(len(words), 1))
            hashes = hash_words([part for part in parts if len(part) >= LEAST_LETTERS])
            result = result.combine(cls(hashes, np.full(len(hashes), position), frozenset(lengths)))
        return result

    def combine(self, later: RemovedTexts) -> RemovedTexts:
        """List the texts of both parts; one of several columns belongs to the last of these."""
        hashes = np.concatenate([self.hashes, later.hashes])
        columns = np.concatenate([self.columns, later.columns])
        order = np.lexsort((columns, hashes))
        last = order[np.append(hashes[order][1:] != hashes[order][:-1], True)[: len(order)]]
        return RemovedTexts(hashes[last], columns[last], self.lengths | later.lengths)

    def find_cells(self, column: Column) -> dict[int, npt.NDArray[np.int64]]:
        """Return the rows of cells that contain a removed text, by the position of its column."""
        column = column.compact()
        words = [split_words(text) for text in column.strings.texts()]
        found = np.full(len(words) + 1, -1)  # the last one is for missing cells
        for length in sorted(self.lengths):
            owners, runs = list[int](), list[str]()
            for index in np.flatnonzero(found[:-1] < 0).tolist():
                text = words[index]
                runs += [" ".join(text[start : start + length]) for start in range(len(text) - length + 1)]
                owners += [index] * (len(runs) - len(owners))
            positions = self._look_up(runs)
            matches = np.flatnonzero(positions >= 0)
            index_of, first = np.unique(np.array(owners, np.int64)[matches], return_index=True)
            found[index_of] = positions[matches[first]]
        of_rows = found[column.values]
        return {int(position): np.flatnonzero(of_rows == position) for position in np.unique(of_rows[of_rows >= 0])}

    def _look_up(self, texts: Sequence[str]) -> npt.NDArray[np.int64]:
        """Return the column of each text, -1 for none."""
        hashes = hash_words(texts)
        places = np.searchsorted(self.hashes, hashes)
        is_there = np.append(self.hashes, np.uint64(0))[places] == hashes
        return np.where(is_there & (places < len(self.hashes)), np.append(self.columns, -1)[places], -1)


def hash_words(texts: Sequence[str]) -> Hashes:
    """Return a hash for each text."""
    return hash_texts(pa.array(texts, pa.large_string()))


def split_words(text: str) -> list[str]:
    """Return the words of a text, casefolded."""
    return [word.casefold() for word in WORD.findall(text)]


# ------------------------------------------------------------------ small groups


@dataclass(frozen=True)
class GroupSizes(Combinable):
    """Groups of rows that are alike in some columns, and how many rows they have."""

    groups: Table
    sizes: npt.NDArray[np.int64]

    @classmethod
    def of(cls, table: Table, sizes: npt.NDArray[np.int64] | None = None) -> GroupSizes:
        """Group rows, which stand for several each if that is said; rows with a missing cell are in no group."""
        groups = group_rows(table, table.names)
        weights = None if sizes is None else sizes[groups.codes >= 0]
        counts = np.bincount(groups.codes[groups.codes >= 0], weights, groups.count).astype(np.int64)
        return cls(Table(groups.values), counts)

    def combine(self, later: GroupSizes) -> GroupSizes:
        """Join the groups of both parts."""
        return self.of(concatenate_tables([self.groups, later.groups]), np.concatenate([self.sizes, later.sizes]))

    def list_smallest(self) -> Listing:
        """List the smallest groups, and count the rows that are in small ones."""
        order = np.argsort(self.sizes, kind="stable")[:MOST_GROUPS]
        small = int(self.sizes[self.sizes < SMALL_GROUP].sum())
        cells = [column.take(order).to_text().to_pylist() for column in self.groups.columns.values()]
        title = f"smallest groups; {pluralize(small, 'row is', 'rows are')} in groups of fewer than {SMALL_GROUP}"
        rows = zip(*cells, self.sizes[order].tolist(), strict=True)
        return Listing(title, (*self.groups.names, "rows"), tuple(rows))
