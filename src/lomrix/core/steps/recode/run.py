"""Whole values to other values, to codes, to labels, or to a missing reason, once for each distinct value."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import text_order
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.recode.settings import Recode, Rest, span_of
from lomrix.core.steps.recode.value_map import MISSING, OTHERS, Pair, pair_of
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column, common_type, either
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.distinct import distinct_cells, without_point
from lomrix.core.table.notes import Note
from lomrix.core.table.numbers import is_number
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.texts import require_heads, rows_of
from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import typed_column

# Old value, new value, and number of cells.
Told = tuple[str, str, int]
MAP_HEADS = ("variable", "old", "new")
UNMAPPED = "not in the map"
MOST_LISTED = 10


def recoded(step: Recode, tables: Inputs, wanted: Collection[str]) -> Result:
    """Recode the table."""
    table = tables.one()
    work = Recoded(step, table, dict(table.columns), table.dictionary)
    types = table.types()
    for words, pairs in (*step.maps, *maps_in(tables.maybe("map_file"))):
        for name in chosen_columns(words, types, table.name):
            work.put(name, *mapped(table[name], pairs, step.others, name))
            work.drop_limits()
    for name in chosen_columns(step.to_codes, types, table.name) if step.to_codes else ():
        work.to_codes(name)
    for name in chosen_columns(step.to_labels, types, table.name) if step.to_labels else ():
        work.to_labels(name)
    for name in chosen_columns(step.reverse, types, table.name) if step.reverse else ():
        work.put(name, *reversed_scale(table[name], span_of(step.span), name, table.first_row))
    if not work.changes:
        raise UsageError("Nothing to recode was named.", todo="Say ‹map=watch: day=1, night=2›.")
    made = work.table()
    return Result(made, work.account(made))


def maps_in(table: Table | None) -> list[tuple[str, tuple[Pair, ...]]]:
    """The maps in a table of the columns variable, old and new, one for each variable.

    Raises
    ------
    UsageError
        Where a column is wanting.
    """
    if table is None:
        return []
    require_heads(table, MAP_HEADS, "map file")
    maps: dict[str, list[Pair]] = {}
    for row in rows_of(table):
        maps.setdefault(row["variable"], []).append(pair_of(row["old"], row["new"]))
    return [(variable, tuple(pairs)) for variable, pairs in maps.items()]


@dataclass(frozen=True)
class Change:
    """What happened to one column: cells by old and new value, and values that the map does not name."""

    column: str
    into: str
    pairs: tuple[tuple[str, str, int], ...]
    cells: int
    changed: int
    unmapped: tuple[tuple[str, int], ...] = ()


class Recoded:
    """A table being recoded."""

    def __init__(self, step: Recode, before: Table, columns: dict[str, Column], dictionary: Dictionary) -> None:
        self.step, self.before, self.columns, self.dictionary = step, before, columns, dictionary
        self.changes: list[Change] = []

    def put(self, name: str, column: Column, pairs: Sequence[Told], unmapped: Sequence[tuple[str, int]] = ()) -> str:
        """Put a recoded column into its place, or into a new one."""
        into = self.step.into.replace("{column}", name) if self.step.into else name
        if into != name:
            require_free(into, self.columns, "the recoded column")
        self.columns[into] = column
        self._carry_labels(name, into, pairs, unmapped)
        changed = sum(count for old, new, count in pairs if not means_the_same(old, new, column))
        if self.step.others == "missing":
            changed += sum(count for _, count in unmapped)
        self.changes.append(Change(name, into, tuple(pairs), len(column), changed, tuple(unmapped)))
        return into

    def _carry_labels(self, name: str, into: str, pairs: Sequence[Told], unmapped: Sequence[tuple[str, int]]) -> None:
        """Labels follow their values; a new value that stands for several old labels gets none."""
        entry, labels = self.before.dictionary.of(name), self.before.dictionary.labels_of(name)
        found: dict[str, set[str]] = {}
        same = [(old, new) for old, new, _ in pairs] + [(value, value) for value, _ in unmapped]
        for old, new in same:
            found.setdefault(new, set()).add(labels.get(old, ""))
        carried = {new: one.pop() for new, one in sorted(found.items()) if len(one) == 1}
        carried = {new: label for new, label in carried.items() if label}
        if any(old != new for old, new, *_ in pairs):
            entry = entry.with_(type=None, allowed=(), codes=into if carried else None)
            if carried:
                self.dictionary = self.dictionary.with_codes(into, carried)
        self.dictionary = self.dictionary.with_variable(into, entry)

    def to_codes(self, name: str) -> None:
        """Texts become codes; texts that are labels of the dictionary's list get the codes they stand for."""
        column = self.before[name].compact()
        if column.type != "string":
            raise UsageError(f"{name} is {column.type}, not text, so there is nothing to turn into codes.")
        texts = column.strings.texts()
        known = {label: code for code, label in self.before.dictionary.labels_of(name).items()}
        numeric = {label: int(code) for label, code in known.items() if code.lstrip("-").isdigit()}
        own = self.before.dictionary.labels_of(name)
        if self.step.order == "given" and numeric and set(texts) <= set(numeric):
            codes = [numeric[text] for text in texts]
        elif self.step.order == "given" and own and set(texts) <= set(own):
            codes = [list(own).index(text) + 1 for text in texts]
        else:
            codes = [place + 1 for place in self._places(column)]
        values = np.append(np.array(codes, np.int64), 0)[column.values]
        counts = np.bincount(column.values[column.values >= 0], minlength=len(texts))
        pairs = sorted(zip(texts, map(str, codes), counts.tolist(), strict=True), key=lambda pair: int(pair[1]))
        into = self.put(name, Column.of("integer", values, column.why, column.reasons), pairs)
        listed = {str(code): own.get(text, text) for code, text in sorted(zip(codes, texts, strict=True))}
        old = self.dictionary.of(into)
        self.dictionary = self.dictionary.with_codes(into, listed).with_variable(into, old.with_(codes=into, type=None))

    def drop_limits(self) -> None:
        """Limits of the old values say nothing of the new ones."""
        into = self.changes[-1].into
        entry = self.dictionary.of(into)
        self.dictionary = self.dictionary.with_variable(into, entry.with_(minimum=None, maximum=None))

    def _places(self, column: Column) -> list[int]:
        """Where each distinct text stands in the order that was asked for, counted from 0."""
        texts = column.strings
        if self.step.order == "alphabet":
            order = text_order(texts.strings)
        else:
            present = np.flatnonzero(column.values >= 0)
            _, firsts = np.unique(column.values[present], return_index=True)
            order = np.argsort(firsts, kind="stable")
        places = np.empty(len(texts), np.int64)
        places[order] = np.arange(len(texts))
        return [int(place) for place in places]

    def to_labels(self, name: str) -> None:
        """Codes become their labels; a code without a label is left as it is, and told."""
        labels = self.before.dictionary.labels_of(name)
        if not labels:
            raise UsageError(f"The dictionary has no codes for {name}.", todo="Name them there, with codes = LIST.")
        pairs = tuple(pair_of(code, label) for code, label in labels.items())
        into = self.put(name, *mapped(self.before[name], pairs, self.step.others, name))
        self.dictionary = self.dictionary.with_variable(into, self.dictionary.of(into).with_(codes=None, type=None))

    def table(self) -> Table:
        """The recoded table."""
        dictionary = self.dictionary
        for change in self.changes:
            entry = dictionary.of(change.into)
            if entry.type is not None:
                dictionary = dictionary.with_variable(change.into, entry.with_(type=None))
        made = self.before.with_columns(self.columns)
        return Table(made.columns, dictionary.for_columns(made.columns), made.history, made.name)

    def account(self, made: Table) -> Account:
        """What the recoding did; cells are held against those of the table before."""
        listings, notes, balances = [], [], [Balance("rows", len(self.before), (("kept", len(made)),), quiet=True)]
        rows = tuple((change.into, *pair) for change in self.changes for pair in change.pairs)
        listings.append(Listing("values recoded", ("column", "old", "new", "cells"), rows))
        for change in self.changes:
            if change.unmapped:
                told = ", ".join(f'"{value}" ({count:,})' for value, count in change.unmapped[:MOST_LISTED])
                more = " …" if len(change.unmapped) > MOST_LISTED else ""
                count = sum(count for _, count in change.unmapped)
                fate = {"keep": "kept as they are", "missing": "made missing"}[self.step.others]
                notes.append(
                    Note(
                        f"values that the map does not name, {fate}: {told}{more}.",
                        change.column,
                        (),
                        "unmapped",
                        count,
                    )
                )
            before, now = self.before[change.column], made[change.into]
            same = int(np.count_nonzero(same_cells(before, now)))
            parts = (("changed", change.changed), ("as they were", same))
            balances.append(Balance(f"cells of {change.into}", len(before), parts))
        names = ", ".join(dict.fromkeys(change.into for change in self.changes))
        facts = {"columns": [change.into for change in self.changes]}
        summary = f"{sum(change.changed for change in self.changes):,} cells changed in {names}."
        return Account("recode", summary, tuple(balances), facts, tuple(listings), tuple(notes))


