"""Keys: the columns that say which rows belong together, and integer codes of their values."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.codes import Codes
from lomrix.core.arrays.natural_order import sort_naturally
from lomrix.core.arrays.shaped_texts import parse_shaped, parse_shaped_pair
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Shown
from lomrix.core.errors import DataError
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.header import natural_key
from lomrix.core.table.notes import Note
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

KeyPairs = tuple[tuple[str, str], ...]
# Rows in which the first examples are looked for.
FIRST_ROWS = 100_000


@dataclass(frozen=True)
class PairedKeys:
    """Key codes of two tables, comparable with each other."""

    base: Codes  # one code per row; -1 where a key is missing
    added: Codes
    size: int  # how many codes there can be
    notes: tuple[Note, ...]  # what was said about keys of different types
    as_text: tuple[str, ...]  # base names of the keys that were compared as text


def encode_key_pairs(base: Table, added: Table, pairs: KeyPairs) -> PairedKeys:
    """Encode the keys of two tables.

    Raises DataError if key columns have types that cannot be compared without loss.
    """
    encoded, notes, as_text = [], [], []
    columns = [(base[base_name], added[added_name]) for base_name, added_name in pairs]
    for (base_name, added_name), (first, second) in zip(pairs, columns, strict=True):
        if common_type((first, second)) is None and "string" in (first.type, second.type):
            notes.append(_note_text_key(base, added, base_name, added_name))
            as_text.append(base_name)
        encoded.append(_encode_pair(first, second, f"{base_name} in {base.name}", f"{added_name} in {added.name}"))
    codes, added_codes, size = key_codes.combine_code_pairs(encoded)
    return PairedKeys(codes, added_codes, size, tuple(notes), tuple(as_text))


def _note_text_key(base: Table, added: Table, base_name: str, added_name: str) -> Note:
    first, second = base[base_name], added[added_name]
    return Note(
        f"the key {base_name} is {first.type} in {base.name} and {second.type} in {added.name} ({added_name}): "
        "matched as text, so 412 meets 412 but not 0412.",
        column=base_name,
        kind="key-types",
    )


def _encode_pair(first: Column, second: Column, first_name: str, second_name: str) -> tuple[Codes, Codes, int]:
    type_ = common_type((first, second))
    if type_ is not None:
        # Integers beside decimals stay integers: as floats two long ids may become equal.
        first, second = (
            column if (column.type, type_) == ("integer", "number") else column.widen(type_)
            for column in (first, second)
        )
    kinds = {first.type, second.type}
    if "string" in kinds and not kinds & {"date", "datetime", "boolean"}:
        return _encode_texts(first, second)
    if kinds == {"string"}:
        return _encode_texts(first, second)
    if kinds <= {"integer", "number"} or len(kinds) == 1:
        column, second_numbers = to_comparable_integers(first), to_comparable_integers(second)
        return key_codes.encode_number_pair(column, second_numbers, first.is_missing, second.is_missing)
    raise DataError(
        f"The keys cannot be compared: {first_name} is {first.type}, {second_name} is {second.type}.",
        todo="Check that ‹key› names the columns that belong together, or give both one ‹type›.",
        columns=[first_name, second_name],
    )


def _encode_texts(first: Column, second: Column) -> tuple[Codes, Codes, int]:
    first_texts, second_texts = _get_texts(first), _get_texts(second)
    numbers = parse_shaped_pair(first_texts[0], second_texts[0])
    if numbers is not None:
        present = (np.zeros(len(side), np.bool_) for side in numbers)
        first_codes, second_codes, size = key_codes.encode_number_pair(*numbers, *present)
        return _codes_at(first_codes, first_texts[1], first), _codes_at(second_codes, second_texts[1], second), size
    first_codes, second_codes, size = key_codes.encode_text_pair(first_texts[0], second_texts[0])
    return _codes_at(first_codes, first_texts[1], first), _codes_at(second_codes, second_texts[1], second), size


def _get_texts(column: Column) -> tuple[pa.Array, npt.NDArray[np.int32] | None]:
    """Return the texts of a column, and each row's position among them (None: row by row)."""
    if column.type == "string":
        return column.strings.strings, column.stored
    if column.type == "number" and are_exact_integers(column.values[~column.is_missing]):
        column = Column.of("integer", np.nan_to_num(column.values), column.why, column.reasons)
    return column.to_text(), None


