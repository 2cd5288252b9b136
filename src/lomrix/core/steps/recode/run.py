"""Recode whole values to other values, codes, labels, or a missing reason, once for each distinct value."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import sort_texts
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.recode.mapping import MADE_MISSING, MOST_LISTED, MappedValue, map_codes, map_column
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.recode.value_map import MISSING, OTHERS, Pair, make_pair, require_disjoint
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.codes import RANGE
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.distinct import encode_as_texts, strip_point
from lomrix.core.table.entry_changes import How, keep_valid_parts, note_dropped_parts, note_dropped_rules
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.numbers import is_number
from lomrix.core.table.scale import parse_span
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.texts import read_text_rows, require_heads
from lomrix.core.wording import shorten_list

MAP_HEADS = ("variable", "old", "new")


def recode(step: Recode, tables: Inputs, wanted: Collection[str]) -> Result:
    """Recode the table."""
    table = tables.get_one()
    recoding = TableRecoding(step, table, dict(table.columns), table.dictionary)
    types = table.types()
    for choice, pairs in (*step.maps, *read_map_file(tables.get_optional("map_file"))):
        for name in choose_columns(choice, types, table.name):
            recoding.apply_map(name, pairs)
    for name in choose_columns(step.to_codes, types, table.name) if step.to_codes else ():
        recoding.to_codes(name)
    for name in choose_columns(step.to_labels, types, table.name) if step.to_labels else ():
        recoding.to_labels(name)
    for name in choose_columns(step.reverse, types, table.name) if step.reverse else ():
        low, high = parse_span(step.span)
        column, turned = reverse_scale(table[name], (low, high), name, table.first_row)
        into = recoding.put_column(name, column, turned, partial(reverse_codes, low=low, high=high))
        recoding.mark_reversed(name, into, low, high)
    if not recoding.changes:
        raise UsageError("No recoding was given.", todo="Use ‹map=watch: day=1, night=2›.")
    result = recoding.make_table()
    return Result(result, recoding.make_account(result))


def read_map_file(table: Table | None) -> list[tuple[str, tuple[Pair, ...]]]:
    """Return the maps in a table of the columns variable, old and new, one for each variable.

    Raises UsageError if a column is missing.
    """
    if table is None:
        return []
    require_heads(table, MAP_HEADS, "map file")
    maps: dict[str, list[Pair]] = {}
    for row in read_text_rows(table):
        maps.setdefault(row["variable"], []).append(make_pair(row["old"], row["new"]))
    for variable, pairs in maps.items():
        require_disjoint(pairs, f"{variable} in {table.name}")
    return [(variable, tuple(pairs)) for variable, pairs in maps.items()]


@dataclass(frozen=True)
class Recoding:
    """What happened to one column: cells by old and new value, and values not in the map."""

    column: str
    into: str
    pairs: tuple[tuple[str, str, int], ...]
    cells: int
    changed: int
    unmapped: tuple[tuple[str, int], ...] = ()


class TableRecoding:
    """A table being recoded."""

    def __init__(self, step: Recode, before: Table, columns: dict[str, Column], dictionary: Dictionary) -> None:
        self.step, self.before, self.columns, self.dictionary = step, before, columns, dictionary
        self.changes: list[Recoding] = []
        self.notes: list[Note] = []

    def apply_map(self, name: str, pairs: tuple[Pair, ...]) -> str:
        """Recode a column by a map."""
        mapped = map_column(self.before[name], pairs, self.step.others, name)
        labels = list(self.before.dictionary.labels_of(name))
        into_of = dict(zip(labels, map_codes(labels, pairs, self.before[name], self.step.others), strict=True))
        into = self.put_column(name, mapped.column, mapped.values, lambda code: into_of[code], mapped.unmapped)
        absent = [
            pair.old
            for index, pair in enumerate(pairs)
            if index not in mapped.used and pair.old not in (OTHERS, MISSING)
        ]
        if absent:
            shown = shorten_list((f'"{old}"' for old in absent), MOST_LISTED)
            self.notes.append(
                Note(f"the map names values that the column does not have: {shown}.", name, (), "not-found")
            )
        for first, second in itertools.combinations([pair for pair in pairs if pair.ends], 2):
            shared = {*(first.ends or ())} & {*(second.ends or ())}
            if shared:
                end = shared.pop()
                end_text = strip_point(str(end))
                text = f'{end_text} is in "{first.old}" and in "{second.old}"; it belongs to the first.'
                self.notes.append(Note(text, name, kind="shared-end"))
        return into

    def mark_reversed(self, before: str, name: str, low: float, high: float) -> None:
        """Record in the dictionary that a variable was reverse-scored, so that nobody reverses it again.

        It keeps its span and unit; limits are reversed like the scores.
        """
        old = self.before.dictionary.of(before)
        bounds = [
            None if not isinstance(bound, int | float) else low + high - bound for bound in (old.maximum, old.minimum)
        ]
        limits = [int(bound) if bound is not None and float(bound).is_integer() else bound for bound in bounds]
        entry = self.dictionary.of(name).with_parts(
            minimum=limits[0],
            maximum=limits[1],
            unit=old.unit,
            description=old.description,
            reversed=not old.reversed,
        )
        self.dictionary = self.dictionary.with_variable(name, entry)

    def put_column(
        self,
        name: str,
        column: Column,
        pairs: Sequence[MappedValue],
        into_of: Callable[[str], tuple[str, ...]],
        unmapped: Sequence[tuple[str, int]] = (),
    ) -> str:
        """Put a recoded column into its place, or into a new one.

        Raises UsageError if the column was recoded by another instruction already.

        Parameters
        ----------
        name, column
            The column before, and what became of it.
        pairs
            Old value, new value, number of cells.
        into_of
            What becomes of a code of the dictionary, whether it occurs or not: several for a range of values, none
            where it becomes missing.
        unmapped
            Values that a map does not name.
        """
        if any(change.column == name for change in self.changes):
            raise UsageError(f"Two instructions recode {name}.", todo="Use one map, or recode in two steps.")
        into = self.step.into.replace("{column}", name) if self.step.into else name
        if into != name:
            require_new_name(into, self.columns, "the recoded column")
        self.columns[into] = column
        has_changed = any(old != new and not new.startswith(MADE_MISSING) for old, new, _ in pairs)
        self._move_labels(name, into, into_of, has_changed=has_changed)
        changed = sum(count for old, new, count in pairs if not is_same_value(old, new, column))
        if self.step.others == "missing":
            changed += sum(count for _, count in unmapped)
        self.changes.append(Recoding(name, into, tuple(pairs), len(column), changed, tuple(unmapped)))
        return into

    def _move_labels(
        self, name: str, into: str, into_of: Callable[[str], tuple[str, ...]], *, has_changed: bool
    ) -> None:
        """Move labels with their codes, including unused ones; a code with several labels loses them."""
        entry, labels = self.before.dictionary.of(name), self.before.dictionary.labels_of(name)
        labels_by_code: dict[str, list[str]] = {}
        for code, label in labels.items():
            for new in into_of(code):
                if label not in labels_by_code.setdefault(new, []):
                    labels_by_code[new].append(label)
        unique_labels = {
            new: labels_of_code[0] for new, labels_of_code in labels_by_code.items() if len(labels_of_code) == 1
        }
        for new, labels_of_code in labels_by_code.items():
            if len(labels_of_code) > 1:
                text = f"{new} now means {' and '.join(labels_of_code)}, and has no label."
                self.notes.append(Note(text, name, kind="label-lost"))
        how: How = "mapped" if has_changed else "own values"
        entry = keep_valid_parts(entry, self.before[name], self.columns[into], how).with_parts(codes=entry.codes)
        if unique_labels != dict(labels):
            own_list = self._find_free_list(into)
            entry = entry.with_parts(codes=own_list if unique_labels else None)
            self.dictionary = self.dictionary.with_codes(own_list, unique_labels) if unique_labels else self.dictionary
        is_other = has_changed and into == name
        put = self.dictionary.with_changed if is_other else self.dictionary.with_variable
        self.dictionary = put(into, entry)

    def _find_free_list(self, into: str) -> str:
        """Return a name for the codes of a recoded column that no other variable uses."""
        others = {self.dictionary.of(name).codes for name in self.columns if name != into}
        return into if into not in others else f"{into}_recoded"

    def to_codes(self, name: str) -> None:
        """Turn texts into codes; texts that are labels in the dictionary get their codes."""
        column = self.before[name].compact()
        if column.type != "string":
            raise UsageError(
                f"{name} is {column.type}, not text, so there is nothing to turn into codes.", columns=[name]
            )
        texts = column.strings.texts()
        code_by_label = {label: code for code, label in self.before.dictionary.labels_of(name).items()}
        numeric = {label: int(code) for label, code in code_by_label.items() if code.lstrip("-").isdigit()}
        labels = self.before.dictionary.labels_of(name)
        if self.step.order == "given" and numeric and set(texts) <= set(numeric):
            codes = [numeric[text] for text in texts]
        elif self.step.order == "given" and labels and set(texts) <= set(labels):
            codes = [list(labels).index(text) + 1 for text in texts]
        else:
            codes = [index + 1 for index in self._order_texts(column)]
        values = np.append(np.array(codes, np.int64), 0)[column.values]
        counts = np.bincount(column.values[column.values >= 0], minlength=len(texts))
        pairs = sorted(zip(texts, map(str, codes), counts.tolist(), strict=True), key=lambda pair: int(pair[1]))
        into = self.put_column(name, Column.of("integer", values, column.why, column.reasons), pairs, lambda code: ())
        new_labels = {str(code): labels.get(text, text) for code, text in sorted(zip(codes, texts, strict=True))}
        old = self.dictionary.of(into)
        name = self._find_free_list(into)
        self.dictionary = self.dictionary.with_codes(name, new_labels).with_variable(
            into, old.with_parts(codes=name, type=None)
        )

    def _order_texts(self, column: Column) -> list[int]:
        """Return the position of each distinct text in the stated order, from 0."""
        texts = column.strings
        if self.step.order == "alphabet":
            order = sort_texts(texts.strings)
        else:
            present = np.flatnonzero(column.values >= 0)
            _, firsts = np.unique(column.values[present], return_index=True)
            order = np.argsort(firsts, kind="stable")
        positions = np.empty(len(texts), np.int64)
        positions[order] = np.arange(len(texts))
        return [int(position) for position in positions]

    def to_labels(self, name: str) -> None:
        """Turn codes into labels; a code without a label stays, with a note."""
        labels = self.before.dictionary.labels_of(name)
        if not labels:
            raise UsageError(f"The dictionary has no codes for {name}.", todo="Name them there, with codes = LIST.")
        pairs = tuple(make_pair(code, label) for code, label in labels.items())
        mapped = map_column(self.before[name], pairs, self.step.others, name)
        into = self.put_column(name, mapped.column, mapped.values, lambda code: (), mapped.unmapped)
        self.dictionary = self.dictionary.with_variable(
            into, self.dictionary.of(into).with_parts(codes=None, type=None)
        )

    def make_table(self) -> Table:
        """Return the recoded table."""
        dictionary = self.dictionary
        for change in self.changes:
            entry = dictionary.of(change.into)
            if entry.type is not None:
                dictionary = dictionary.with_variable(change.into, entry.with_parts(type=None))
        result = self.before.with_columns(self.columns)
        return Table(result.columns, dictionary.for_columns(result.columns), result.history, result.name)

    def make_account(self, result: Table) -> Account:
        """Report what the recoding did; cells are compared with the table before."""
        listings, notes, balances = (
            [],
            [*self.notes],
            [Balance("rows", len(self.before), (Part("kept", len(result)),), quiet=True)],
        )
        rows = tuple((change.into, *pair) for change in self.changes for pair in change.pairs)
        listings.append(Listing("values recoded", ("column", "old", "new", "cells"), rows))
        for change in self.changes:
            if change.unmapped:
                shown = shorten_list((f'"{value}" ({count:,})' for value, count in change.unmapped), MOST_LISTED)
                count = sum(count for _, count in change.unmapped)
                treatment = {"keep": "kept as they are", "missing": "made missing"}[self.step.others]
                notes.append(
                    Note(
                        f"values that the map does not name, {treatment}: {shown}.",
                        change.column,
                        (),
                        "unmapped",
                        count,
                    )
                )
            before, after = self.before[change.column], result[change.into]
            if change.unmapped and self.step.others == "keep" and after.type == "string" != before.type:
                text = f"was {before.type} and is now text: the kept values are not all numbers or dates."
                notes.append(Note(text, change.column, kind="type-changed"))
            same = int(np.count_nonzero(same_cells(before, after)))
            parts = (Part("changed", change.changed), Part("kept", same, "unchanged"))
            balances.append(Balance("cells", len(before), parts, change.into))
        entries = self.before.dictionary.of, result.dictionary.of
        notes += note_dropped_parts((change.into, entries[0](change.column), entries[1](change.into))
                                  for change in self.changes)  # fmt: skip
        notes += note_dropped_rules(self.before.dictionary, result.dictionary)
        names = ", ".join(dict.fromkeys(change.into for change in self.changes))
        facts = {"columns": [change.into for change in self.changes]}
        summary = f"{pluralize(sum(change.changed for change in self.changes), 'cell')} changed in {names}."
        return Account("recode", summary, tuple(balances), facts, tuple(listings), tuple(notes))


def is_same_value(old: str, new: str, column: Column) -> bool:
    """Return whether two values are the same in a column of this type: 1 and 1.0 as numbers."""
    if column.type in ("integer", "number") and is_number(old) and is_number(new):
        return float(old) == float(new)
    return old == new


def reverse_code(code: str, low: float, high: float) -> str:
    """Return what becomes of a code when its scale is reversed; a range of codes stays a range."""
    code_range = RANGE.fullmatch(code)
    if code_range:
        reversed_ends = [reverse_code(code_range[group], low, high) for group in (2, 1)]
        return f"{reversed_ends[0]} to {reversed_ends[1]}"
    return strip_point(f"{low + high - float(code):g}") if is_number(code) else code


def reverse_codes(code: str, low: float, high: float) -> tuple[str, ...]:
    """Return the one code that a code becomes."""
    return (reverse_code(code, low, high),)


def reverse_scale(
    column: Column, span: tuple[float, float], name: str, first_row: int
) -> tuple[Column, list[tuple[str, str, int]]]:
    """Reverse a score: lowest plus highest minus the score.

    Raises DataError if a score is outside the span.
    """
    if column.type not in ("integer", "number"):
        raise DataError(
            f"{name} is {column.type}, so it cannot be reverse-scored.",
            todo="Correct it first; check lists the cells.",
            columns=[name],
        )
    low, high = span
    outside = ~column.is_missing & ((column.values < low) | (column.values > high))
    if outside.any():
        rows = np.flatnonzero(outside)
        raise DataError(
            f"{name} has {pluralize(len(rows), 'cell')} outside {low:g} to {high:g}.",
            where=", ".join(f"row {row + first_row}: {column.values[row]:g}" for row in rows[:5].tolist()),
            todo="Correct the cells first, or use the right ‹span›.",
        )
    values = low + high - column.values
    is_integer = column.type == "integer" and float(low + high).is_integer()
    result = Column.of("integer" if is_integer else "number", values, column.why, column.reasons)
    places, texts, counts = encode_as_texts(column)
    del places
    pairs = [
        (text, strip_point(f"{low + high - float(text):g}"), int(count))
        for text, count in zip(texts, counts, strict=True)
    ]
    return result, sorted(pairs)