def mapped(
    column: Column, pairs: tuple[Pair, ...], others: Rest, name: str
) -> tuple[Column, list[tuple[str, str, int]], list[tuple[str, int]]]:
    """A column under a map; the work is done once for each distinct value.

    Returns
    -------
    The new column; old value, new value and number of cells of each pair that was used; and the values that
    the map does not name, with their numbers of cells.

    Raises
    ------
    DataError
        Where the map does not name a value and `others` is `refuse`.
    """
    places, texts, counts = distinct_cells(column)
    numbers = np.array([float(text) if is_number(text) else np.nan for text in texts])
    target = np.full(len(texts), -1, np.int64)
    for at in reversed(range(len(pairs))):
        target[_fitting(pairs[at], texts, numbers, column.type)] = at
    rest = next((at for at, pair in enumerate(pairs) if pair.old == OTHERS), None)
    if rest is not None:
        target[target < 0] = rest
    unmapped = [(texts[at], int(counts[at])) for at in np.flatnonzero((target < 0) & (counts > 0))]
    if unmapped and others == "refuse":
        told = ", ".join(f'"{value}" ({count:,})' for value, count in unmapped[:MOST_LISTED])
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
    result = rebuilt(column, places, new, reasons, next((pair for pair in pairs if pair.old == MISSING), None))
    filled = next((pair for pair in pairs if pair.old == MISSING), None)
    used = [
        (texts[at], new[at] if new[at] is not None else f"missing: {reasons[at]}", int(counts[at]))
        for at in range(len(texts))
        if counts[at] and target[at] >= 0
    ]
    if len(used) > 3 * MOST_LISTED:  # a range of many values: told by pair instead of by value
        totals = {at: int(counts[target == at].sum()) for at in dict.fromkeys(target[target >= 0].tolist())}
        used = [(pairs[at].old, pairs[at].new or f"missing: {pairs[at].reason}", count) for at, count in totals.items()]
    if filled is not None:
        to = filled.new or f"missing: {filled.reason}"
        used += [(f"missing: {reason}", to, count) for reason, count in column.reason_counts().items()]
    return result, [(old, str(made), count) for old, made, count in used], unmapped if rest is None else []


