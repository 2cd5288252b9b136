"""Prepare a table for another program: choose columns, sort rows, fill codes into missing cells, shorten names."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.combining import Extreme, Shown, Words, combine_all
from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.column_survey import TableSurvey
from lomrix.core.rows.keys import encode_rows, show_repeated
from lomrix.core.rows.partitions import split_by_key
from lomrix.core.rows.sorting import sort_rows
from lomrix.core.steps.account import Account, Listing
from lomrix.core.steps.export.accounts import make_account, note_reasons_without_code, note_unused_codes
from lomrix.core.steps.export.coding import (
    CANDIDATES,
    Occurring,
    Unlabelled,
    choose_codes,
    fill_codes,
    find_free_code,
    make_coded_dictionary,
    require_unused_codes,
)
from lomrix.core.steps.export.missing_codes import AUTO, MissingCodes, parse_missing_codes
from lomrix.core.steps.export.numbers import TextNumbers, recode_as_numbers
from lomrix.core.steps.export.plain_letters import PlainLetters
from lomrix.core.steps.export.prepared import Prepared, Recoding
from lomrix.core.steps.export.settings import Export
from lomrix.core.steps.export.short_names import make_short_names
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.entry_changes import keep_valid_parts, note_dropped_rules
from lomrix.core.table.labelled import apply_labels
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.renaming import rename_columns
from lomrix.core.table.selection import choose_columns, unknown_column_error
from lomrix.core.table.table import Table

MOST_SHOWN = 8


def survey(step: Export, tables: Inputs) -> tuple[Occurring, ...]:
    """Find for each table the reasons of missing cells, which codes could mean missing, and values without a label."""
    return tuple(survey_table(step, choose(step, table)) for table in tables.get_all("source"))


def survey_table(step: Export, chosen: Table) -> Occurring:
    """Find what the columns of a table hold; where they become numbers, these and their texts."""
    table, unlabelled = show_labels(step, chosen)
    missing = MissingCodes.resolve(parse_missing_codes(step.missing_code), table.types(), table.name)
    declared = {code for name in unlabelled for code in table.dictionary.of(name).missing}
    codes = {*CANDIDATES, *missing.specific_codes, missing.everywhere, *declared} - {"", AUTO}
    texts: dict[str, TextNumbers] = {}
    if step.form == "bare":
        labels_of, columns = table.dictionary.labels_of, table.columns
        texts = {
            name: TextNumbers.of(column, labels_of(name)) for name, column in columns.items() if column.type == "string"
        }
        others = {name: recode_as_numbers(column, {})[0] for name, column in columns.items() if name not in texts}
        table = table.with_columns({**columns, **others})
    return replace(Occurring.of(table, codes), unlabelled=unlabelled, texts=texts)


def check(step: Export, tables: Inputs, whole: tuple[Occurring, ...]) -> None:
    """Stop if the primary key is missing in a row or repeated in a table that is worked on in parts."""
    if step.form == "package":
        return
    errors: list[DataError] = []
    for _, rows in split_by_key(choose(step, tables.get_one()), step.primary_key):
        try:
            require_key(step, rows)
        except DataError as error:
            errors.append(error)
    if errors:
        raise combine_all(errors)


def export(step: Export, tables: Inputs, wanted: Collection[str], whole: Sequence[Occurring | None] = ()) -> Result:
    """Recode the tables; the extra `prepared` describes how to understand each.

    If there are only parts of tables, `whole` is what all parts of each hold; then the extra `survey` describes the
    variables, if that is wanted, and extras by number are the other tables of a package.
    """
    tables_given = tables.get_all("source")
    if len(tables_given) > 1 and step.form != "package":
        raise UsageError(
            f"{len(tables_given)} files cannot be exported into one.",
            todo="Use ‹form=package› for a folder that holds all of them, or merge or stack them first.",
        )
    require_key_somewhere(step, tables_given)
    pairs_given = zip(tables_given, whole or [None] * len(tables_given), strict=True)
    works = [TableExport.run(step, table, known) for table, known in pairs_given]
    ready = [work.prepared for work in works]
    accounts = [
        make_account(step, work.original, work.prepared, work.occurring, work.listings, work.notes) for work in works
    ]
    account = accounts[0] if len(works) == 1 else combine_accounts(ready, accounts)
    pairs = [(work.prepared, work.occurring) for work in works]
    account = replace(
        account, notes=(*account.notes, *note_unused_codes(pairs), *note_reasons_without_code(pairs, step))
    )
    extras: dict[str, object] = {"prepared": ready, "companion": ready[0], "codebook": ready[0]}
    if whole:
        extras |= {str(number): prepared.made for number, prepared in enumerate(ready[1:], start=1)}
        if not {"companion", "codebook"}.isdisjoint(wanted):
            extras["survey"] = TableSurvey.of(ready[0].before, with_sums=True)
    return Result(ready[0].made, account, extras)


def complete(step: Export, result: Result, tables: Inputs) -> Result:
    """Describe the whole of tables that were exported in parts."""
    ready: list[Prepared] = []
    for number, (prepared, source) in enumerate(zip(result.extras["prepared"], tables.get_all("source"), strict=True)):
        made = result.extras[str(number)] if number else result.table
        old_names = prepared.old_names
        before = {
            name: made[name] if column.type != prepared.before[name].type else column
            for name in made.names
            for column in [source[old_names.get(name, name)]]
        }
        survey = None if number else result.extras.get("survey")
        ready.append(replace(prepared, made=made, before=prepared.before.with_columns(before), survey=survey))
    return replace(result, extras={"prepared": ready, "companion": ready[0], "codebook": ready[0]})


def choose(step: Export, table: Table) -> Table:
    """Return the columns to be written."""
    return table.only(choose_columns(step.columns, table.types(), table.name)) if step.columns else table


def show_labels(step: Export, table: Table) -> tuple[Table, dict[str, dict[str, Unlabelled]]]:
    """Return the table with labels in place of codes, and the values without a label by column.

    Raises UsageError if a column has no codes.
    """
    if not step.show_labels:
        return table, {}
    columns, unlabelled = dict(table.columns), {}
    for name in choose_columns(step.show_labels, table.types(), table.name):
        labels = table.dictionary.labels_of(name)
        if not labels:
            raise UsageError(f"The dictionary has no codes for {name}.", todo="Name them there, with codes = LIST.")
        columns[name], rows = apply_labels(table[name], labels)
        unlabelled[name] = {
            text: Unlabelled(count, Extreme(table.number_rows(np.array([row]))[0], is_maximum=False))
            for text, (count, row) in rows.items()
        }
    return replace(table, columns=columns), unlabelled


def combine_accounts(ready: list[Prepared], accounts: list[Account]) -> Account:
    """Return the account of a package."""
    names = ", ".join(prepared.made.name for prepared in ready)
    facts = {
        "resources": tuple(
            {**account.facts, "name": prepared.made.name} for prepared, account in zip(ready, accounts, strict=True)
        )
    }
    return Account("export", f"{pluralize(len(ready), 'table')} made ready: {names}.", facts=facts,
                   parts=tuple(accounts))  # fmt: skip


@dataclass
class TableExport:
    """One table being exported."""

    step: Export  # what was asked for
    original: Table  # the table as it came, its columns chosen
    before: Table  # the table with its reasons, and with codes in their place
    made: Table
    missing: MissingCodes
    whole: Occurring | None  # what the whole table holds, if this is a part of it
    occurring: Occurring = field(default_factory=lambda: Occurring({}))  # the same by the names as written
    recodings: dict[str, Recoding] = field(default_factory=dict)
    old_names: dict[str, str] = field(default_factory=dict)
    listings: list[Listing] = field(default_factory=list)
    notes: list[Note] = field(default_factory=list)

    @classmethod
    def run(cls, step: Export, table: Table, whole: Occurring | None) -> TableExport:
        """Do everything in an order in which no name is used after it changed."""
        rows, notes = sort_rows(table, step.sort_by) if step.sort_by else (None, [])
        table = choose(step, table)
        if whole is None or step.form == "package":
            require_key(step, table)
        missing = MissingCodes.resolve(parse_missing_codes(step.missing_code), table.types(), table.name)
        before = table if rows is None else table.take(rows)
        result = cls(step, table, before, table, missing, whole, notes=notes)
        result.show_labels()
        result.transliterate()
        result.shorten_names()
        result.fill_codes()
        return result

    @property
    def prepared(self) -> Prepared:
        """The result, and how to understand it."""
        codes_by_column = {
            name: dict(self.made.dictionary.of(name).missing) if name in self.made.dictionary.coded else {}
            for name in self.made.names
        }
        return Prepared(
            self.before, self.made, self.missing, codes_by_column, self.recodings, self.old_names,
            self.before.dictionary,
        )  # fmt: skip

    def show_labels(self) -> None:
        """Replace codes by labels; a value without a label stays, with a note."""
        if not self.step.show_labels:
            return
        table, dictionary = self.before, self.before.dictionary
        result, unlabelled = show_labels(self.step, table)
        occurring = self.whole or replace(Occurring.of(result), unlabelled=unlabelled)
        rows = []
        for name, here in unlabelled.items():
            # A missing code is dropped if it is now a value.
            entry = dictionary.of(name)
            missing = {code: reason for code, reason in entry.missing.items() if not occurring.count(name, code)}
            entry = keep_valid_parts(entry, table[name], result[name], "mapped").with_parts(missing=missing)
            dictionary = dictionary.with_changed(name, entry)
            count = sum(value.count for value in here.values())
            rows.append((name, len(table) - table[name].missing_count - count, count))
            if values := occurring.unlabelled[name]:
                first = sorted(values, key=lambda text: values[text].first_row.value)[:MOST_SHOWN]
                shown = ", ".join(f"{text} ({values[text].count:,})" for text in first)
                self.notes.append(Note(f"values without a label, written as they are: {shown}.", name, kind="no-label"))
        self.listings.append(Listing("labels in place of codes", ("column", "cells", "without a label"), tuple(rows)))
        self.notes += note_dropped_rules(table.dictionary, dictionary)
        self.before = replace(result, dictionary=dictionary)

    def transliterate(self) -> None:
        """Replace non-ASCII letters, and list them."""
        if not self.step.ascii:
            return
        letters = PlainLetters()
        old = self.before.names
        self.before = letters.convert_table(self.before)
        self._record_names(old)
        if letters.changes:
            rows = tuple(
                (character, new or "(nothing)", count) for (character, new), count in sorted(letters.changes.items())
            )
            self.listings.append(Listing("replaced letters", ("letter", "written as", "cells"), rows))
        if letters.collisions:
            text = "different texts became one: " + ", ".join(letters.collisions[:MOST_SHOWN]) + "."
            self.notes.append(Note(text, kind="texts-met", count=len(letters.collisions)))

    def shorten_names(self) -> None:
        """Shorten names, and list both."""
        if not self.step.names_max:
            return
        old = self.before.names
        new_names = make_short_names(old, self.step.names_max)
        changed = {name: new for name, new in new_names.items() if name != new}
        self.before = rename_columns(self.before, changed)
        self._record_names(old)
        if changed:
            rows = tuple((new, name, self.before.dictionary.of(new).label) for name, new in changed.items())
            self.listings.append(Listing("shortened names", ("name", "was", "label"), rows))

    def _record_names(self, old: list[str]) -> None:
        """Record the first name of each column, and rename columns in the settings."""
        pairs = dict(zip(old, self.before.names, strict=True))
        self.old_names = {new: first for name, new in pairs.items() if (first := self.old_names.get(name, name)) != new}
        by_column = {pairs.get(name, name): codes for name, codes in self.missing.by_column.items()}
        self.missing = replace(self.missing, by_column=by_column)

    def fill_codes(self) -> None:
        """Convert to numbers if the form requires it, and fill codes into missing cells."""
        ready = self.before
        missing = self.missing
        if self.step.form == "bare":
            labels = [ready.dictionary.labels_of(name) for name in ready.names]
            texts = {} if self.whole is None else self.whole.texts
            known = [texts.get(self.old_names.get(name, name)) for name in ready.names]
            recoded = map_in_threads(recode_as_numbers, ready.columns.values(), labels, known, most=2)
            numeric = dict(zip(ready.names, recoded, strict=True))
            self.recodings = {name: recoding for name, (_, recoding) in numeric.items() if recoding.how}
            ready = ready.with_columns({name: column for name, (column, _) in numeric.items()})
            missing = replace(missing, everywhere=missing.everywhere or AUTO)
        occurring = Occurring.of(ready) if self.whole is None else self.whole.rename(self.old_names)
        if missing.everywhere == AUTO:
            is_needed = any(occurring.reasons.values())
            code = find_free_code(ready.dictionary, occurring, missing.specific_codes) if is_needed else ""
            missing = replace(missing, everywhere=code)
        require_unused_codes(ready.dictionary, occurring, missing)
        coded = choose_codes(ready, occurring, missing)
        columns = {
            name: fill_codes(column, coded[name], self.step.delivery.text) for name, column in ready.columns.items()
        }
        self.missing, self.occurring = missing, occurring
        self.made = replace(ready, columns=columns, dictionary=make_coded_dictionary(ready, coded))


def require_key_somewhere(step: Export, tables: Sequence[Table]) -> None:
    """Stop if no table of a package has the primary key."""
    key = step.primary_key
    if step.form != "package" or not key or any(set(key) <= set(table.names) for table in tables):
        return
    names = list(dict.fromkeys(name for table in tables for name in table.names))
    for name in key:
        if name not in names:
            raise unknown_column_error(name, names, "any of the tables" if len(tables) > 1 else tables[0].name)
    raise UsageError(f"No table has all of the primary key {', '.join(key)}.", todo="Name columns of one table.")


def require_key(step: Export, table: Table) -> None:
    """Stop if the primary key is missing in a row or repeated; tables of a package need not have it.

    Raises DataError with rows and values.
    """
    key = tuple(name for name in step.primary_key if step.form != "package" or name in table.columns)
    if not key or (step.form == "package" and len(key) < len(step.primary_key)):
        return
    for offset, name in enumerate(key):
        if rows := table[name].missing_count:
            shown = [(number, str(number)) for number, _ in table.show_rows(np.flatnonzero(table[name].is_missing))]
            raise DataError(
                Words("{name} is missing in {rows:row}, so it does not uniquely identify rows.", name=name, rows=rows),
                where=Shown(shown, rows, f"{table.name}, row "),
                todo="Name another ‹primary_key›, or leave these rows out first.",
                rank=offset - len(key),
            )
    codes, size = encode_rows(table, key)
    counts = np.bincount(codes, minlength=size)
    if counts.max(initial=0) < 2 or step.form == "package":
        return
    repeated = show_repeated(table, key, codes, counts)
    raise DataError(
        Words("{keys:key occurs|keys occur} in several rows, so {key} cannot be the primary key.",
              keys=repeated.total, key=" and ".join(key)),
        where=repeated,
        todo="Name columns that together uniquely identify rows, such as case and occasion.",
    )  # fmt: skip