def _codes_at(codes: Codes, positions: npt.NDArray[np.int32] | None, column: Column) -> Codes:
    if positions is None:
        return codes
    return np.where(column.values < 0, -1, codes[positions]) if len(codes) else np.full(len(column), -1, np.int64)


def are_exact_integers(values: Array) -> bool:
    """Return whether all numbers are whole and small enough to be exact."""
    return bool((np.abs(values) < 2**53).all() and (values == np.floor(values)).all())


def to_comparable_integers(column: Column) -> npt.NDArray[np.int64]:
    """Return integers that are equal where the cells are; a number that is not whole keeps its own bits."""
    if column.type != "number":
        return column.values.astype(np.int64)
    present = np.nan_to_num(column.values)
    if are_exact_integers(present):
        return present.astype(np.int64)
    is_whole = present == np.floor(present)
    bits = (present + 0.0).view(np.int64)  # adding zero makes -0.0 and 0.0 one
    # The bits of a fraction are far from any integer that occurs in a study's key.
    fits = is_whole & (np.abs(present) < 2**63)
    return np.where(fits, np.where(fits, present, 0).astype(np.int64), bits)


@dataclass(frozen=True)
class Groups:
    """Rows grouped by the values of some columns."""

    codes: Codes  # group of each row, counted from 0 in the order of the values; -1 where a value is missing
    count: int  # number of groups
    values: dict[str, Column]  # for each grouping column its value in each group


def group_rows(table: Table, names: list[str] | tuple[str, ...]) -> Groups:
    """Group rows by columns, in the order of the values: numbers by value, "visit 3" before "visit 12"."""
    if len(names) == 1 and table[names[0]].type != "string":
        column = table[names[0]]
        codes, distinct = key_codes.rank_values(column.values, column.is_missing)
        return Groups(codes, len(distinct), {names[0]: Column.of(column.type, distinct)})
    return _group_by_ranks(table, names, (rank_cells(table[name]) for name in names))


def group_with_missing(table: Table, by: Sequence[str]) -> Groups:
    """Group rows so that a missing key is a value of its own, one for each reason, by name after all others."""

    def rank(column: Column) -> tuple[Codes, int]:
        column = column.sort_reasons()
        ranks, size = rank_cells(column)
        if column.why is None:
            return ranks, size
        return np.where(column.why == 0, ranks, size - 1 + column.why.astype(np.int64)), size + len(column.reasons)

    return _group_by_ranks(table, by, (rank(table[name]) for name in by))


def _group_by_ranks(table: Table, names: Sequence[str], ranks: Iterable[tuple[Codes, int]]) -> Groups:
    codes, old = key_codes.compact_codes(*_combine_encoded(ranks))
    first = find_group_starts(codes, len(old))
    return Groups(codes, len(old), {name: table[name].take(first) for name in names})


def _combine_encoded(encoded: Iterable[tuple[Codes, int]]) -> tuple[Codes, int]:
    """Combine the codes of several columns, with how many there can be."""
    iterator = iter(encoded)
    codes, size = next(iterator)
    for more, count in iterator:
        if size * max(count, 1) >= key_codes.LARGEST:
            codes, old = key_codes.compact_codes(codes, size)
            size = len(old)
        codes, size = key_codes.combine_codes(codes, size, more, max(count, 1))
    return codes, size


def locate_rows(keys: Table, table: Table) -> Codes:
    """Return for each row of a table its position among distinct keys, -1 for none; a missing cell is a value."""
    groups = group_with_missing(table, table.names)
    both = concatenate_tables([keys, Table(groups.values)])
    codes = group_with_missing(both, both.names).codes
    position = np.full(len(both) + 1, -1, np.int64)
    position[codes[: len(keys)]] = np.arange(len(keys))
    return position[codes[len(keys) :]][groups.codes]