def means_the_same(old: str, new: str, column: Column) -> bool:
    """True where a value that became another is the same in a column of the new one's type: 1 and 1.0 as numbers."""
    if column.type in ("integer", "number") and is_number(old) and is_number(new):
        return float(old) == float(new)
    return old == new


def _fitting(pair: Pair, texts: list[str], numbers: Array, type_: str) -> npt.NDArray[np.bool_]:
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


def reversed_scale(
    column: Column, span: tuple[float, float], name: str, first_row: int
) -> tuple[Column, list[tuple[str, str, int]]]:
    """A score turned round in its span: lowest plus highest minus the score.

    Raises
    ------
    DataError
        Where a score is outside the span.
    """
    if column.type not in ("integer", "number"):
        raise DataError(
            f"{name} is {column.type}, so it cannot be turned round.", todo="Mend it first; check names the cells."
        )
    low, high = span
    outside = ~column.is_missing & ((column.values < low) | (column.values > high))
    if outside.any():
        rows = np.flatnonzero(outside)
        raise DataError(
            f"{name} has {len(rows):,} cells outside {low:g} to {high:g}.",
            where=", ".join(f"row {row + first_row}: {column.values[row]:g}" for row in rows[:5].tolist()),
            todo="Mend the cells first, or name the right ‹span›.",
        )
    values = low + high - column.values
    whole = column.type == "integer" and float(low + high).is_integer()
    made = Column.of("integer" if whole else "number", values, column.why, column.reasons)
    places, texts, counts = distinct_cells(column)
    del places
    turned = [
        (text, without_point(f"{low + high - float(text):g}"), int(count))
        for text, count in zip(texts, counts, strict=True)
    ]
    return made, sorted(turned)
