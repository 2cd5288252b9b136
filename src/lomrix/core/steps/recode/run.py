"""Recode whole values to other values, codes, labels, or a missing reason, once for each distinct value."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Literal

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Shown, Words
from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.recode.mapping import (
    ANSWER_CODES,
    MADE_MISSING,
    MOST_LISTED,
    Distinct,
    NewValues,
    indicate_answers,
    map_codes,
    map_values,
    number_texts,
    reverse_values,
)
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.recode.value_map import Pair, make_pair, require_disjoint
from lomrix.core.steps.step import Inputs, Result, require
from lomrix.core.table.codes import RANGE
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.distinct import encode_as_texts, strip_point
from lomrix.core.table.entry_changes import How, keep_valid_parts, note_dropped_parts, note_dropped_rules
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.numbers import is_number
from lomrix.core.table.scale import parse_span
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.texts import read_text_rows, require_heads
from lomrix.core.table.variable import Variable
from lomrix.core.wording import shorten_list

MAP_HEADS = ("variable", "old", "new")


@dataclass(frozen=True)
class Instruction:
    """What is to be done with a column."""

    column: str
    do: Literal["map", "to codes", "to labels", "to answers", "reverse"]
    pairs: tuple[Pair, ...] = ()


def survey(step: Recode, tables: Inputs) -> dict[str, Distinct]:
    """Find the distinct values of the columns that are recoded, by which all cells are recoded alike."""
    table = tables.get_one()
    names = [instruction.column for instruction in list_instructions(step, tables)]
    return {name: Cells.encode(table[name]).distinct for name in names}


def recode(
    step: Recode, tables: Inputs, wanted: Collection[str], whole: Mapping[str, Distinct] | None = None
) -> Result:
    """Recode the table; `whole` has the distinct values of the table that this is a part of."""
    recoding = TableRecoding(step, tables.get_one(), whole or {})
    for instruction in list_instructions(step, tables):
        recoding.recode_column(instruction)
    result = recoding.make_table()
    return Result(result, recoding.make_account(result))


def list_instructions(step: Recode, tables: Inputs) -> list[Instruction]:
    """List what is done with each column.

    Raises UsageError if there is nothing to do, or a column would be recoded twice.
    """
    table = tables.get_one()
    types = table.types()
    maps = (*step.maps, *read_map_file(tables.get_optional("map_file")))
    result = [
        Instruction(name, "map", pairs) for choice, pairs in maps for name in choose_columns(choice, types, table.name)
    ]
    choices: list[tuple[Literal["to codes", "to labels", "to answers", "reverse"], str]] = [
        ("to codes", step.to_codes), ("to labels", step.to_labels), ("to answers", step.to_answers),
        ("reverse", step.reverse),
    ]  # fmt: skip
    for do, choice in choices:
        result += [Instruction(name, do) for name in (choose_columns(choice, types, table.name) if choice else ())]
    names = [instruction.column for instruction in result]
    repeated = next((name for name in names if names.count(name) > 1), None)
    if repeated is not None:
        raise UsageError(f"Two instructions recode {repeated}.", todo="Use one map, or recode in two steps.")
    if not result:
        raise UsageError("No recoding was given.", todo="Use ‹map=watch: day=1, night=2›.")
    require(maps or step.others == "keep", "others", "‹others› requires ‹map› or ‹map_file›.", "Leave ‹others› out.")
    are_answers = all(instruction.do == "to answers" for instruction in result)
    require(not (step.into and are_answers), "into", "The columns of answers are named after these.",
            "Leave ‹into› out, and rename them with derive.")  # fmt: skip
    return result


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
class Cells:
    """The cells of a column, or of a part of one, by their positions among the distinct values of the whole."""

    column: Column
    distinct: Distinct
    positions: npt.NDArray[np.int32]  # -1: missing

    @classmethod
    def encode(cls, column: Column, whole: Distinct | None = None) -> Cells:
        """Find the distinct values, or those of the whole, in a column."""
        positions, texts, counts = encode_as_texts(column)
        if whole is None:
            distinct = Distinct(column.type, dict(zip(texts, counts.tolist(), strict=True)), column.reason_counts())
            return cls(column, distinct, positions)
        index_of = {text: index for index, text in enumerate(whole.texts)}
        indexes = np.array([*(index_of[text] for text in texts), -1], np.int32)
        return cls(column, whole, indexes[positions])

    @cached_property
    def counts(self) -> Array:
        """Number of cells of each distinct value."""
        return np.bincount(self.positions[self.positions >= 0], minlength=len(self.distinct.texts))

    @cached_property
    def reasons(self) -> dict[str, int]:
        """Number of cells missing for each reason of the whole."""
        here = self.column.reason_counts()
        return {reason: here.get(reason, 0) for reason in sorted(self.distinct.reasons)}


@dataclass(frozen=True)
class Recoding:
    """What becomes of one column."""

    column: str
    into: str
    cells: Cells
    values: NewValues
    is_answer: bool = False  # whether it is a new column for one of several answers

    def count_changed(self) -> int:
        """Count the cells that have another value or reason."""
        cells, values = self.cells, self.values
        is_changed = [
            not is_same_value(old, new, values.column)
            for old, new in zip(cells.distinct.texts, values.texts, strict=True)
        ]
        filled = [
            count for reason, count in cells.reasons.items() if values.fill not in (None, f"{MADE_MISSING}{reason}")
        ]
        return int(cells.counts[np.array(is_changed, np.bool_)].sum()) + sum(filled)

    def list_values(self) -> list[tuple[object, ...]]:
        """List the old and new values with their cells."""
        rows: list[tuple[object, ...]] = [
            (self.into, old, new, int(self.cells.counts[positions].sum())) for old, new, positions in self.values.groups
        ]
        if self.values.fill is not None:
            rows += [
                (self.into, f"{MADE_MISSING}{reason}", self.values.fill, count)
                for reason, count in self.cells.reasons.items()
            ]
        return rows

    def note_unmapped(self, treatment: str) -> list[Note]:
        """Note the values that the map does not name, with their cells."""
        unmapped, texts = self.values.unmapped, list(self.cells.distinct.texts)
        if not unmapped:
            return []
        shown = shorten_list((f'"{{old{index}}}" ({{n{index}}})' for index in unmapped), MOST_LISTED)
        parts: dict[str, int | str] = {f"n{index}": int(self.cells.counts[index]) for index in unmapped[:MOST_LISTED]}
        parts |= {f"old{index}": texts[index] for index in unmapped[:MOST_LISTED]}
        text = Words("values that the map does not name, {treatment}: " + f"{shown}.", treatment=treatment, **parts)
        return [Note(text, self.column, (), "unmapped", int(self.cells.counts[unmapped].sum()))]


class TableRecoding:
    """A table being recoded, or a part of one."""

    def __init__(self, step: Recode, before: Table, whole: Mapping[str, Distinct]) -> None:
        self.step, self.before, self.whole = step, before, whole
        self.columns, self.dictionary = dict(before.columns), before.dictionary
        self.changes: list[Recoding] = []
        self.notes: list[Note] = []

    def recode_column(self, instruction: Instruction) -> None:
        """Recode a column, once for each of its distinct values."""
        name = instruction.column
        cells = Cells.encode(self.before[name], self.whole.get(name))
        labels = self.before.dictionary.labels_of(name)
        if instruction.do == "map":
            codes = map_codes(list(labels), instruction.pairs, cells.distinct, self.step.others)
            values = map_values(cells.distinct, instruction.pairs, self.step.others, name)
            self._put_values(name, cells, values, dict(zip(labels, codes, strict=True)).__getitem__)
            self._note_map(name, instruction.pairs, values)
        elif instruction.do == "reverse":
            low, high = parse_span(self.step.span)
            require_within(self.before, name, low, high)
            values = reverse_values(cells.distinct, low, high)
            into = self._put_values(name, cells, values, partial(reverse_codes, low=low, high=high))
            self._mark_reversed(name, into, low, high)
        elif instruction.do == "to labels":
            if not labels:
                raise UsageError(f"The dictionary has no codes for {name}.", todo="Name them there, with codes = LIST.")
            pairs = [make_pair(code, label) for code, label in labels.items()]
            values = map_values(cells.distinct, pairs, self.step.others, name)
            self._set_codes(self._put_values(name, cells, values), {})
        elif cells.column.type != "string":
            raise UsageError(
                f"{name} is {cells.column.type}, not text, so there is nothing to turn into {instruction.do[3:]}.",
                todo=f"Leave it out, or use ‹map={name}: 1=2› to change its values.",
                columns=[name],
            )
        elif instruction.do == "to answers":
            self._add_answers(name, cells, labels)
        else:
            values, new_labels = number_texts(cells.distinct, labels, self.step.order, name)
            self._set_codes(self._put_values(name, cells, values), new_labels)

    def _put_values(
        self, name: str, cells: Cells, values: NewValues, into_of: Callable[[str], tuple[str, ...]] = lambda code: ()
    ) -> str:
        """Put a recoded column into its place, or into a new one, and return its name.

        `into_of` returns what becomes of a code of the dictionary, whether it occurs or not: several for a range of
        values, none where it becomes missing.
        """
        into = self.step.into.replace("{column}", name) if self.step.into else name
        if into != name:
            require_new_name(into, self.columns, "the recoded column")
        self.columns[into] = values.put_into(cells.column, cells.positions)
        self._move_labels(name, into, values, into_of)
        self.changes.append(Recoding(name, into, cells, values))
        return into

    def _add_answers(self, name: str, cells: Cells, labels: Mapping[str, str]) -> None:
        """Add a column for each answer behind a column of several, which stays."""
        label = self.before.dictionary.of(name).label or name
        new: dict[str, Column] = {}
        for answer, values in indicate_answers(cells.distinct, labels, name).items():
            into = f"{name}_{answer}"
            require_new_name(into, self.columns, "the column of an answer")
            new[into] = values.put_into(cells.column, cells.positions)
            codes, self.dictionary = self.dictionary.add_codes(into, ANSWER_CODES, "answers")
            entry = Variable(label=f"{label}: {labels.get(answer, answer)}", codes=codes)
            self.dictionary = self.dictionary.with_variable(into, entry)
            self.changes.append(Recoding(name, into, cells, values, is_answer=True))
        names = list(self.columns)
        names[names.index(name) + 1 : 0] = new
        self.columns = {column: (self.columns | new)[column] for column in names}

    def _note_map(self, name: str, pairs: tuple[Pair, ...], values: NewValues) -> None:
        """Note values that do not occur, and ends of two ranges."""
        if values.absent:
            shown = shorten_list((f'"{old}"' for old in values.absent), MOST_LISTED)
            self.notes.append(
                Note(f"the map names values that the column does not have: {shown}.", name, (), "not-found")
            )
        for first, second in itertools.combinations([pair for pair in pairs if pair.ends], 2):
            shared = {*(first.ends or ())} & {*(second.ends or ())}
            if shared:
                end_text = strip_point(str(shared.pop()))
                text = f'{end_text} is in "{first.old}" and in "{second.old}"; it belongs to the first.'
                self.notes.append(Note(text, name, kind="shared-end"))

    def _mark_reversed(self, before: str, name: str, low: float, high: float) -> None:
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

    def _move_labels(self, name: str, into: str, values: NewValues, into_of: Callable[[str], tuple[str, ...]]) -> None:
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
        has_changed = any(
            old != new and not new.startswith(MADE_MISSING)
            for old, new in [*((old, new) for old, new, _ in values.groups), ("", values.fill or MADE_MISSING)]
        )
        how: How = "mapped" if has_changed else "own values"
        entry = keep_valid_parts(entry, self.before[name], values.column, how).with_parts(codes=entry.codes)
        if unique_labels != dict(labels):
            entry = entry.with_parts(codes=self._add_codes(into, unique_labels))
        is_other = has_changed and into == name
        put = self.dictionary.with_changed if is_other else self.dictionary.with_variable
        self.dictionary = put(into, entry)

    def _set_codes(self, into: str, labels: dict[str, str]) -> None:
        """Give a recoded column the codes that it has now, or none."""
        codes = self._add_codes(into, labels)
        self.dictionary = self.dictionary.with_variable(
            into, self.dictionary.of(into).with_parts(codes=codes, type=None)
        )

    def _add_codes(self, into: str, labels: Mapping[str, str]) -> str | None:
        """Add the codes of a recoded column, and return the name of their list; None if there are none."""
        if not labels:
            return None
        name, self.dictionary = self.dictionary.add_codes(into, labels)
        return name

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
        notes, balances = [*self.notes], [Balance("rows", len(self.before), (Part("kept", len(result)),), quiet=True)]
        treatment = {"missing": "made missing"}.get(self.step.others, "kept as they are")
        changes = [change for change in self.changes if not change.is_answer]
        added = [change for change in self.changes if change.is_answer]
        for change in changes:
            before, after = self.before[change.column], result[change.into]
            notes += change.note_unmapped(treatment)
            is_kept = change.values.unmapped and self.step.others == "keep"
            if is_kept and after.type == "string" != before.type:
                text = f"was {before.type} and is now text: the kept values are not all numbers or dates."
                notes.append(Note(text, change.column, kind="type-changed"))
            same = int(np.count_nonzero(same_cells(before, after)))
            parts = (Part("changed", change.count_changed()), Part("kept", same, "unchanged"))
            balances.append(Balance("cells", len(before), parts, change.into))
        for change in added:
            missing = (Part("missing", count, reason=reason) for reason, count in change.cells.reasons.items())
            present = Part("kept", int(change.cells.counts.sum()), "present")
            balances.append(Balance("cells", len(self.before), (present, *missing), change.into, quiet=True))
        entries = self.before.dictionary.of, result.dictionary.of
        notes += note_dropped_parts((change.into, entries[0](change.column), entries[1](change.into))
                                  for change in changes)  # fmt: skip
        notes += note_dropped_rules(self.before.dictionary, result.dictionary)
        names = [change.into for change in self.changes]
        rows = tuple(row for change in self.changes for row in change.list_values())
        return Account(
            "recode",
            summarize(changes, added),
            tuple(balances),
            {"columns": names},
            (Listing("values recoded", ("column", "old", "new", "cells"), rows),),
            tuple(notes),
        )  # fmt: skip


def summarize(changes: Sequence[Recoding], added: Sequence[Recoding]) -> Words:
    """Say how many cells were changed, and how many columns added."""
    sentences = ["{n:cell} changed in {names}."] if changes else []
    sentences += ["{columns} added for the answers in {of}."] if added else []
    return Words(
        " ".join(sentences) or "there are no answers, so no column was added.",
        n=sum(change.count_changed() for change in changes),
        names=", ".join(change.into for change in changes),
        columns=pluralize(len(added), "column"),
        of=", ".join(dict.fromkeys(change.column for change in added)),
    )


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


def require_within(table: Table, name: str, low: float, high: float) -> None:
    """Stop if a column is not numeric, or a score is outside the span.

    Raises DataError with the first rows.
    """
    column = table[name]
    if column.type not in ("integer", "number"):
        raise DataError(
            f"{name} is {column.type}, so it cannot be reverse-scored.",
            todo="Correct it first; check lists the cells.",
            columns=[name],
        )
    rows = np.flatnonzero(~column.is_missing & ((column.values < low) | (column.values > high)))
    if len(rows):
        numbers = table.find_row_numbers(rows[:MOST_EXAMPLES]).tolist()
        shown = [
            (number, f"row {number}: {value:g}")
            for number, value in zip(numbers, column.values[rows[:MOST_EXAMPLES]].tolist(), strict=True)
        ]
        raise DataError(
            Words("{name} has {n:cell} outside {span}.", name=name, n=len(rows), span=f"{low:g} to {high:g}"),
            where=Shown(shown, len(rows)),
            todo="Correct the cells first, or use the right ‹span›.",
        )
