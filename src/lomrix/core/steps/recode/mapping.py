"""Apply a map of values to a column, once for each distinct value."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.steps.recode.settings import Rest
from lomrix.core.steps.recode.value_map import MISSING, OTHERS, Pair
from lomrix.core.table.codes import RANGE
from lomrix.core.table.column import Column, choose_cells, common_type
from lomrix.core.table.distinct import encode_as_texts
from lomrix.core.table.numbers import is_number
from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import read_text_column
from lomrix.core.wording import shorten_list

# Old value, new value, and number of cells.
MappedValue = tuple[str, str, int]
UNMAPPED = "not in the map"
# Prefix for the reason of values that become missing, in listings.
MADE_MISSING = "missing: "
MOST_LISTED = 10


def find_targets(texts: Sequence[str], pairs: Sequence[Pair], type_: str) -> npt.NDArray[np.int64]:
    """Return which pair each distinct text falls under; -1 for none.

    A single value takes precedence over a range that includes it; of several ranges the first counts.
    """
    numbers = np.array([float(text) if is_number(text) else np.nan for text in texts])
    target = np.full(len(texts), -1, np.int64)
    order = sorted(range(len(pairs)), key=lambda index: (not pairs[index].is_range, -index))
    for index in order:
        target[_match_pair(pairs[index], texts, numbers, type_)] = index
    others_index = next((index for index, pair in enumerate(pairs) if pair.old == OTHERS), None)
    if others_index is not None:
        target[target < 0] = others_index
    return target


def map_codes(codes: Sequence[str], pairs: Sequence[Pair], column: Column, others: Rest) -> list[tuple[str, ...]]:
    """Return what becomes of the dictionary's codes under a map; empty if they become missing.

    A code that is a range becomes what its values become, and stays for those that the map does not name.
    """
    result = []
    _positions, texts, counts = encode_as_texts(column)
    del _positions
    occurring = [text for text, count in zip(texts, counts.tolist(), strict=True) if count and is_number(text)]
    for code in codes:
        code_range = RANGE.fullmatch(code)
        values = [code]
        if code_range:
            pair_values = [pair.old for pair in pairs if is_number(pair.old)]
            values_inside = [
                text for text in dict.fromkeys([*pair_values, *occurring]) if is_in_range(text, code_range)
            ]
            values = values_inside or [code]
        mapped_codes: dict[str, None] = {}
        for index in find_targets(values, pairs, column.type).tolist():
            if index < 0:
                mapped_codes |= dict.fromkeys([code] if others != "missing" else [])
            elif not pairs[index].reason:
                mapped_codes[pairs[index].new] = None
        result.append(tuple(mapped_codes))
    return result


def is_in_range(text: str, span: re.Match[str]) -> bool:
    """Return whether a number is in a range of codes, such as `2 to 4`."""
    return float(span[1]) <= float(text) <= float(span[2])


@dataclass(frozen=True)
class MappedColumn:
    """A column after a map was applied."""

    column: Column
    values: list[MappedValue]  # old value, new value and number of cells, of what was mapped
    unmapped: list[tuple[str, int]]  # values that the map does not name, with their numbers of cells
    used: set[int]  # positions of the pairs that some cell falls under


def map_column(column: Column, pairs: tuple[Pair, ...], others: Rest, name: str) -> MappedColumn:
    """Apply a map to a column.

    Raises DataError if the map does not name a value and `others` is `refuse`.
    """
    positions, texts, counts = encode_as_texts(column)
    target = find_targets(texts, pairs, column.type)
    occurs = counts > 0
    unmapped = [(texts[index], int(counts[index])) for index in np.flatnonzero((target < 0) & occurs)]
    if unmapped and others == "refuse":
        shown = shorten_list((f'"{value}" ({count:,})' for value, count in unmapped), MOST_LISTED)
        raise DataError(
            f"The map does not name all values of {name}.", where=shown, todo="Name them, or use ‹others=keep›."
        )
    new, reasons = _map_texts(texts, target, pairs, others)
    missing_pair = next((pair for pair in pairs if pair.old == MISSING), None)
    is_mapped = occurs & (target >= 0)
    values = [
        (texts[index], _format_target(new[index], reasons.get(index, "")), int(counts[index]))
        for index in np.flatnonzero(is_mapped).tolist()
    ]
    if len(values) > 3 * MOST_LISTED:  # a range of many values: listed by pair instead of by value
        values = [
            (
                pairs[index].old,
                _format_target(pairs[index].new, pairs[index].reason),
                int(counts[target == index].sum()),
            )
            for index in dict.fromkeys(target[target >= 0].tolist())
        ]
    if missing_pair is not None:
        text = _format_target(missing_pair.new, missing_pair.reason)
        values += [(f"{MADE_MISSING}{reason}", text, count) for reason, count in column.reason_counts().items()]
    result = rebuild_column(column, positions, new, reasons, missing_pair)
    return MappedColumn(result, values, unmapped, set(target[is_mapped].tolist()))


def _map_texts(
    texts: Sequence[str], target: npt.NDArray[np.int64], pairs: Sequence[Pair], others: Rest
) -> tuple[list[str | None], dict[int, str]]:
    """Return the new text of each distinct value, None if it becomes missing, and the reasons of those by position."""
    new: list[str | None] = []
    reasons: dict[int, str] = {}
    for index, text in enumerate(texts):
        pair = pairs[target[index]] if target[index] >= 0 else None
        if pair is None and others == "missing":
            reasons[index] = UNMAPPED
        elif pair is not None and pair.reason:
            reasons[index] = pair.reason
        new.append(None if index in reasons else text if pair is None else pair.new)
    return new, reasons


def _format_target(new: str | None, reason: str) -> str:
    return new or f"{MADE_MISSING}{reason}" if reason else str(new)


def _match_pair(pair: Pair, texts: Sequence[str], numbers: Array, type_: str) -> npt.NDArray[np.bool_]:
    if pair.from_day:
        is_day = type_ in ("date", "datetime")
        return np.array([is_day and pair.from_day <= text[:10] <= pair.to_day for text in texts], np.bool_)
    if pair.is_range:
        return np.asarray((numbers >= pair.low) & (numbers <= pair.high))
    if type_ in ("integer", "number") and is_number(pair.old):
        return np.asarray(numbers == float(pair.old))
    return np.array([text == pair.old for text in texts], np.bool_)


def rebuild_column(
    column: Column,
    positions: npt.NDArray[np.int32],
    new: list[str | None],
    reasons: dict[int, str],
    missing_pair: Pair | None,
) -> Column:
    """Make a column from the new text of each distinct old one; typed again, keeping old reasons."""
    # A word such as "none" among the new values is a value: only `missing:reason` makes a cell missing.
    typed, _ = read_text_column("", pa.array(new, pa.large_string()), tokens=False)
    if typed.type == "string" and column.type == "string":
        typed, _ = read_text_column("", pa.array(new, pa.large_string()), Variable(type="string"))
    values = typed.take_or(positions.astype(np.int64), "blank") if len(new) else column
    was_missing = column.is_missing
    result = Column(values.type, values.values, None, (), values.pool)
    for number, reason in enumerate(column.reasons, start=1):
        if column.why is not None:
            result = result.with_missing(column.why == number, reason)
    for index, reason in reasons.items():
        result = result.with_missing(positions == index, reason)
    if missing_pair is not None and was_missing.any() and missing_pair.reason:
        result = result.clear_missing(was_missing).with_missing(was_missing, missing_pair.reason)
    elif missing_pair is not None and was_missing.any():
        fill_value, _ = read_text_column("", pa.array([missing_pair.new], pa.large_string()), tokens=False)
        result = fill_cells(result, was_missing, fill_value)
    return result


def fill_cells(column: Column, cells: npt.NDArray[np.bool_], value: Column) -> Column:
    """Put one value into some of the column's missing cells."""
    type_ = common_type((column, value)) or "string"
    column, value = column.widen(type_), value.widen(type_)
    return choose_cells(column, value.take(np.zeros(len(column), np.int64)), cells)
