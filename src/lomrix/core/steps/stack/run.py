"""Append tables to each other, by column name, with a mark for each file."""

from __future__ import annotations

import datetime
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from lomrix.core.combining import MOST_EXAMPLES, Words
from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.stack.likely_pairs import (
    Held,
    LikelyPair,
    choose_type,
    find_likely_pairs,
    make_pair_table,
    survey_files,
)
from lomrix.core.steps.stack.settings import Stack
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.entry_changes import (
    find_code_conflicts,
    find_label_conflicts,
    require_same_codes,
    require_same_labels,
)
from lomrix.core.table.header import parse_occasions
from lomrix.core.table.labelled import count_code
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.numbers import Type
from lomrix.core.table.reasons import NOT_IN_FILE
from lomrix.core.table.renaming import concatenate_columns
from lomrix.core.table.selection import unknown_column_error
from lomrix.core.table.table import Table
from lomrix.core.text.stray import find_stray_cells
from lomrix.core.wording import shorten_list

if TYPE_CHECKING:
    pass

MOST_PAIRS = 8


Survey = Sequence[Mapping[str, Held]]


def survey(step: Stack, tables: Inputs) -> Survey:
    """Survey the columns of each file, or of parts of them."""
    pairs = list_pairs(step, tables)
    return survey_files([rename_pairs(table, pairs) for table in tables.get_all("source")])


def check(step: Stack, tables: Inputs, whole: Survey) -> None:
    """Stop if the files do not go together."""
    pairs = list_pairs(step, tables)
    require_used(pairs, tables.get_all("source"))
    Stacking(step, prepare(step, tables), whole).check()


def stack(step: Stack, tables: Inputs, wanted: Collection[str], whole: Survey | None = None) -> Result:
    """Stack the tables in their order, or parts of them; `whole` is the survey of all parts."""
    if whole is None:
        require_used(list_pairs(step, tables), tables.get_all("source"))
    stacking = Stacking(step, prepare(step, tables), survey(step, tables) if whole is None else whole)
    if whole is None:
        stacking.check()
    return stacking.run(wanted)


def list_pairs(step: Stack, tables: Inputs) -> tuple[tuple[str, str], ...]:
    """List the columns to rename, with their new names."""
    pair_file = tables.get_optional("pair_file")
    return tuple(step.list_renames("source", "", {} if pair_file is None else {"pair_file": pair_file}).items())


def prepare(step: Stack, tables: Inputs) -> list[Table]:
    """Return the files with their columns renamed and marked."""
    files, pairs = tables.get_all("source"), list_pairs(step, tables)
    marks = step.marks([table.name for table in files]) if step.mark else ()
    return [add_mark(rename_pairs(table, pairs), step.mark_name, marks, index) for index, table in enumerate(files)]


def require_used(pairs: Sequence[tuple[str, str]], files: Sequence[Table]) -> None:
    """Stop if no file has the column that a pair renames.

    Raises UsageError with the nearest name.
    """
    names = list(dict.fromkeys(name for table in files for name in table.names))
    for old, _ in pairs:
        if old not in names:
            raise unknown_column_error(old, names, "any of the files")


def rename_pairs(table: Table, pairs: Sequence[tuple[str, str]]) -> Table:
    """Rename a table's columns as in the other tables.

    Raises UsageError if it has both columns of a pair.
    """
    new = {old: name for old, name in pairs if old in table.columns}
    for old, name in new.items():
        if name in table.columns:
            raise UsageError(f"{table.name} has both {old} and {name}, so they are not a pair.", todo="Check ‹pair›.")
    columns = {new.get(name, name): column for name, column in table.columns.items()}
    entries = {new.get(name, name): table.dictionary.of(name) for name in table.names}
    return replace(table, columns=columns, dictionary=replace(table.dictionary, variables=entries))


def add_mark(table: Table, mark: str, marks: Sequence[str], index: int) -> Table:
    """Add a column that says which file the rows are from.

    Raises DataError if it has such a column with other values.
    """
    if not mark:
        return table
    column = make_mark_column(marks, index, len(table))
    if mark not in table.columns:
        return replace(table, columns={mark: column, **table.columns})
    existing = table[mark].take(np.flatnonzero(~table[mark].is_missing)).to_text().unique().to_pylist()
    expected = column.first_text()
    if any(text != expected for text in existing):
        raise DataError(
            f"{table.name} already has a column {mark}, which does not agree with its mark {expected}.",
            where=f"it holds {shorten_list(existing)}",
            todo="Check the order of the marks, or use another name for the mark.",
        )
    return replace(table, columns={**table.columns, mark: column})


