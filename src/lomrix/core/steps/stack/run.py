"""Put tables under each other, column by name, with a mark that says which wave a row is of."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import key_texts, row_codes
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.stack.settings import Stack, pairs_said
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import occasion_values
from lomrix.core.table.joined import stacked_column
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import NOT_IN_FILE
from lomrix.core.table.table import Table
from lomrix.core.table.texts import require_heads, rows_of
from lomrix.core.table.types import Type
from lomrix.core.text.reading import stray_cells

LIKE = 75.0
MOST_EXAMPLES = 4
MOST_PAIRS = 8


def stacked(step: Stack, tables: Inputs, wanted: Collection[str]) -> Result:
    """Stack the tables in their order."""
    files = tables.many("source")
    marks = step.marks([table.name for table in files]) if step.mark else ()
    pairs = (*pairs_said(step.pair), *pairs_in(tables.maybe("pair_file")))
    ready = [marked(renamed(table, pairs), step.mark_name, marks, at) for at, table in enumerate(files)]
    return Pile(step, ready).result()


def pairs_in(table: Table | None) -> list[tuple[str, str]]:
    """The pairs in a table of the columns old and new."""
    if table is None:
        return []
    require_heads(table, ("old", "new"), "pair file")
    return [(row["old"], row["new"]) for row in rows_of(table)]


def renamed(table: Table, pairs: Sequence[tuple[str, str]]) -> Table:
    """A table whose columns are called as in the other tables.

    Raises
    ------
    UsageError
        Where it has both columns of a pair.
    """
    new = {old: name for old, name in pairs if old in table.columns}
    for old, name in new.items():
        if name in table.columns:
            raise UsageError(f"{table.name} has both {old} and {name}, so they are no pair.", todo="Check ‹pair›.")
    columns = {new.get(name, name): column for name, column in table.columns.items()}
    entries = {new.get(name, name): table.dictionary.of(name) for name in table.names}
    return replace(
        table, columns=columns, dictionary=Dictionary(entries, table.dictionary.codes, table.dictionary.rules)
    )


def marked(table: Table, mark: str, marks: Sequence[str], place: int) -> Table:
    """A table with a column that says which file its rows are of.

    Raises
    ------
    DataError
        Where it has such a column already, and that says otherwise.
    """
    if not mark:
        return table
    column = mark_column(marks, place, len(table))
    if mark not in table.columns:
        return replace(table, columns={mark: column, **table.columns})
    held = table[mark].take(np.flatnonzero(~table[mark].is_missing)).to_text().unique().to_pylist()
    own = column.first_text()
    if any(text != own for text in held):
        raise DataError(
            f"{table.name} has a column {mark} already, which does not agree with its mark {own}.",
            where=f"it holds {', '.join(held[:6])}",
            todo="Check the order of the marks, or name the mark differently.",
        )
    return replace(table, columns={**table.columns, mark: column})


def mark_column(marks: Sequence[str], place: int, rows: int) -> Column:
    """The mark of one file: numbers where all marks are numbers."""
    value = occasion_values(list(marks))[place]
    if isinstance(value, str):
        return Column.of_strings(np.zeros(rows, np.int32), Pool.of([value]))
    return Column.of("integer" if isinstance(value, int) else "number", np.full(rows, value))


@dataclass
class Pile:
    """Tables on their way to being one."""

    step: Stack
    tables: list[Table]

    @cached_property
    def names(self) -> list[str]:
        """The columns of the result, in order of first appearance."""
        every = list(dict.fromkeys(name for table in self.tables for name in table.names))
        if self.step.columns == "all":
            return every
        return [name for name in every if all(name in table.columns for table in self.tables)]

    def result(self) -> Result:
        """The one table and its account."""
        if not self.names:
            raise DataError("The files share no column.", todo="Name pairs with ‹pair›, or say ‹columns=all›.")
        dictionary = self._dictionary()
        columns = {name: self._column(name) for name in self.names}
        made = Table(columns, dictionary.for_columns(columns), name=self.tables[0].name)
        made, dropped, notes = self._settled(made)
        return Result(made, self._account(made, dropped, notes))

    # ----------------------------------------------------------------- columns

    def _column(self, name: str) -> Column:
        have = [table[name] for table in self.tables if name in table.columns]
        type_ = common_type(have) or self._refuse(name)
        parts = [
            table[name].widened(type_) if name in table.columns else Column.all_missing(type_, len(table), NOT_IN_FILE)
            for table in self.tables
        ]
        return stacked_column(parts, type_)

    def _refuse(self, name: str) -> Type:
        told = []
        for table in self.tables:
            if name not in table.columns:
                continue
            column = table[name]
            told.append(f"{column.type} in {table.name}{self._strays(table, name)}")
        raise DataError(
            f"The column {name} is not of one type.",
            where="; ".join(told),
            todo="Mend the cells with a ledger, give ‹type›, or recode the column first.",
        )

    @staticmethod
    def _strays(table: Table, name: str) -> str:
        column = table[name]
        if column.type != "string":
            return ""
        stray = stray_cells(column)
        rows = np.flatnonzero(stray.cells if stray is not None else ~column.is_missing)[:MOST_EXAMPLES]
        texts = column.take(rows).to_text().to_pylist()
        cells = ", ".join(
            f'row {row + table.first_row} "{text}"' for row, text in zip(rows.tolist(), texts, strict=True)
        )
        return f" ({cells})"

    def _dictionary(self) -> Dictionary:
        """All dictionaries as one; a code with different labels is a finding."""
        dictionary = self.tables[0].dictionary.for_columns(self.tables[0].names)
        differing = []
        for table in self.tables[1:]:
            own = table.dictionary.for_columns(table.names)
            for name in table.names:
                mine, theirs = dictionary.labels_of(name), own.labels_of(name)
                for code in mine:
                    if code in theirs and mine[code] != theirs[code]:
                        told = f'{name} {code}: "{mine[code]}" before, "{theirs[code]}" in {table.name}'
                        differing.append(told)
            dictionary = dictionary.joined(own)
        if differing and self.step.other_labels == "stop":
            raise DataError(
                "One code has different labels in different files.",
                where="; ".join(differing[:MOST_EXAMPLES]) + (" …" if len(differing) > MOST_EXAMPLES else ""),
                todo="Recode one of the files, or say ‹other_labels=first›.",
            )
        return dictionary

    # -------------------------------------------------------------- repetition

    def _settled(self, made: Table) -> tuple[Table, int, list[Note]]:
        """Rows of one case and occasion in several files, settled as was said."""
        names = self.step.told_apart_by
        if not self.step.case:
            return made, 0, []
        codes, size = row_codes(made, names)
        counts = np.bincount(codes[codes >= 0], minlength=size)
        rows = np.flatnonzero(np.append(counts > 1, False)[codes])
        if not len(rows):
            return made, 0, []
        keys = int(np.count_nonzero(counts > 1))
        texts = key_texts(made, names, rows[:MOST_EXAMPLES])
        told = f"{counted(keys, 'case and occasion stands', 'cases and occasions stand')} in several rows"
        if self.step.repeated == "stop":
            raise DataError(
                f"{told}.", where=", ".join(dict.fromkeys(texts)),
                todo="Mend the files, or say ‹repeated=first›, last or keep.",
            )  # fmt: skip
        if self.step.repeated == "keep":
            return made, 0, [Note(f"{told}.", ", ".join(names), (), "repeated", keys)]
        order = rows if self.step.repeated == "first" else rows[::-1]
        _, firsts = np.unique(codes[order], return_index=True)
        keep = np.ones(len(made), np.bool_)
        keep[rows] = False
        keep[order[firsts]] = True
        note = Note(f"{told}; the {self.step.repeated} of each is kept.", ", ".join(names), (), "repeated", keys)
        return made.take(np.flatnonzero(keep)), int(np.count_nonzero(~keep)), [note]

    # ----------------------------------------------------------------- account

    def _account(self, made: Table, dropped: int, notes: list[Note]) -> Account:
        rows = tuple((table.name, len(table)) for table in self.tables)
        balances = [Balance("rows of the files", sum(len(table) for table in self.tables), rows)]
        balances.append(
            Balance(
                "rows",
                sum(count for _, count in rows),
                (("in the result", len(made)), ("left out as repeated", dropped)),
                quiet=not dropped,
            )
        )
        if not dropped:
            balances.append(self._cells(made))
        if self.step.mark:
            balances.append(self._per_mark(made))
        every = list(dict.fromkeys(name for table in self.tables for name in table.names))
        lines = tuple(
            (
                name,
                *(table[name].type if name in table.columns else None for table in self.tables),
                made[name].type if name in made.columns else "left out",
            )
            for name in every
        )
        heads = ("variable", *(table.name for table in self.tables), "in the result")
        notes = [*notes, *self._likely_pairs()]
        return Account(
            "stack",
            f"{len(self.tables)} files became {len(made):,} rows and {len(made.names)} columns.",
            tuple(balances),
            {"rows": len(made), "columns": made.names},
            (Listing("which variable is in which file", heads, lines),),
            tuple(notes),
        )

    def _cells(self, made: Table) -> Balance:
        """Values of the files in the columns that are kept, against those of the result."""
        columns = [table[name] for table in self.tables for name in made.names if name in table.columns]
        before = sum(len(column) - column.missing_count for column in columns)
        after = sum(len(made) - made[name].missing_count for name in made.names)
        return Balance("values in the columns kept", before, (("in the result", after),), quiet=True)

    def _per_mark(self, made: Table) -> Balance:
        encoded = made[self.step.mark_name].to_text().dictionary_encode()
        counts = np.bincount(encoded.indices.to_numpy(zero_copy_only=False), minlength=len(encoded.dictionary))
        parts = zip(encoded.dictionary.to_pylist(), counts.tolist(), strict=True)
        return Balance(
            "rows in the result", len(made), tuple((f"{self.step.mark_name} {mark}", count) for mark, count in parts)
        )

    def _likely_pairs(self) -> list[Note]:
        """Columns of different files that may be one variable under two names."""
        from rapidfuzz import fuzz

        scored = []
        for place, first in enumerate(self.tables):
            for second in self.tables[place + 1 :]:
                for one in (name for name in first.names if name not in second.columns):
                    for two in (name for name in second.names if name not in first.columns):
                        score = fuzz.ratio(one, two)
                        mine, theirs = first.dictionary.of(one), second.dictionary.of(two)
                        same_label = bool(mine.label) and mine.label == theirs.label
                        if first[one].type == second[two].type and (score >= LIKE or same_label):
                            scored.append((score, one, two, first.name, second.name))
        best = sorted(scored, key=lambda pair: (-pair[0], pair[1]))[:MOST_PAIRS]
        return [
            Note(f"may be {one} of {mine} under another name: ‹pair={two}={one}›", f"{theirs}.{two}", (), "likely-pair")
            for _, one, two, mine, theirs in best
        ]
