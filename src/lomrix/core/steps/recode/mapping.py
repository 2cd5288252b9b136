"""A column under a map of values, worked out once for each distinct value."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.steps.recode.settings import Rest
from lomrix.core.steps.recode.value_map import MISSING, OTHERS, Pair
from lomrix.core.table.code_list import RANGE
from lomrix.core.table.column import Column, common_type, either
from lomrix.core.table.distinct import distinct_cells
from lomrix.core.table.numbers import is_number
from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import typed_column
from lomrix.core.wording import some_of

# Old value, new value, and number of cells.
Told = tuple[str, str, int]
UNMAPPED = "not in the map"
# What stands before the reason of values that become missing, where a change is listed.
MADE_MISSING = "missing: "
MOST_LISTED = 10


def targets(texts: Sequence[str], pairs: Sequence[Pair], type_: str) -> npt.NDArray[np.int64]:
    """Which pair each of some distinct texts falls under; -1 where none.

    A single value goes before a range that it lies in, and among ranges the first counts.
    """
    numbers = np.array([float(text) if is_number(text) else np.nan for text in texts])
    target = np.full(len(texts), -1, np.int64)
    order = sorted(range(len(pairs)), key=lambda at: (not pairs[at].is_range, -at))
    for at in order:
        target[_fitting(pairs[at], texts, numbers, type_)] = at
    rest = next((at for at, pair in enumerate(pairs) if pair.old == OTHERS), None)
    if rest is not None:
        target[target < 0] = rest
    return target


def new_codes(codes: Sequence[str], pairs: Sequence[Pair], column: Column, others: Rest) -> list[tuple[str, ...]]:
    """What becomes of the codes of a dictionary under a map; nothing where they become missing.

    A code that is a range of values becomes what its values become, and stays for those that the map does not name.
    """
    new = []
    places, texts, counts = distinct_cells(column)
    del places
    occurring = [text for text, count in zip(texts, counts.tolist(), strict=True) if count and is_number(text)]
    for code in codes:
        span = RANGE.fullmatch(code)
        values = [code]
        if span:
            named = [pair.old for pair in pairs if is_number(pair.old)]
            inside = [text for text in dict.fromkeys([*named, *occurring]) if in_range(text, span)]
            values = inside or [code]
        found: dict[str, None] = {}
        for at in targets(values, pairs, column.type).tolist():
            if at < 0:
                found |= dict.fromkeys([code] if others != "missing" else [])
            elif not pairs[at].reason:
                found[pairs[at].new] = None
        new.append(tuple(found))
    return new


def in_range(text: str, span: re.Match[str]) -> bool:
    """True where a number lies in a range of codes, such as `2 to 4`."""
    return float(span[1]) <= float(text) <= float(span[2])


def mapped(
    column: Column, pairs: tuple[Pair, ...], others: Rest, name: str
) -> tuple[Column, list[Told], list[tuple[str, int]], set[int]]:
    """A column under a map; the work is done once for each distinct value.

    Returns
    -------
    The new column; old value, new value and number of cells of each pair that was used; the values that the map does
    not name, with their numbers of cells; and the places of the pairs that some cell falls under.

    Raises
    ------
    DataError
        Where the map does not name a value and `others` is `refuse`.
    """
    places, texts, counts = distinct_cells(column)
    target = targets(texts, pairs, column.type)
    unmapped = [(texts[at], int(counts[at])) for at in np.flatnonzero((target < 0) & (counts > 0))]
    if unmapped and others == "refuse":
        told = some_of((f'"{value}" ({count:,})' for value, count in unmapped), MOST_LISTED)
        raise DataError(
            f"The map does not name all values of {name}.", where=told, todo="Name them, or say ‹others=keep›."
        )
    new: list[str | None] = []
    reasons: dict[int, str] = {}
    for at, text in enumerate(texts):
        pair = pairs[target[at]] if target[at] >= 0 else None
        if pair is None and others == "missing":
            reasons[at] = UNMAPPED
        elif pair is not None and pair.reason:
            reasons[at] = pair.reason
        new.append(None if at in reasons else text if pair is None else pair.new)
    filled = next((pair for pair in pairs if pair.old == MISSING), None)
    result = rebuilt(column, places, new, reasons, filled)
    used = [
        (texts[at], new[at] if new[at] is not None else f"{MADE_MISSING}{reasons[at]}", int(counts[at]))
        for at in range(len(texts))
        if counts[at] and target[at] >= 0
    ]
    if len(used) > 3 * MOST_LISTED:  # a range of many values: told by pair instead of by value
        totals = {at: int(counts[target == at].sum()) for at in dict.fromkeys(target[target >= 0].tolist())}
        used = [
            (pairs[at].old, pairs[at].new or f"{MADE_MISSING}{pairs[at].reason}", count) for at, count in totals.items()
        ]
    if filled is not None:
        to = filled.new or f"{MADE_MISSING}{filled.reason}"
        used += [(f"missing: {reason}", to, count) for reason, count in column.reason_counts().items()]
    found = set(target[(target >= 0) & (counts > 0)].tolist())
    return result, [(old, str(made), count) for old, made, count in used], unmapped, found


def _fitting(pair: Pair, texts: Sequence[str], numbers: Array, type_: str) -> npt.NDArray[np.bool_]:
    if pair.from_day:
        is_day = type_ in ("date", "datetime")
        return np.array([is_day and pair.from_day <= text[:10] <= pair.to_day for text in texts], np.bool_)
    if pair.is_range:
        return np.asarray((numbers >= pair.low) & (numbers <= pair.high))
    if type_ in ("integer", "number") and is_number(pair.old):
        return np.asarray(numbers == float(pair.old))
    return np.array([text == pair.old for text in texts], np.bool_)


def rebuilt(
    column: Column, places: npt.NDArray[np.int32], new: list[str | None], reasons: dict[int, str], filled: Pair | None
) -> Column:
    """A column from the new text of each distinct old one; typed again, its old reasons kept."""
    # A word such as "none" among the new values is a value: only `missing:reason` makes a cell missing.
    made, _ = typed_column("", pa.array(new, pa.large_string()), tokens=False)
    if made.type == "string" and column.type == "string":
        made, _ = typed_column("", pa.array(new, pa.large_string()), Variable(type="string"))
    values = made.take_or(places.astype(np.int64), "blank") if len(new) else column
    gone = column.is_missing
    result = Column(values.type, values.values, None, (), values.pool)
    for number, reason in enumerate(column.reasons, start=1):
        if column.why is not None:
            result = result.with_missing(column.why == number, reason)
    for at, reason in reasons.items():
        result = result.with_missing(places == at, reason)
    if filled is not None and gone.any() and filled.reason:
        result = result.cleared(gone).with_missing(gone, filled.reason)
    elif filled is not None and gone.any():
        whole, _ = typed_column("", pa.array([filled.new], pa.large_string()), tokens=False)
        result = with_filled(result, gone, whole)
    return result


def with_filled(column: Column, cells: npt.NDArray[np.bool_], value: Column) -> Column:
    """The column with one value in some of its missing cells."""
    type_ = common_type((column, value)) or "string"
    column, value = column.widened(type_), value.widened(type_)
    return either(column, value.take(np.zeros(len(column), np.int64)), cells)