def make_mark_column(marks: Sequence[str], index: int, rows: int) -> Column:
    """Return the mark of one file: numbers or dates if all marks are."""
    value = parse_occasions(list(marks))[index]
    types: dict[type, Type] = {str: "string", datetime.date: "date", int: "integer", float: "number"}
    return Column.of_cells(types[type(value)], [value]).broadcast(rows)


@dataclass
class Stacking:
    """Tables being stacked, or parts of them; `whole` is the survey of all parts, without the mark."""

    step: Stack
    tables: list[Table]
    whole: Survey

    @cached_property
    def held(self) -> Survey:
        """What the columns of each file hold; the mark is never missing."""
        mark = {self.step.mark_name: Held(1, 0)} if self.step.mark else {}
        return [{**held, **mark} for held in self.whole]

    @cached_property
    def names(self) -> list[str]:
        """The columns of the result, in order of first appearance."""
        all_names = list(dict.fromkeys(name for table in self.tables for name in table.names))
        if self.step.columns == "all":
            return all_names
        return [name for name in all_names if all(name in table.columns for table in self.tables)]

    def run(self, wanted: Collection[str] = ()) -> Result:
        """Return the stacked table and its account."""
        result = self.make_table()
        extras = {"draft_pairs": make_pair_table(self.likely_pairs)} if "draft_pairs" in wanted else {}
        return Result(result, self._make_account(result), extras)

    def make_table(self) -> Table:
        """Return the stacked table."""
        dictionary = self._join_dictionaries()
        columns = {name: self._stack_column(name) for name in self.names}
        return Table(columns, dictionary.for_columns(columns), name=self.tables[0].name)

    def check(self) -> None:
        """Stop if the files do not go together."""
        if not self.names:
            raise DataError("The files share no column.", todo="Pair columns with ‹pair›, or use ‹columns=all›.")
        self._require_case()
        self._join_dictionaries()
        for name in self.names:
            self._choose_type(name)

    def _require_case(self) -> None:
        """Stop if a file lacks a column of the case, so that its repeated rows could not be found."""
        for name in self.step.case:
            without = [table for table in self.tables if name not in table.columns]
            if without:
                pairs = self._format_pairs()
                raise DataError(
                    f"{without[0].name} has no column {name}, which names the case.",
                    where=f"its columns are {shorten_list(without[0].names)}",
                    todo=f"The same variable under another name? {pairs}" if pairs else f"Use ‹pair=OTHER={name}›.",
                )

    # ----------------------------------------------------------------- columns

    def _choose_type(self, name: str) -> Type:
        files = zip(self.tables, self.held, strict=True)
        return choose_type((table[name], held[name]) for table, held in files if name in table.columns) or (
            self._refuse_types(name)
        )

    def _stack_column(self, name: str) -> Column:
        type_ = self._choose_type(name)
        parts = [
            table[name].widen(type_) if name in table.columns else Column.all_missing(type_, len(table), NOT_IN_FILE)
            for table in self.tables
        ]
        return concatenate_columns(parts, type_)

    def _refuse_types(self, name: str) -> Type:
        parts = []
        for table in self.tables:
            if name not in table.columns:
                continue
            column = table[name]
            parts.append(f"{column.type} in {table.name}{self._format_strays(table, name)}")
        raise DataError(
            f"The column {name} is not of one type.",
            where="; ".join(parts),
            todo="Correct the cells with a ledger, state ‹type›, or recode the column first."
            + (f" Other names: {pairs}" if (pairs := self._format_pairs()) else ""),
            columns=[name],
        )

    @staticmethod
    def _format_strays(table: Table, name: str) -> str:
        column = table[name]
        if column.type != "string":
            return ""
        stray = find_stray_cells(column)
        rows = np.flatnonzero(stray.cells if stray is not None else ~column.is_missing)[:MOST_EXAMPLES]
        texts = column.take(rows).to_text().to_pylist()
        cells = ", ".join(
            f'row {row + table.first_row} "{text}"' for row, text in zip(rows.tolist(), texts, strict=True)
        )
        return f" ({cells})"

    def _join_dictionaries(self) -> Dictionary:
        """Join all dictionaries; a code with different labels is an error."""
        dictionary = self.tables[0].dictionary.for_columns(self.tables[0].names)
        for table in self.tables[1:]:
            own = table.dictionary.for_columns(table.names)
            if self.step.other_labels == "stop":
                names = {name: name for name in table.names}
                require_same_labels(find_label_conflicts(dictionary, own, names, table.name))
                require_same_codes(find_code_conflicts(dictionary, own, names, table.name))
            dictionary = dictionary.join(own)
        return dictionary

    # ----------------------------------------------------------------- account

    def _make_account(self, result: Table) -> Account:
        total = sum(len(table) for table in self.tables)
        files = tuple(Part("kept", len(table), "file", table.name) for table in self.tables)
        balances = [
            Balance("rows of the files", total, files),
            Balance(
                "rows", total, (Part("kept", len(result), "in-result"), Part("left out", 0, "repeated")), quiet=True
            ),
            self._balance_cells(result),
        ]
        if self.step.mark:
            # Where each file has its own mark, the rows of the files say the same.
            is_quiet = len({*self.step.marks([table.name for table in self.tables])}) == len(self.tables)
            balances.append(replace(balance_marks(self.step.mark_name, [result]), quiet=is_quiet))
        all_names = list(dict.fromkeys(name for table in self.tables for name in table.names))
        lines = tuple(
            (
                name,
                *(table[name].type if name in table.columns else None for table in self.tables),
                result[name].type if name in result.columns else "left out",
            )
            for name in all_names
        )
        heads = ("variable", *(table.name for table in self.tables), "in the result")
        notes = [*self._note_codes_or_values(), *self._note_likely_pairs()]
        return Account(
            "stack",
            Words(
                "{files} became {rows:row} and {columns}.",
                files=pluralize(len(self.tables), "file"),
                rows=len(result),
                columns=pluralize(len(result.names), "column"),
            ),
            tuple(balances),
            {"rows": len(result), "columns": result.names},
            (Listing("which variable is in which file", heads, lines, splits=True),),
            tuple(notes),
        )

    def _balance_cells(self, result: Table) -> Balance:
        """Balance values of the files in the kept columns with those of the result."""
        columns = [table[name] for table in self.tables for name in result.names if name in table.columns]
        before = sum(len(column) - column.missing_count for column in columns)
        after = sum(len(result) - result[name].missing_count for name in result.names)
        return Balance("kept values", before, (Part("kept", after),), quiet=True)

    def _note_codes_or_values(self) -> list[Note]:
        """Note missing codes of a column in one file that are values in another."""
        notes = []
        for name in self.names:
            tables = [table for table in self.tables if name in table.columns]
            codes = {code: table for table in tables for code in table.dictionary.of(name).missing}
            for code, coded in codes.items():
                for table in tables:
                    if table is not coded:
                        text = "{code} is a missing code in {coded} and a value in {table}, in {count:cell}: "
                        text += "give both files one dictionary."
                        count = count_code(table[name], code)
                        words = Words(text, code=code, coded=coded.name, table=table.name, count=count)
                        notes.append(Note(words, name, (), "code-or-value", count))
        return notes

    def _format_pairs(self) -> str:
        """Format the likely pairs as settings."""
        return " ".join(f"‹pair={pair.second}={pair.first}›" for pair in self.likely_pairs[:3])

    def _note_likely_pairs(self) -> list[Note]:
        """Note columns of different files that may be one variable under two names."""
        return [
            Note(
                f"may be {pair.first} of {pair.first_file} under another name ({pair.why}): "
                f"‹pair={pair.second}={pair.first}›",
                f"{pair.second_file}.{pair.second}",
                (),
                "likely-pair",
            )
            for pair in self.likely_pairs[:MOST_PAIRS]
        ]

    @cached_property
    def likely_pairs(self) -> list[LikelyPair]:
        """Columns of different files that may be one variable, the likeliest first; each column once."""
        return find_likely_pairs(self.tables, self.held)


def balance_marks(name: str, blocks: Iterable[Table]) -> Balance:
    """Balance the rows of the result by their mark."""
    counts: dict[str, int] = {}
    for block in blocks:
        encoded = block[name].to_text().dictionary_encode()
        found = np.bincount(encoded.indices.to_numpy(zero_copy_only=False), minlength=len(encoded.dictionary))
        for mark, count in zip(encoded.dictionary.to_pylist(), found.tolist(), strict=True):
            counts[mark] = counts.get(mark, 0) + count
    parts = tuple(Part("kept", count, "mark", f"{name} {mark}") for mark, count in counts.items())
    return Balance("rows of the result", sum(counts.values()), parts)
