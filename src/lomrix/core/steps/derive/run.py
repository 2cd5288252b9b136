"""New variables computed one after the other, with an account of their cells."""

from __future__ import annotations

import ast
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from lomrix.core.errors import UsageError
from lomrix.core.language.carried import carried_into
from lomrix.core.language.evaluate import evaluated
from lomrix.core.language.parse import names_used, parsed
from lomrix.core.language.scope import Scope
from lomrix.core.steps.account import Account, Balance, Listing, kept_cells
from lomrix.core.steps.derive.settings import Derive, assignments_of, namings_of, renamed_to, said_of_names
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.changed_variable import keep_what_holds, notes_on_dropped
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.renaming import renamed_table
from lomrix.core.table.selection import chosen_columns, unknown_column
from lomrix.core.table.table import Table
from lomrix.core.table.variable import NOTHING_KNOWN, Variable

MOST_EXAMPLES = 3


def derived(step: Derive, tables: Inputs, wanted: Collection[str]) -> Result:
    """Derive what was asked for."""
    work = Deriving(step, tables.one())
    for assignment in assignments_of(step.expressions):
        for name, expression in assignment.named(work.table.types(), work.table.name):
            work.add(name, expression)
    work.describe()
    work.place()
    names = work.new_names()
    made = renamed_table(work.table, names)
    return Result(made, work.account(made, names), shown=work.shown(names))


