"""Keys: the columns whose values say which rows belong together, and the codes of those values."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.codes import Codes
from lomrix.core.arrays.shaped_texts import paired_shaped_numbers, shaped_numbers
from lomrix.core.arrays.text_bytes import offsets_and_data
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.header import natural_order
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table

KeyPairs = tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class PairedKeys:
    """Key codes of two tables, counted alike.

    Parameters
    ----------
    base, added
        One code per row; -1 where a key is missing.
    size
        How many codes there can be.
    notes
        What was said about keys of different types.
    as_text
        Base names of the keys that were compared as text.
    """

    base: Codes
    added: Codes
    size: int
    notes: tuple[Note, ...]
    as_text: tuple[str, ...]


def paired_keys(base: Table, added: Table, pairs: KeyPairs) -> PairedKeys:
    """Code the keys of two tables.

    Raises
    ------
    DataError
        Where key columns are of kinds that cannot be compared without loss.
    """
    coded, notes, as_text = [], [], []
    for base_name, added_name in pairs:
        first, second = base[base_name], added[added_name]
        if common_type((first, second)) is None and "string" in (first.type, second.type):
            notes.append(_text_note(base, added, base_name, added_name))
            as_text.append(base_name)
        coded.append(_paired_codes(first, second, f"{base_name} in {base.name}", f"{added_name} in {added.name}"))
    codes, added_codes, size = key_codes.paired_combined(coded)
    return PairedKeys(codes, added_codes, size, tuple(notes), tuple(as_text))


def _text_note(base: Table, added: Table, base_name: str, added_name: str) -> Note:
    first, second = base[base_name], added[added_name]
    return Note(
        f"the key {base_name} is {first.type} in {base.name} and {second.type} in {added.name} ({added_name}): "
        "matched as text, so 412 meets 412 but not 0412.",
        column=base_name,
        kind="key-types",
    )


def _paired_codes(first: Column, second: Column, first_name: str, second_name: str) -> tuple[Codes, Codes, int]:
    type_ = common_type((first, second))
    if type_ is not None:
        # Whole numbers beside decimals stay whole: as decimals two long ids may become one.
        first, second = (
            one if (one.type, type_) == ("integer", "number") else one.widened(type_) for one in (first, second)
        )
    kinds = {first.type, second.type}
    if "string" in kinds and not kinds & {"date", "datetime", "boolean"}:
        return _paired_text_codes(first, second)
    if kinds == {"string"}:
        return _paired_text_codes(first, second)
    if kinds <= {"integer", "number"} or len(kinds) == 1:
        one, two = whole_numbers(first), whole_numbers(second)
        return key_codes.paired_number_codes(one, two, first.is_missing, second.is_missing)
    raise DataError(
        f"The keys cannot be compared: {first_name} is {first.type}, {second_name} is {second.type}.",
        todo="Check that ‹key› names the columns that belong together, or give both one ‹type›.",
    )


def _paired_text_codes(first: Column, second: Column) -> tuple[Codes, Codes, int]:
    one, two = _texts(first), _texts(second)
    numbers = paired_shaped_numbers(one[0], two[0])
    if numbers is not None:
        present = (np.zeros(len(side), np.bool_) for side in numbers)
        one_codes, two_codes, size = key_codes.paired_number_codes(*numbers, *present)
        return _at(one_codes, one[1], first), _at(two_codes, two[1], second), size
    one_codes, two_codes, size = key_codes.paired_text_codes(one[0], two[0])
    return _at(one_codes, one[1], first), _at(two_codes, two[1], second), size


def _texts(column: Column) -> tuple[pa.Array, npt.NDArray[np.int32] | None]:
    """The texts of a column, and where each row's stands among them (None: row by row)."""
    if column.type == "string":
        return column.strings.strings, column.stored
    if column.type == "number" and whole(column.values[~column.is_missing]):
        column = Column.of("integer", np.nan_to_num(column.values), column.why, column.reasons)
    return column.to_text(), None


def _at(codes: Codes, positions: npt.NDArray[np.int32] | None, column: Column) -> Codes:
    if positions is None:
        return codes
    return np.where(column.values < 0, -1, codes[positions]) if len(codes) else np.full(len(column), -1, np.int64)


def whole(values: Array) -> bool:
    """True where all numbers are whole and small enough to be exact."""
    return bool((np.abs(values) < 2**53).all() and (values == np.floor(values)).all())


def whole_numbers(column: Column) -> npt.NDArray[np.int64]:
    """Numbers that are equal where the cells are equal; a number that is not whole keeps its own bits."""
    if column.type != "number":
        return column.values.astype(np.int64)
    present = np.nan_to_num(column.values)
    if whole(present):
        return present.astype(np.int64)
    is_whole = present == np.floor(present)
    bits = (present + 0.0).view(np.int64)  # adding zero makes -0.0 and 0.0 one
    # Bits of a fraction are far from any whole number that stands in a study's key.
    held = is_whole & (np.abs(present) < 2**63)
    return np.where(held, np.where(held, present, 0).astype(np.int64), bits)


