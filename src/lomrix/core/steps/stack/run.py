"""Put tables under each other, column by name, with a mark that says which wave a row is of."""

from __future__ import annotations

import datetime
import re
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import key_texts, row_codes
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.stack.settings import Stack
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.code_use import times_used
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import occasion_values
from lomrix.core.table.joined import stacked_column
from lomrix.core.table.label_conflicts import label_conflicts, require_same_labels
from lomrix.core.table.notes import Note, counted, rows_and_columns
from lomrix.core.table.pool import Pool
from lomrix.core.table.reasons import NOT_IN_FILE
from lomrix.core.table.selection import unknown_column
from lomrix.core.table.table import Table
from lomrix.core.table.types import Type
from lomrix.core.text.stray import stray_cells
from lomrix.core.wording import some_of

LIKE = 75.0
MOST_EXAMPLES = 4
MOST_PAIRS = 8
WORDS = re.compile(r"[^\W_]+")


def stacked(step: Stack, tables: Inputs, wanted: Collection[str]) -> Result:
    """Stack the tables in their order."""
    files = tables.many("source")
    marks = step.marks([table.name for table in files]) if step.mark else ()
    pair_file = tables.maybe("pair_file")
    pairs = tuple(step.names_given("source", "", {} if pair_file is None else {"pair_file": pair_file}).items())
    require_used(pairs, files)
    ready = [marked(renamed(table, pairs), step.mark_name, marks, at) for at, table in enumerate(files)]
    return Pile(step, ready).result()


def require_used(pairs: Sequence[tuple[str, str]], files: Sequence[Table]) -> None:
    """Stop where no file has the column that a pair renames.

    Raises
    ------
    UsageError
        Naming the nearest column.
    """
    names = list(dict.fromkeys(name for table in files for name in table.names))
    for old, _ in pairs:
        if old not in names:
            raise unknown_column(old, names, "any of the files")


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
            where=f"it holds {some_of(held)}",
            todo="Check the order of the marks, or name the mark differently.",
        )
    return replace(table, columns={**table.columns, mark: column})


def mark_column(marks: Sequence[str], place: int, rows: int) -> Column:
    """The mark of one file: numbers or days where all marks are."""
    value = occasion_values(list(marks))[place]
    if isinstance(value, str):
        return Column.of_strings(np.zeros(rows, np.int32), Pool.of([value]))
    if isinstance(value, datetime.date):
        return Column.of("date", np.full(rows, np.datetime64(value, "D")))
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
        self._require_case()
        dictionary = self._dictionary()
        columns = {name: self._column(name) for name in self.names}
        made = Table(columns, dictionary.for_columns(columns), name=self.tables[0].name)
        made, dropped, notes = self._settled(made)
        return Result(made, self._account(made, dropped, notes))

    def _require_case(self) -> None:
        """Stop where a file lacks a column of the case, so that none of its rows could be found repeated."""
        for name in self.step.case:
            lacking = [table for table in self.tables if name not in table.columns]
            if lacking:
                told = self._pairs_told()
                raise DataError(
                    f"{lacking[0].name} has no column {name}, which tells cases apart.",
                    where=f"its columns are {some_of(lacking[0].names)}",
                    todo=f"The same variable under another name? {told}" if told else f"Say ‹pair=OTHER={name}›.",
                )

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
            todo="Mend the cells with a ledger, give ‹type›, or recode the column first."
            + (f" Other names: {pairs}" if (pairs := self._pairs_told()) else ""),
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
        for table in self.tables[1:]:
            own = table.dictionary.for_columns(table.names)
            if self.step.other_labels == "stop":
                names = {name: name for name in table.names}
                require_same_labels(label_conflicts(dictionary, own, names, table.name))
            dictionary = dictionary.joined(own)
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
        notes = [*notes, *self._codes_or_values(), *self._likely_pairs()]
        return Account(
            "stack",
            f"{counted(len(self.tables), 'file', 'files')} became {rows_and_columns(len(made), len(made.names))}.",
            tuple(balances),
            {"rows": len(made), "columns": made.names},
            (Listing("which variable is in which file", heads, lines, splits=True),),
            tuple(notes),
            left_out=dropped,
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
            "rows in the result", len(made), tuple((f"{self.step.mark_name} {mark}", count) for mark, count in parts),
            # Where each file has its own mark, the rows of the files say the same.
            quiet=len(encoded.dictionary) == len(self.tables) and len(made) == sum(map(len, self.tables)),
        )  # fmt: skip

    def _codes_or_values(self) -> list[Note]:
        """Numbers or words that are missing codes of a column in one file and values of it in another."""
        notes = []
        for name in self.names:
            have = [table for table in self.tables if name in table.columns]
            codes = {code: table for table in have for code in table.dictionary.of(name).missing}
            for code, coded in codes.items():
                for table in have:
                    count = 0 if table is coded else times_used(table[name], code)
                    if count:
                        text = f"{code} is a missing code in {coded.name} and a value in {table.name}, in "
                        text += f"{counted(count, 'cell', 'cells')}: give both files one dictionary."
                        notes.append(Note(text, name, (), "code-or-value", count))
        return notes

    def _pairs_told(self) -> str:
        """The likely pairs as they would be said."""
        return " ".join(f"‹pair={two}={one}›" for one, two, _, _ in self.likely_pairs[:3])

    def _likely_pairs(self) -> list[Note]:
        """Columns of different files that may be one variable under two names."""
        return [
            Note(f"may be {one} of {mine} under another name: ‹pair={two}={one}›", f"{theirs}.{two}", (), "likely-pair")
            for one, two, mine, theirs in self.likely_pairs
        ]

    @cached_property
    def likely_pairs(self) -> list[tuple[str, str, str, str]]:
        """Two names, and the files that have them, the likeliest first; each name once."""
        scored = []
        for place, first in enumerate(self.tables):
            for second in self.tables[place + 1 :]:
                for one in (name for name in first.names if name not in second.columns):
                    for two in (name for name in second.names if name not in first.columns):
                        if common_type((first[one], second[two])) is not None:
                            mine, theirs = first.dictionary.of(one).label, second.dictionary.of(two).label
                            score = 100.0 if mine and mine == theirs else likeness(one, two)
                            scored.append((score, one, two, first.name, second.name))
        best = sorted((pair for pair in scored if pair[0] >= LIKE), key=lambda pair: (-pair[0], pair[1]))
        seen: set[tuple[str, str]] = set()
        found = []
        for _, one, two, mine, theirs in best:
            if (mine, one) not in seen and (theirs, two) not in seen:
                seen |= {(mine, one), (theirs, two)}
                found.append((one, two, mine, theirs))
        return found[:MOST_PAIRS]


def likeness(one: str, two: str) -> float:
    """How like two names are, up to 100: the same words in another order or with one more are alike.

    Examples
    --------
    >>> likeness("melt_days", "days_melt"), likeness("ice", "ice_mm"), likeness("Stake", "stake")
    (95.0, 80.0, 95.0)
    >>> likeness("ice", "snow") < 75
    True
    """
    from rapidfuzz import fuzz

    first, second = (WORDS.findall(name.casefold()) for name in (one, two))
    if sorted(first) == sorted(second):
        return 95.0
    shorter, longer = sorted((set(first), set(second)), key=len)
    if shorter and shorter < longer and len(longer) == len(shorter) + 1:
        return 80.0
    return fuzz.ratio(one.casefold(), two.casefold())