@dataclass
class Deriving:
    """A table that gets new variables.

    Parameters
    ----------
    step
        What was asked for.
    before
        The table as it was.
    made
        By new variable its expression, in order.
    """

    step: Derive
    before: Table
    made: dict[str, str] = field(default_factory=dict)
    dropped: dict[str, tuple[Variable, Variable]] = field(default_factory=dict)
    reports: list[Note] = field(default_factory=list)

    def __post_init__(self) -> None:
        for name in (*self.step.case, *self.step.occasion, *([self.step.after] if self.step.after else [])):
            if name not in self.before.columns:
                raise unknown_column(name, self.before.names, self.before.name)
        self.scope = Scope(self.before, self.step.case, self.step.occasion)

    @property
    def table(self) -> Table:
        """The table as far as it is."""
        return self.scope.table

    def add(self, name: str, expression: str) -> None:
        """Compute one variable.

        Raises
        ------
        UsageError
            Where the name is taken and nobody said that it may be replaced, or the expression does not fit the table.
        """
        if name in self.table.columns and not self.step.replace:
            raise UsageError(
                f"There is a column named {name} already.",
                todo="Give the new variable another name, or say ‹replace›.",
            )
        column = evaluated(expression, self.scope)
        old = self.table.columns.get(name)
        column = column if old is None else column.fitting(old.type)
        dictionary = self._described(name, expression, column)
        self.reports += [replace(note, column=name) for note in self.scope.reports]
        self.scope.reports.clear()
        self.scope.changed(replace(self.table, columns={**self.table.columns, name: column}, dictionary=dictionary))
        self.made[name] = expression

    def _described(self, name: str, expression: str, column: Column) -> Dictionary:
        """The dictionary with an entry that says how a variable was made, and what follows from its ingredients."""
        dictionary, tree = self.table.dictionary, parsed(expression)
        carried = carried_into(tree, dictionary)
        old = dictionary.of(name) if name in self.table.columns else NOTHING_KNOWN
        before = self.table.columns.get(name, column)
        if carried.entry != NOTHING_KNOWN:
            # Values of a variable that is there: what holds of it holds of them, but for what it is called.
            source = self.table.columns.get(carried.name, column)
            entry = keep_what_holds(carried.entry, source, column, "own values")
            if not carried.is_copy and old.label != entry.label:
                entry = entry.with_(label=old.label)
        else:
            entry = keep_what_holds(old, before, column, "computed")
        if carried.labels is not None:
            dictionary = dictionary.with_codes(name, carried.labels)
            entry = entry.with_(codes=name)
        entry = entry.with_(description=told_origin(tree, expression))
        self.dropped[name] = (self.dropped[name][0] if name in self.dropped else old, entry)
        return dictionary.with_variable(name, entry)

    def describe(self) -> None:
        """Put in the labels and units that were said."""
        dictionary = self.table.dictionary
        for part, words in (("label", self.step.label), ("unit", self.step.unit)):
            for name, text in said_of_names(words).items():
                if name not in self.made:
                    raise UsageError(
                        f"‹{part}› speaks of {name}, which is no new variable.",
                        todo=f"New ones are {', '.join(self.made)}.",
                    )
                dictionary = dictionary.with_variable(name, dictionary.of(name).with_(**{part: text}))
        self.scope.changed(replace(self.table, dictionary=dictionary))

    def place(self) -> None:
        """Put the new variables behind the column that was said."""
        if not self.step.after:
            return
        new = [name for name in self.made if name not in self.before.columns]
        old = [name for name in self.table.names if name not in new]
        at = old.index(self.step.after) + 1
        order = [*old[:at], *new, *old[at:]]
        self.scope.changed(replace(self.table, columns={name: self.table[name] for name in order}))

    def new_names(self) -> dict[str, str]:
        """Old and new name of each column that is renamed.

        Raises
        ------
        UsageError
            Where there is no such column, or its new name is taken.
        """
        names, types = self.table.names, self.table.types()
        told = renamed_to(self.step.rename)
        for name in told:
            if name not in types:
                raise unknown_column(name, names, self.table.name)
        for words, naming in namings_of(self.step.rename_with):
            key = {*self.step.case, *self.step.occasion, *told}
            some = chosen_columns(words, types, self.table.name) if words else [n for n in names if n not in key]
            told |= {name: naming.replace("{old}", name) for name in some if name not in told}
        told = {old: new for old, new in told.items() if old != new}
        taken = {told.get(name, name): name for name in names}
        if len(taken) < len(names):
            clash = next(name for name in names if taken[told.get(name, name)] != name)
            raise UsageError(
                f"Two columns would be named {told.get(clash, clash)}: {clash} and {taken[told.get(clash, clash)]}.",
                todo="Give another name.",
            )
        return told

    def shown(self, names: Mapping[str, str]) -> tuple[str, ...]:
        """The columns that a rehearsal shows: who and when, the ingredients, and what came of them."""
        used = [name for text in self.made.values() for name in names_used(parsed(text))]
        first = [*self.step.case, *self.step.occasion] or self.before.names[:1]
        order = dict.fromkeys([*first, *used, *self.made]) if self.made else dict.fromkeys(self.table.names)
        return tuple(names.get(name, name) for name in order if name in self.table.columns)

    # ----------------------------------------------------------------- account

    def account(self, made: Table, names: Mapping[str, str]) -> Account:
        """What came of it: cells with a value and without, reason by reason."""
        new = [name for name in self.made if name not in self.before.columns]
        replaced = [name for name in self.made if name in self.before.columns]
        kept = [name for name in self.before.names if name not in replaced]
        done = [
            words
            for words in (
                f"{counted(len(new), 'variable', 'variables')} derived" if new else "",
                f"{len(replaced):,} replaced" if replaced else "",
                f"{len(names):,} renamed" if names else "",
            )
            if words
        ]
        return Account(
            "derive",
            f"{', '.join(done) or 'nothing changed'}; {counted(len(made), 'row', 'rows')} as before.",
            (
                Balance("rows", len(self.before), (("in the result", len(made)),), quiet=True),
                Balance(
                    "columns of the result",
                    len(made.names),
                    tuple((word, n) for word, n in (("as before", len(kept)), ("new", len(new)),
                                                    ("replaced", len(replaced))) if n),
                ),
                kept_cells(self.before.only(kept), self.table.only(kept)),
                *(self._cells(name) for name in self.made),
            ),
            {"variables": {names.get(name, name): text for name, text in self.made.items()}, "renamed": dict(names)},
            tuple(self._listings(names)),
            (
                *self.scope.order_notes,
                *self.reports,
                *notes_on_dropped((names.get(name, name), *pair) for name, pair in self.dropped.items()),
                *(note for name in self.made for note in self._notes(name, names)),
            ),
        )  # fmt: skip

    def _cells(self, name: str) -> Balance:
        column = self.table[name]
        values = int(np.count_nonzero(~column.is_missing))
        parts = (("with a value", values), *((why, count) for why, count in column.reason_counts().items()))
        return Balance(f"cells of {name}", len(self.before), parts, quiet=True)

    def _listings(self, names: Mapping[str, str]) -> list[Listing]:
        lines = []
        for name in self.made:
            column = self.table[name]
            counts = column.reason_counts()
            why = ", ".join(f"{count:,} {reason}" for reason, count in counts.items()) or "none"
            lines.append((names.get(name, name), column.type, len(column) - column.missing_count, *ends(column), why))
        listings = []
        if lines:
            heads = ("variable", "type", "values", "smallest", "largest", "missing")
            listings.append(Listing("what came of it", heads, tuple(lines)))
        renamed = {old: new for old, new in names.items() if old not in self.made}
        if renamed:
            listings.append(Listing("renamed", ("old", "new"), tuple(renamed.items())))
        return listings

    def _notes(self, name: str, names: Mapping[str, str]) -> list[Note]:
        column = self.table[name]
        notes = []
        number = column.reasons.index(UNDEFINED) + 1 if UNDEFINED in column.reasons else 0
        rows = np.flatnonzero(column.why == number) if number and column.why is not None else np.zeros(0, np.int64)
        used = [one for one in names_used(parsed(self.made[name])) if one in self.before.columns]
        if len(rows):
            some = rows[:MOST_EXAMPLES]
            told = [", ".join(f"{one} {text_of(self.before[one], row)}" for one in used) for row in some.tolist()]
            examples = tuple(zip((some + self.before.first_row).tolist(), told, strict=True))
            text = f"{counted(len(rows), 'cell', 'cells')} undefined: {self.made[name]} has no value there."
            notes.append(Note(text, names.get(name, name), examples, "undefined", len(rows)))
        labels = self.table.dictionary.labels_of(name)
        if labels and self.table.dictionary.of(name).codes == name:
            told_codes = ", ".join(f"{code} {label}" for code, label in labels.items())
            notes.append(Note(f"codes: {told_codes}.", names.get(name, name), (), "codes", len(labels), done=True))
        if not len(rows) and len(column) and column.is_without_values:
            text = f"no cell has a value: {self.made[name]}."
            notes.append(Note(text, names.get(name, name), (), "no-value", len(column)))
        return notes


def told_origin(tree: ast.expr, expression: str) -> str:
    """How a variable was made, for its entry in the dictionary."""
    name = tree.id if isinstance(tree, ast.Name) else ""
    return f"Copy of {name}." if name else f"Derived: {expression}"


def ends(column: Column) -> tuple[str, str]:
    """The smallest and the largest value, of texts nothing."""
    present = column.values[~column.is_missing]
    if column.type == "string" or not len(present):
        return "", ""
    pair = Column.of(column.type, np.array([present.min(), present.max()]))
    if column.type == "number":
        return f"{pair.values[0]:.6g}", f"{pair.values[1]:.6g}"
    first, last = pair.to_text().to_pylist()
    return str(first), str(last)


def text_of(column: Column, row: int) -> str:
    """A cell as it is read."""
    text = column.part(row, row + 1).first_text()
    return "—" if text is None else text