@dataclass(frozen=True)
class Groups:
    """Rows put together by the values of some columns.

    Parameters
    ----------
    codes
        Group of each row, counted from 0 in the order of the values; -1 where a value is missing.
    count
        Number of groups.
    values
        For each grouping column its value in each group.
    """

    codes: Codes
    count: int
    values: dict[str, Column]


def grouped(table: Table, names: list[str] | tuple[str, ...]) -> Groups:
    """Group the rows by columns, in the order of the values: numbers as numbers, "visit 3" before "visit 12"."""
    if len(names) == 1 and table[names[0]].type != "string":
        column = table[names[0]]
        codes, distinct = key_codes.ranks(column.values, column.is_missing)
        return Groups(codes, len(distinct), {names[0]: Column.of(column.type, distinct)})
    codes = np.zeros(len(table), np.int64)
    size = 1
    for name in names:
        ranks, count = ordered_ranks(table[name])
        if size * max(count, 1) >= 2**62:
            codes, old = key_codes.dense(codes, size)
            size = len(old)
        codes, size = key_codes.combined(codes, size, ranks, max(count, 1))
    codes, old = key_codes.dense(codes, size)
    table_of_firsts = np.full(len(old), -1, np.int64)
    rows = np.flatnonzero(codes >= 0)[::-1]
    table_of_firsts[codes[rows]] = rows
    return Groups(codes, len(old), {name: table[name].take(table_of_firsts) for name in names})


def ordered_ranks(column: Column) -> tuple[Codes, int]:
    """Rank of each cell among the distinct values of its column (-1: missing), and how many there are."""
    if column.type != "string":
        ranks, distinct = key_codes.ranks(column.values, column.is_missing)
        return ranks, len(distinct)
    column = column.encoded()
    order = text_order(column.strings.strings)
    rank = np.full(len(order) + 1, -1, np.int64)
    rank[order] = np.arange(len(order))
    return rank[column.values], len(order)


def text_order(strings: pa.Array) -> npt.NDArray[np.int64]:
    """The places of distinct strings in ascending order, runs of digits as numbers, capitals beside small letters."""
    shaped = shaped_numbers(strings)
    if shaped is not None:
        numbers = shaped[0]
        return np.arange(len(numbers)) if (numbers[1:] > numbers[:-1]).all() else np.argsort(numbers)
    starts, raw = offsets_and_data(strings)
    lengths = np.diff(starts)
    if len(strings) and lengths.min() == lengths.max() > 0:
        signs = raw[starts[0] : starts[-1]].reshape(len(strings), -1)
        digits = (signs - ord("0")) < 10  # unsigned: others are over 10
        if (digits == digits[0]).all():  # digits in the same places: plain order is the natural one
            small = pc.utf8_lower(strings)
            if small.equals(strings):
                return np.asarray(pc.sort_indices(strings).to_numpy(), dtype=np.int64)
            both, keys = pa.table({"small": small, "text": strings}), [("small", "ascending"), ("text", "ascending")]
            return np.asarray(pc.sort_indices(both, sort_keys=keys).to_numpy(), dtype=np.int64)
    texts = strings.to_pylist()
    return np.array(
        sorted(range(len(texts)), key=lambda at: (natural_order(texts[at].casefold()), texts[at])), dtype=np.int64
    )


def unordered_codes(column: Column) -> tuple[Codes, int]:
    """A number for each cell that is equal where cells are (-1: missing), in no order, and how many there can be."""
    if column.type != "string":
        return ordered_ranks(column)
    numbers, size = column.strings.codes()
    if column.stored is None:
        return np.where(column.is_missing, -1, numbers).astype(np.int64, copy=False), size
    return np.append(numbers, -1)[column.stored].astype(np.int64, copy=False), size


def row_codes(table: Table, names: tuple[str, ...]) -> tuple[Codes, int]:
    """A number for each row that is equal where rows are equal in some columns; -1 where a cell is missing."""
    codes, size = unordered_codes(table[names[0]])
    for name in names[1:]:
        more, count = unordered_codes(table[name])
        if size * max(count, 1) >= 2**62:
            codes, old = key_codes.dense(codes, size)
            size = len(old)
        codes, size = key_codes.combined(codes, size, more, max(count, 1))
    if size > key_codes.ROOMY * len(codes) + 1024:
        codes, old = key_codes.dense(codes, size)
        size = len(old)
    return codes, size


def key_texts(table: Table, names: list[str] | tuple[str, ...], rows: Array) -> list[str]:
    """The keys of some rows as a person reads them."""
    cells = [table[name].take(rows).to_text().to_pylist() for name in names]
    return [" ".join("—" if part is None else part for part in parts) for parts in zip(*cells, strict=True)]