def find_group_starts(codes: Codes, count: int) -> Codes:
    """Return the first row of each group."""
    first = np.zeros(count, np.int64)
    rows = np.flatnonzero(codes >= 0)[::-1]
    first[codes[rows]] = rows
    return first


def rank_cells(column: Column) -> tuple[Codes, int]:
    """Return the rank of each cell among the distinct values of its column (-1: missing), and their number."""
    if column.type != "string":
        ranks, distinct = key_codes.rank_values(column.values, column.is_missing)
        return ranks, len(distinct)
    column = column.encode()
    order = sort_texts(column.strings.strings)
    rank = np.full(len(order) + 1, -1, np.int64)
    rank[order] = np.arange(len(order))
    return rank[column.values], len(order)


def sort_texts(strings: pa.Array) -> npt.NDArray[np.int64]:
    """Return the positions of distinct strings in natural order: runs of digits as numbers, capitals beside small
    letters.
    """
    shaped = parse_shaped(strings)
    if shaped is not None:
        numbers = shaped[0]
        return np.arange(len(numbers)) if (numbers[1:] > numbers[:-1]).all() else np.argsort(numbers)
    order = sort_naturally(strings)
    if order is not None:
        return order
    texts = strings.to_pylist()
    return np.array(
        sorted(range(len(texts)), key=lambda index: (natural_key(texts[index].casefold()), texts[index])),
        dtype=np.int64,
    )


def encode_cells(column: Column) -> tuple[Codes, int]:
    """Return a number per cell that is equal where cells are (-1: missing), in no order, and how many there can be."""
    if column.type != "string":
        return rank_cells(column)
    numbers, size = column.strings.codes()
    if column.stored is None:
        return np.where(column.is_missing, -1, numbers).astype(np.int64, copy=False), size
    return np.append(numbers, -1)[column.stored].astype(np.int64, copy=False), size


def encode_rows(table: Table, names: tuple[str, ...]) -> tuple[Codes, int]:
    """Return a number per row that is equal where rows are equal in some columns; -1 where a cell is missing."""
    codes, size = _combine_encoded(encode_cells(table[name]) for name in names)
    if size > key_codes.ROOMY * len(codes) + 1024:
        codes, old = key_codes.compact_codes(codes, size)
        size = len(old)
    return codes, size


def show_repeated(table: Table, names: list[str] | tuple[str, ...], codes: Array, counts: Array) -> Shown:
    """Show the first keys that are in several rows, with these: "0007 (rows 4, 9)".

    `codes` is that of each row (-1: none), `counts` has the rows of each code.
    """
    repeats = np.append(counts > 1, False)
    # The first keys are mostly among the first rows.
    for some in (codes[:FIRST_ROWS], codes):
        rows = np.flatnonzero(repeats[some])
        _, firsts = np.unique(codes[rows], return_index=True)
        if len(firsts) >= MOST_EXAMPLES:
            break
    first_rows = rows[np.sort(firsts)[:MOST_EXAMPLES]]
    items = []
    for text, first in zip(format_keys(table, names, first_rows), first_rows.tolist(), strict=True):
        same = np.flatnonzero(codes == codes[first])
        numbers = table.number_rows(same[:MOST_EXAMPLES])
        more = " …" if len(same) > len(numbers) else ""
        items.append((numbers[0], f"{text} (rows {', '.join(map(str, numbers))}{more})"))
    return Shown(items, int(np.count_nonzero(repeats)), separator="; ")


def format_keys(table: Table, names: list[str] | tuple[str, ...], rows: Array) -> list[str]:
    """Format the keys of some rows for people."""
    cells = [table[name].take(rows).to_text().to_pylist() for name in names]
    return [" ".join("—" if part is None else part for part in parts) for parts in zip(*cells, strict=True)]
