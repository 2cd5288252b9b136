"""What becomes of each distinct value of a column: by a map, as codes, as labels, or on a reversed scale."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import sort_texts
from lomrix.core.steps.recode.settings import Order, Rest
from lomrix.core.steps.recode.value_map import MISSING, OTHERS, Pair
from lomrix.core.table.codes import RANGE
from lomrix.core.table.column import DTYPES, FILLERS, Column, choose_cells, common_type
from lomrix.core.table.distinct import strip_point
from lomrix.core.table.numbers import Type, is_number
from lomrix.core.table.pool import Pool
from lomrix.core.table.renaming import concatenate_columns
from lomrix.core.table.variable import Variable
from lomrix.core.text.answers import MOST_ANSWERS, SEPARATORS, find_separator, split_answers
from lomrix.core.text.reading import read_text_column
from lomrix.core.text.rules import CODE, find_codes
from lomrix.core.wording import shorten_list

UNMAPPED = "not in the map"
# Prefix for the reason of values that become missing, in listings.
MADE_MISSING = "missing: "
MOST_LISTED = 10
ANSWER_CODES = {"0": "not given", "1": "given"}


@dataclass(frozen=True)
class Distinct:
    """The distinct values of a column as texts, in the order of their first rows, and its reasons, with their cells."""

    type: Type
    texts: dict[str, int]
    reasons: dict[str, int]


@dataclass(frozen=True)
class NewValues:
    """What becomes of each distinct value of a column, and of its missing cells."""

    # The new value of each, and in one more row that of missing cells, if these do not stay as they are.
    column: Column
    # The same as texts, as they are listed.
    texts: list[str]
    # Old and new text of what is listed, and the positions of its values.
    groups: list[tuple[str, str, list[int]]]
    fill: str | None = None  # what missing cells become, as it is listed; None if they stay
    unmapped: list[int] = field(default_factory=list)  # positions of values that the map does not name
    absent: list[str] = field(default_factory=list)  # values in the map that the column does not have

    def put_into(self, old: Column, positions: npt.NDArray[np.int32]) -> Column:
        """Return the new column, given the position of each cell among the distinct values (-1: missing)."""
        if self.fill is not None:
            return self.column.take(np.where(positions < 0, len(self.texts), positions)).sort_reasons()
        result = self.column.take_or(positions, "blank")
        if old.missing_count:
            filler = np.full(len(old), FILLERS[result.type], DTYPES[result.type])
            pool = Pool.of([]) if result.type == "string" else None
            kept = Column(result.type, filler, old.why, old.reasons, pool)
            result = choose_cells(result, kept, old.is_missing)
        return result.sort_reasons()


def map_values(distinct: Distinct, pairs: Sequence[Pair], others: Rest, name: str) -> NewValues:
    """Apply a map.

    Raises DataError if the map does not name a value and `others` is `refuse`.
    """
    texts = list(distinct.texts)
    target = find_targets(texts, pairs, distinct.type)
    unmapped = np.flatnonzero(target < 0).tolist()
    if unmapped and others == "refuse":
        shown = shorten_list(
            (f'"{texts[index]}" ({distinct.texts[texts[index]]:,})' for index in unmapped), MOST_LISTED
        )
        raise DataError(
            f"The map does not name all values of {name}.", where=shown, todo="Name them, or use ‹others=keep›."
        )
    new, reasons = _map_texts(texts, target, pairs, others)
    column = _read_values(distinct.type, new)
    for reason in dict.fromkeys(reasons.values()):
        column = column.with_missing(np.array([reasons.get(index) == reason for index in range(len(texts))]), reason)
    missing_pair = next((pair for pair in pairs if pair.old == MISSING), None)
    fill = None
    if missing_pair is not None and distinct.reasons:
        fill = _format_target(missing_pair.new, missing_pair.reason)
        column = _append_fill(column, missing_pair)
    shown_texts = [_format_target(text, reasons.get(index, "")) for index, text in enumerate(new)]
    mapped = np.flatnonzero(target >= 0).tolist()
    groups = [(texts[index], shown_texts[index], [index]) for index in mapped]
    if len(groups) > 3 * MOST_LISTED:  # a range of many values: listed by pair instead of by value
        groups = [
            (pair.old, _format_target(pair.new, pair.reason), np.flatnonzero(target == index).tolist())
            for index, pair in ((index, pairs[index]) for index in dict.fromkeys(target[mapped].tolist()))
        ]
    used = {*target.tolist()}
    absent = [pair.old for index, pair in enumerate(pairs) if index not in used and pair.old not in (OTHERS, MISSING)]
    return NewValues(column, shown_texts, groups, fill, unmapped, absent)


def number_texts(
    distinct: Distinct, labels: Mapping[str, str], order: Order, name: str
) -> tuple[NewValues, dict[str, str]]:
    """Return codes for texts, and their labels; if `order` is given, labels keep their codes, and so do texts that
    are or begin with one.

    Raises DataError if some texts are numbers with decimals, which are no codes.
    """
    texts = list(distinct.texts)
    decimals = [text for text in texts if is_number(text) and not re.fullmatch(CODE, text)]
    if order == "given" and decimals and not set(decimals) <= {*labels, *labels.values()}:
        raise DataError(
            f"{name} has numbers with decimals, which are no codes.",
            where=shorten_list((f'"{text}"' for text in decimals), MOST_LISTED),
            todo=f"Name what is no number with ‹missing_text=…›, or each of them with ‹map={name}: …›.",
            columns=[name],
        )
    coded = find_codes(texts) if order == "given" else {}
    numeric = {label: int(code) for code, label in labels.items() if code.lstrip("-").isdigit()}
    if order == "given" and numeric and set(texts) <= set(numeric):
        codes = [numeric[text] for text in texts]
    elif order == "given" and labels and set(texts) <= set(labels) and not coded:
        codes = [list(labels).index(text) + 1 for text in texts]
    elif coded:
        others = [text for text in texts if text not in coded]
        first = max(0, *(code for code, _ in coded.values())) + 1
        coded |= {text: (code, text) for code, text in enumerate(others, first)}
        codes = [coded[text][0] for text in texts]
        labels = {text: labels.get(text, label) for text, (_, label) in coded.items()}
    elif order == "alphabet":
        codes = (np.argsort(sort_texts(pa.array(texts, pa.large_string()))) + 1).tolist()
    else:
        codes = [index + 1 for index in range(len(texts))]
    shown = list(map(str, codes))
    by_code = sorted(range(len(texts)), key=codes.__getitem__)
    groups = [(texts[index], shown[index], [index]) for index in by_code]
    values = NewValues(Column.of("integer", np.array(codes, np.int64)), shown, groups)
    return values, {shown[index]: labels.get(texts[index], texts[index]) for index in by_code}


def indicate_answers(distinct: Distinct, labels: Mapping[str, str], name: str) -> dict[str, NewValues]:
    """Return for each answer in a column of several whether a text has it: those with labels first, the others sorted.

    Raises DataError if there are too many of them.
    """
    texts = list(distinct.texts)
    usual = max(SEPARATORS[:-1], key=lambda mark: sum(mark in text for text in texts))
    separator = find_separator(texts) or usual
    given = [split_answers(text, separator) for text in texts]
    answers = dict.fromkeys(answer for row in given for answer in row)
    if len(answers) > MOST_ANSWERS:
        raise DataError(
            f"{len(answers):,} different answers in {name} are too many for a column each.",
            where=shorten_list((f'"{answer}"' for answer in answers), MOST_LISTED),
            todo=f"Choose a column with at most {MOST_ANSWERS}, in cells such as 1;3;5.",
            columns=[name],
        )
    others = [answer for answer in answers if answer not in labels]
    order = sort_texts(pa.array(others, pa.large_string())).tolist()
    result = {}
    for answer in [*(code for code in labels if code in answers), *(others[index] for index in order)]:
        has_answer = np.array([answer in row for row in given])
        shown = list(map(str, has_answer.astype(np.int64).tolist()))
        groups = [
            (words, code, np.flatnonzero(has_answer == (code == "1")).tolist())
            for words, code in ((f"with {answer}", "1"), (f"without {answer}", "0"))
        ]
        result[answer] = NewValues(Column.of("integer", has_answer.astype(np.int64)), shown, groups)
    return result


def reverse_values(distinct: Distinct, low: float, high: float) -> NewValues:
    """Reverse a numeric scale: lowest plus highest minus the score."""
    texts = list(distinct.texts)
    is_integer = distinct.type == "integer"
    values = low + high - np.array([int(text) if is_integer else float(text) for text in texts])
    type_: Type = "integer" if is_integer and float(low + high).is_integer() else "number"
    shown = [strip_point(f"{value:g}") for value in values.tolist()]
    groups = sorted((text, shown[index], [index]) for index, text in enumerate(texts))
    return NewValues(Column.of(type_, values), shown, groups)


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


def map_codes(codes: Sequence[str], pairs: Sequence[Pair], distinct: Distinct, others: Rest) -> list[tuple[str, ...]]:
    """Return what becomes of the dictionary's codes under a map; empty if they become missing.

    A code that is a range becomes what its values become, and stays for those that the map does not name.
    """
    result = []
    occurring = [text for text in distinct.texts if is_number(text)]
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
        for index in find_targets(values, pairs, distinct.type).tolist():
            if index < 0:
                mapped_codes |= dict.fromkeys([code] if others != "missing" else [])
            elif not pairs[index].reason:
                mapped_codes[pairs[index].new] = None
        result.append(tuple(mapped_codes))
    return result


def is_in_range(text: str, span: re.Match[str]) -> bool:
    """Return whether a number is in a range of codes, such as `2 to 4`."""
    return float(span[1]) <= float(text) <= float(span[2])


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


def _read_values(type_: Type, new: list[str | None]) -> Column:
    """Return new values in the type that all of them have, without reasons."""
    if not new:
        return Column.of_cells(type_, [])
    # A word such as "none" among the new values is a value: only `missing:reason` makes a cell missing.
    column, _ = read_text_column("", pa.array(new, pa.large_string()), tokens=False)
    if column.type == "string" == type_:
        column, _ = read_text_column("", pa.array(new, pa.large_string()), Variable(type="string"))
    return Column(column.type, column.values, None, (), column.pool)


def _append_fill(column: Column, pair: Pair) -> Column:
    """Append what missing cells become."""
    if pair.reason:
        return concatenate_columns([column, Column.all_missing(column.type, 1, pair.reason)], column.type)
    fill, _ = read_text_column("", pa.array([pair.new], pa.large_string()), tokens=False)
    type_ = common_type((column, fill)) or "string"
    return concatenate_columns([column.widen(type_), fill.widen(type_)], type_)
