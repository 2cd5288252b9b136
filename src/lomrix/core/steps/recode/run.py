"""Whole values to other values, to codes, to labels, or to a missing reason, once for each distinct value."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from lomrix.core.errors import UsageError
from lomrix.core.rows.keys import text_order
from lomrix.core.rows.turned import TURNED
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.recode.mapping import MADE_MISSING, MOST_LISTED, Told, mapped, new_codes
from lomrix.core.steps.recode.reversal import reversed_scale, turned_codes
from lomrix.core.steps.recode.settings import Recode
from lomrix.core.steps.recode.value_map import MISSING, OTHERS, Pair, pair_of, require_apart
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.changed_variable import How, keep_what_holds, notes_on_dropped
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import same_cells
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.distinct import without_point
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.numbers import is_number
from lomrix.core.table.scale import span_of
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.texts import require_heads, rows_of
from lomrix.core.wording import some_of

MAP_HEADS = ("variable", "old", "new")


def recoded(step: Recode, tables: Inputs, wanted: Collection[str]) -> Result:
    """Recode the table."""
    table = tables.one()
    work = Recoded(step, table, dict(table.columns), table.dictionary)
    types = table.types()
    for words, pairs in (*step.maps, *maps_in(tables.maybe("map_file"))):
        for name in chosen_columns(words, types, table.name):
            work.map(name, pairs)
    for name in chosen_columns(step.to_codes, types, table.name) if step.to_codes else ():
        work.to_codes(name)
    for name in chosen_columns(step.to_labels, types, table.name) if step.to_labels else ():
        work.to_labels(name)
    for name in chosen_columns(step.reverse, types, table.name) if step.reverse else ():
        low, high = span_of(step.span)
        column, turned = reversed_scale(table[name], (low, high), name, table.first_row)
        into = work.put(name, column, turned, partial(turned_codes, low=low, high=high))
        work.say_turned(name, into, low, high)
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
    for variable, pairs in maps.items():
        require_apart(pairs, f"{variable} in {table.name}")
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
        self.notes: list[Note] = []

    def map(self, name: str, pairs: tuple[Pair, ...]) -> str:
        """Recode a column by a map."""
        column, told, unmapped, found = mapped(self.before[name], pairs, self.step.others, name)
        labels = list(self.before.dictionary.labels_of(name))
        into_of = dict(zip(labels, new_codes(labels, pairs, self.before[name], self.step.others), strict=True))
        into = self.put(name, column, told, lambda code: into_of[code], unmapped)
        absent = [pair.old for at, pair in enumerate(pairs) if at not in found and pair.old not in (OTHERS, MISSING)]
        if absent:
            words = some_of((f'"{old}"' for old in absent), MOST_LISTED)
            self.notes.append(Note(f"the map names what the column does not have: {words}.", name, (), "not-found"))
        for first, second in itertools.combinations([pair for pair in pairs if pair.ends], 2):
            shared = {*(first.ends or ())} & {*(second.ends or ())}
            if shared:
                end = shared.pop()
                word = without_point(str(end))
                text = f'{word} stands in "{first.old}" and in "{second.old}"; it belongs to the first.'
                self.notes.append(Note(text, name, kind="shared-end"))
        return into

    def say_turned(self, before: str, name: str, low: float, high: float) -> None:
        """Have the dictionary say that a variable was turned round, so that nobody turns it again.

        It stays in its span and its unit: limits are turned with the scores.
        """
        old = self.before.dictionary.of(before)
        bounds = [None if not isinstance(one, int | float) else low + high - one for one in (old.maximum, old.minimum)]
        ends = [int(one) if one is not None and float(one).is_integer() else one for one in bounds]
        entry = self.dictionary.of(name).with_(
            minimum=ends[0], maximum=ends[1], unit=old.unit, description=old.description
        )
        said = entry.description.replace(TURNED, "").strip()
        again = TURNED in entry.description
        description = said if again else f"{said} {TURNED}".strip()
        self.dictionary = self.dictionary.with_variable(name, entry.with_(description=description))

    def put(
        self,
        name: str,
        column: Column,
        pairs: Sequence[Told],
        into_of: Callable[[str], tuple[str, ...]],
        unmapped: Sequence[tuple[str, int]] = (),
    ) -> str:
        """Put a recoded column into its place, or into a new one.

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

        Raises
        ------
        UsageError
            Where the column was recoded by another instruction already.
        """
        if any(change.column == name for change in self.changes):
            raise UsageError(f"Two instructions recode {name}.", todo="Say it in one map, or recode in two steps.")
        into = self.step.into.replace("{column}", name) if self.step.into else name
        if into != name:
            require_free(into, self.columns, "the recoded column")
        self.columns[into] = column
        has_changed = any(old != new and not new.startswith(MADE_MISSING) for old, new, _ in pairs)
        self._carry_labels(name, into, into_of, has_changed=has_changed)
        changed = sum(count for old, new, count in pairs if not means_the_same(old, new, column))
        if self.step.others == "missing":
            changed += sum(count for _, count in unmapped)
        self.changes.append(Change(name, into, tuple(pairs), len(column), changed, tuple(unmapped)))
        return into

    def _carry_labels(
        self, name: str, into: str, into_of: Callable[[str], tuple[str, ...]], *, has_changed: bool
    ) -> None:
        """Labels follow their codes, those that do not occur too; a code that stands for several labels has none."""
        entry, labels = self.before.dictionary.of(name), self.before.dictionary.labels_of(name)
        found: dict[str, list[str]] = {}
        for code, label in labels.items():
            for new in into_of(code):
                if label not in found.setdefault(new, []):
                    found[new].append(label)
        carried = {new: own[0] for new, own in found.items() if len(own) == 1}
        for new, own in found.items():
            if len(own) > 1:
                text = f"{new} stands for {' and '.join(own)} now, and has no label."
                self.notes.append(Note(text, name, kind="label-lost"))
        how: How = "mapped" if has_changed else "own values"
        entry = keep_what_holds(entry, self.before[name], self.columns[into], how).with_(codes=entry.codes)
        if carried != dict(labels):
            own_list = self._free_list(into)
            entry = entry.with_(codes=own_list if carried else None)
            self.dictionary = self.dictionary.with_codes(own_list, carried) if carried else self.dictionary
        self.dictionary = self.dictionary.with_variable(into, entry)

    def _free_list(self, into: str) -> str:
        """A name for the codes of a recoded column that no other variable's codes have."""
        others = {self.dictionary.of(name).codes for name in self.columns if name != into}
        return into if into not in others else f"{into}_recoded"

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
        into = self.put(name, Column.of("integer", values, column.why, column.reasons), pairs, lambda code: ())
        listed = {str(code): own.get(text, text) for code, text in sorted(zip(codes, texts, strict=True))}
        old = self.dictionary.of(into)
        name = self._free_list(into)
        self.dictionary = self.dictionary.with_codes(name, listed).with_variable(into, old.with_(codes=name, type=None))

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
        column, told, unmapped, _ = mapped(self.before[name], pairs, self.step.others, name)
        into = self.put(name, column, told, lambda code: (), unmapped)
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
        listings, notes, balances = (
            [],
            [*self.notes],
            [Balance("rows", len(self.before), (("kept", len(made)),), quiet=True)],
        )
        rows = tuple((change.into, *pair) for change in self.changes for pair in change.pairs)
        listings.append(Listing("values recoded", ("column", "old", "new", "cells"), rows))
        for change in self.changes:
            if change.unmapped:
                told = some_of((f'"{value}" ({count:,})' for value, count in change.unmapped), MOST_LISTED)
                count = sum(count for _, count in change.unmapped)
                fate = {"keep": "kept as they are", "missing": "made missing"}[self.step.others]
                notes.append(
                    Note(
                        f"values that the map does not name, {fate}: {told}.",
                        change.column,
                        (),
                        "unmapped",
                        count,
                    )
                )
            before, now = self.before[change.column], made[change.into]
            if change.unmapped and self.step.others == "keep" and now.type == "string" != before.type:
                text = f"was {before.type} and is text now, with the values that were kept: not every new value is one."
                notes.append(Note(text, change.column, kind="type-changed"))
            same = int(np.count_nonzero(same_cells(before, now)))
            parts = (("changed", change.changed), ("as they were", same))
            balances.append(Balance(f"cells of {change.into}", len(before), parts))
        entries = self.before.dictionary.of, made.dictionary.of
        notes += notes_on_dropped((change.into, entries[0](change.column), entries[1](change.into))
                                  for change in self.changes)  # fmt: skip
        names = ", ".join(dict.fromkeys(change.into for change in self.changes))
        facts = {"columns": [change.into for change in self.changes]}
        summary = f"{counted(sum(change.changed for change in self.changes), 'cell', 'cells')} changed in {names}."
        return Account("recode", summary, tuple(balances), facts, tuple(listings), tuple(notes))


def means_the_same(old: str, new: str, column: Column) -> bool:
    """True where a value that became another is the same in a column of the new one's type: 1 and 1.0 as numbers."""
    if column.type in ("integer", "number") and is_number(old) and is_number(new):
        return float(old) == float(new)
    return old == new
