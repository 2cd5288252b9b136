"""Make a table ready for another program: columns chosen, rows sorted, codes in missing cells, names made short."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.keys import key_texts, ordered_ranks, row_codes
from lomrix.core.steps.account import Account, Listing
from lomrix.core.steps.export.accounts import account_of, codes_for_nothing, reasons_without_code
from lomrix.core.steps.export.coding import coded, free_code, refuse_used_codes, with_codes_used
from lomrix.core.steps.export.missing_codes import AUTO, MissingCodes, codes_said
from lomrix.core.steps.export.numbers import as_numbers
from lomrix.core.steps.export.plain_letters import PlainLetters
from lomrix.core.steps.export.prepared import Prepared, Recoding
from lomrix.core.steps.export.settings import Export
from lomrix.core.steps.export.short_names import short_names
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.changed_variable import keep_what_holds
from lomrix.core.table.labelled import labelled
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.renaming import renamed_table
from lomrix.core.table.selection import chosen_columns, unknown_column
from lomrix.core.table.table import Table

MOST_SHOWN = 8
WORKERS = 2


def prepared(step: Export, tables: Inputs, wanted: Collection[str]) -> Result:
    """Recode the tables; how each has to be understood is the extra `prepared`."""
    every = tables.many("source")
    if len(every) > 1 and step.form != "package":
        raise UsageError(
            f"{len(every)} files cannot become one.",
            todo="Say ‹form=package› for a folder that holds all of them, or merge or stack them first.",
        )
    require_key_somewhere(step, every)
    works = [Work.of(step, table) for table in every]
    ready = [work.prepared for work in works]
    accounts = [
        account_of(step, work.original, one, work.listings, work.notes) for work, one in zip(works, ready, strict=True)
    ]
    account = accounts[0] if len(works) == 1 else of_several(ready, accounts)
    account = replace(account, notes=(*account.notes, *codes_for_nothing(ready), *reasons_without_code(ready, step)))
    return Result(ready[0].made, account, {"prepared": ready, "companion": ready[0], "codebook": ready[0]})


def of_several(ready: list[Prepared], accounts: list[Account]) -> Account:
    """The account of a package."""
    names = ", ".join(one.made.name for one in ready)
    facts = {
        "resources": [{**account.facts, "name": one.made.name} for one, account in zip(ready, accounts, strict=True)]
    }
    return Account("export", f"{counted(len(ready), 'table', 'tables')} made ready: {names}.", facts=facts,
                   parts=tuple(accounts))  # fmt: skip


@dataclass
class Work:
    """One table on its way.

    Parameters
    ----------
    step
        What was asked for.
    original
        The table as it came, its columns chosen.
    before, made
        The table with its reasons, and with codes in their place.
    """

    step: Export
    original: Table
    before: Table
    made: Table
    missing: MissingCodes
    recodings: dict[str, Recoding] = field(default_factory=dict)
    old_names: dict[str, str] = field(default_factory=dict)
    listings: list[Listing] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)

    @classmethod
    def of(cls, step: Export, table: Table) -> Work:
        """Do all that was asked for, in an order in which nothing is looked for under a name that is gone."""
        rows = sorted_rows(step, table)
        if step.columns:
            table = table.only(chosen_columns(step.columns, table.types(), table.name))
        require_key(step, table)
        missing = MissingCodes.of(codes_said(step.missing_code), table.types(), table.name)
        made = cls(step, table, table if rows is None else table.take(rows), table, missing)
        made.show_labels()
        made.write_plainly()
        made.shorten_names()
        made.code()
        return made

    @property
    def prepared(self) -> Prepared:
        """What was made, and how it has to be understood."""
        standing = {
            name: dict(self.made.dictionary.of(name).missing) if name in self.made.dictionary.coded else {}
            for name in self.made.names
        }
        return Prepared(
            self.before, self.made, self.missing, standing, self.recodings, self.old_names,
            self.before.dictionary,
        )  # fmt: skip

    def show_labels(self) -> None:
        """Labels in the place of codes; a value without a label stays, and is told."""
        if not self.step.show_labels:
            return
        table, dictionary = self.before, self.before.dictionary
        columns = dict(table.columns)
        rows = []
        for name in chosen_columns(self.step.show_labels, table.types(), table.name):
            labels = dictionary.labels_of(name)
            if not labels:
                raise UsageError(f"The dictionary has no codes for {name}.", todo="Name them there, with codes = LIST.")
            columns[name], without = labelled(table[name], labels)
            entry = keep_what_holds(dictionary.of(name), table[name], columns[name], "mapped")
            dictionary = dictionary.with_variable(name, entry)
            present = len(table) - table[name].missing_count
            rows.append((name, present - sum(without.values()), sum(without.values())))
            if without:
                told = ", ".join(f"{text} ({count:,})" for text, count in list(without.items())[:MOST_SHOWN])
                self.notes.append(Note(f"values without a label, written as they are: {told}.", name, kind="no-label"))
        self.listings.append(
            Listing("labels in the place of codes", ("column", "cells", "without a label"), tuple(rows))
        )
        self.before = replace(table.with_columns(columns), dictionary=dictionary)

    def write_plainly(self) -> None:
        """Letters outside ASCII as plain ones, listed."""
        if not self.step.ascii:
            return
        letters = PlainLetters()
        old = self.before.names
        self.before = letters.table(self.before)
        self._remember(old)
        if letters.signs:
            rows = tuple((sign, new or "(nothing)", count) for (sign, new), count in sorted(letters.signs.items()))
            self.listings.append(Listing("letters written with plain ones", ("letter", "written as", "cells"), rows))
        if letters.met:
            text = "different texts became one: " + ", ".join(letters.met[:MOST_SHOWN]) + "."
            self.notes.append(Note(text, kind="texts-met", count=len(letters.met)))

    def shorten_names(self) -> None:
        """Short names, with the list of both."""
        if not self.step.names_max:
            return
        old = self.before.names
        short = short_names(old, self.step.names_max)
        changed = {name: new for name, new in short.items() if name != new}
        self.before = renamed_table(self.before, changed)
        self._remember(old)
        if changed:
            rows = tuple((new, name, self.before.dictionary.of(new).label) for name, new in changed.items())
            self.listings.append(Listing("names made short", ("name", "was", "label"), rows))

    def _remember(self, old: list[str]) -> None:
        """Keep the first name of each column, and have what was said of columns follow."""
        pairs = dict(zip(old, self.before.names, strict=True))
        self.old_names = {new: first for name, new in pairs.items() if (first := self.old_names.get(name, name)) != new}
        by_column = {pairs.get(name, name): codes for name, codes in self.missing.by_column.items()}
        self.missing = replace(self.missing, by_column=by_column)

    def code(self) -> None:
        """Numbers only where the form wants it, and codes in the missing cells."""
        ready = self.before
        missing = self.missing
        if self.step.form == "bare":
            labels = [ready.dictionary.labels_of(name) for name in ready.names]
            with ThreadPoolExecutor(WORKERS) as workers:
                found = workers.map(as_numbers, ready.columns.values(), labels)
                numeric = dict(zip(ready.names, found, strict=True))
            self.recodings = {name: recoding for name, (_, recoding) in numeric.items() if recoding.how}
            ready = ready.with_columns({name: column for name, (column, _) in numeric.items()})
            missing = replace(missing, everywhere=missing.everywhere or AUTO)
        if missing.everywhere == AUTO:
            is_needed = any(column.missing_count for column in ready.columns.values())
            missing = replace(missing, everywhere=free_code(ready, missing.said) if is_needed else "")
        refuse_used_codes(ready, missing)
        columns = {
            name: coded(column, name, missing, self.step.delivery.text) for name, column in ready.columns.items()
        }
        self.missing = missing
        self.made = replace(ready, columns=columns, dictionary=with_codes_used(ready, columns, missing))


def sorted_rows(step: Export, table: Table) -> npt.NDArray[np.int64] | None:
    """The rows in the order that was asked for, equal ones as they stood, missing values last; None where all stay."""
    if not step.sort_by:
        return None
    ranks = []
    for name in step.sort_by:
        rank, count = ordered_ranks(table[name])
        ranks.append(np.where(rank < 0, count, rank))
    return np.asarray(np.lexsort(ranks[::-1]), np.int64)


def require_key_somewhere(step: Export, tables: Sequence[Table]) -> None:
    """Stop where no table of a package has the primary key; it need not stand in all of them."""
    key = step.primary_key
    if step.form != "package" or not key or any(set(key) <= set(table.names) for table in tables):
        return
    names = list(dict.fromkeys(name for table in tables for name in table.names))
    for name in key:
        if name not in names:
            raise unknown_column(name, names, "any of the tables" if len(tables) > 1 else tables[0].name)
    raise UsageError(f"No table has all of the primary key {', '.join(key)}.", todo="Name columns of one table.")


def require_key(step: Export, table: Table) -> None:
    """Stop where the primary key is missing in some row or stands twice; a package's tables need not have it.

    Raises
    ------
    DataError
        With rows and values.
    """
    key = tuple(name for name in step.primary_key if step.form != "package" or name in table.columns)
    if not key or (step.form == "package" and len(key) < len(step.primary_key)):
        return
    for name in key:
        rows = np.flatnonzero(table[name].is_missing)
        if len(rows):
            told = ", ".join(str(row + table.first_row) for row in rows[:MOST_SHOWN].tolist())
            told += " …" if len(rows) > MOST_SHOWN else ""
            raise DataError(
                f"{name} is missing in {counted(len(rows), 'row', 'rows')}, so it tells not all rows apart.",
                where=f"{table.name}, {plural(len(rows), 'row', 'rows')} {told}",
                todo="Name another ‹primary_key›, or leave these rows out first.",
            )
    codes, size = row_codes(table, key)
    counts = np.bincount(codes, minlength=size)
    if counts.max(initial=0) < 2 or step.form == "package":
        return
    rows = np.flatnonzero(codes == counts.argmax())
    again = counted(int((counts > 1).sum()), "key stands", "keys stand")
    raise DataError(
        f"{' and '.join(key)} cannot be the primary key: {again} in several rows.",
        where=f"{table.name}, rows {' '.join(str(row + table.first_row) for row in rows[:MOST_SHOWN].tolist())}: "
        f"{key_texts(table, key, rows[:1])[0]}",
        todo="Name the columns that tell the rows apart together, such as a case and an occasion.",
    )
