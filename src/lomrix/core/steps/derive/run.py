"""Compute new variables one after the other, with an account of their cells."""

from __future__ import annotations

import ast
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from lomrix.core.combining import MOST_EXAMPLES, Extreme, Words, combine, combine_all
from lomrix.core.errors import UsageError
from lomrix.core.language.carried import inherit_entry
from lomrix.core.language.evaluate import evaluate
from lomrix.core.language.evidence import find_evidence
from lomrix.core.language.functions import KINDS
from lomrix.core.language.parse import find_names, load_functions, parse
from lomrix.core.language.scope import Scope, Survey
from lomrix.core.steps.account import Account, Balance, Listing, Part, balance_values
from lomrix.core.steps.derive.settings import (
    Derive,
    parse_assignments,
    parse_namings,
    parse_renames,
    parse_texts_by_name,
)
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column, OneType
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.entry_changes import (
    keep_valid_parts,
    note_dropped_parts,
    note_dropped_rules,
)
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.numbers import Type
from lomrix.core.table.reasons import UNDEFINED
from lomrix.core.table.renaming import rename_columns
from lomrix.core.table.selection import choose_columns, unknown_column_error
from lomrix.core.table.table import Table
from lomrix.core.table.variable import NO_ENTRY, Variable

NO_SURVEY = Survey()


def survey(step: Derive, tables: Inputs) -> Survey:
    """Survey the occasions, and the columns that statistics of a case are computed from."""
    table = tables.get_one()
    if step.division.kind == "any rows":
        return NO_SURVEY
    expressions = [
        expression
        for assignment in parse_assignments(step.expressions)
        for _, expression in assignment.list_variables(table.types(), table.name)
    ]
    names = dict.fromkeys(name for expression in expressions for name in find_names(parse(expression)))
    return Survey.of(table, step.occasion, [name for name in names if name in table.columns])


def derive(step: Derive, tables: Inputs, wanted: Collection[str], whole: Survey = NO_SURVEY) -> Result:
    """Derive what was asked for; `whole` is the survey of all parts."""
    derivation = Derivation(step, tables.get_one(), whole)
    for assignment in parse_assignments(step.expressions):
        for name, expression in assignment.list_variables(derivation.table.types(), derivation.table.name):
            derivation.add(name, expression)
    derivation.describe()
    derivation.move_after()
    names = derivation.find_new_names()
    result = rename_columns(derivation.table, names)
    account, tally = derivation.make_account(result, names), derivation.make_tally(names)
    return Result(result, account, shown=derivation.choose_shown(names), tally=tally)


@dataclass(frozen=True)
class VariableTally:
    """The cells of a new variable."""

    type: OneType
    rows: int
    values: int
    minimum: Extreme
    maximum: Extreme
    missing: dict[str, int]  # by reason
    undefined: Note
    expression: str
    labels: str  # its codes, if they are its own

    @classmethod
    def count(cls, column: Column, undefined: Note, expression: str, labels: str) -> VariableTally:
        """Count the cells of a column."""
        present = column.values[~column.is_missing]
        ends = (None, None) if column.type == "string" or not len(present) else (present.min(), present.max())
        return cls(
            OneType(column.type, is_certain=len(present) > 0), len(column), len(present), Extreme(ends[0], False),
            Extreme(ends[1], True), column.reason_counts(), undefined, expression, labels,
        )  # fmt: skip

    def make_line(self, name: str) -> tuple[object, ...]:
        """Return the line of the listing."""
        why = ", ".join(f"{count:,} {reason}" for reason, count in sorted(self.missing.items())) or "none"
        return (
            name,
            self.type.name,
            self.values,
            *format_range(self.type.name, self.minimum.value, self.maximum.value),
            why,
        )

    def make_notes(self, name: str) -> list[Note]:
        """Note undefined cells, codes, and a variable without any value."""
        notes = [self.undefined]
        if self.labels:
            count = self.labels.count(", ") + 1
            notes.append(Note(f"codes: {self.labels}.", name, (), "codes", count, done=True))
        if self.undefined.is_empty and self.rows and not self.values:
            notes.append(Note(f"no cell has a value: {self.expression}.", name, (), "no-value", self.rows))
        return notes


@dataclass(frozen=True)
class Tally:
    """What the account needs of each part: new variables, entries before and after, and dictionaries."""

    variables: dict[str, VariableTally]
    dropped: dict[str, tuple[Variable, Variable]]
    before: Dictionary
    after: Dictionary
    renamed: Mapping[str, str]
    evidence: Mapping[str, CodeEvidence]  # of missing codes among the numbers that were computed with

    def combine(self, later: Tally) -> Tally:
        """Add the cells of a later part; what no longer holds in one part does not hold."""
        dropped = {name: (old, new.combine(later.dropped[name][1])) for name, (old, new) in self.dropped.items()}
        after = self.after.combine(later.after)
        variables, evidence = combine(self.variables, later.variables), combine(self.evidence, later.evidence)
        return replace(self, variables=variables, dropped=dropped, after=after, evidence=evidence)


def conclude(step: Derive, account: Account, tallies: Sequence[Tally]) -> Account:
    """Complete the account with the new variables."""
    tally = combine_all(tallies)
    listings = []
    if tally.variables:
        heads = ("variable", "type", "values", "minimum", "maximum", "missing")
        lines = (variable.make_line(name) for name, variable in tally.variables.items())
        listings.append(Listing("new variables", heads, tuple(lines)))
    notes = (
        *account.notes,
        *note_dropped_parts((tally.renamed.get(name, name), *pair) for name, pair in tally.dropped.items()),
        *note_dropped_rules(tally.before, tally.after),
        *(note for name, variable in tally.variables.items() for note in variable.make_notes(name)),
        *(note for name, evidence in tally.evidence.items() for note in evidence.make_notes(name, tally.before)),
    )
    return replace(account, listings=(*listings, *account.listings), notes=notes)


@dataclass
class Derivation:
    """A table that gets new variables; `made` maps each new variable to its expression."""

    step: Derive
    before: Table
    whole: Survey
    made: dict[str, str] = field(default_factory=dict)
    dropped: dict[str, tuple[Variable, Variable]] = field(default_factory=dict)
    reports: list[Note] = field(default_factory=list)

    def __post_init__(self) -> None:
        for name in (*self.step.case, *self.step.occasion, *([self.step.after] if self.step.after else [])):
            if name not in self.before.columns:
                raise unknown_column_error(name, self.before.names, self.before.name)
        self.scope = Scope(self.before, self.step.case, self.step.occasion, survey=self.whole)

    @property
    def table(self) -> Table:
        """The table so far."""
        return self.scope.table

    def add(self, name: str, expression: str) -> None:
        """Compute one variable.

        Raises UsageError if the name is used and may not be replaced, or the expression does not fit the table.
        """
        if name in self.table.columns and not self.step.replace:
            raise UsageError(
                f"The column {name} already exists.",
                todo="Give the new variable another name, or use ‹replace›.",
            )
        column = evaluate(expression, self.scope)
        old = self.table.columns.get(name)
        column = column if old is None else column.fit_type(old.type)
        dictionary = self._describe(name, expression, column)
        self.reports += [replace(note, column=name) for note in self.scope.reports]
        self.scope.reports.clear()
        self.scope.set_table(replace(self.table, columns={**self.table.columns, name: column}, dictionary=dictionary))
        self.made[name] = expression

    def _describe(self, name: str, expression: str, column: Column) -> Dictionary:
        """Return the dictionary with an entry that records how a variable was made, and what it inherits."""
        dictionary, tree = self.table.dictionary, parse(expression)
        inherited = inherit_entry(tree, dictionary)
        old = dictionary.of(name) if name in self.table.columns else NO_ENTRY
        before = self.table.columns.get(name, column)
        if inherited.entry != NO_ENTRY:
            # Values of an existing variable: its entry holds for them, except for the label.
            source = self.table.columns.get(inherited.name, column)
            entry = keep_valid_parts(inherited.entry, source, column, "own values")
            if not inherited.is_copy and old.label != entry.label:
                entry = entry.with_parts(label=old.label)
        else:
            entry = keep_valid_parts(old, before, column, "computed")
        if inherited.labels is not None:
            codes, dictionary = dictionary.add_codes(name, inherited.labels)
            entry = entry.with_parts(codes=codes)
        entry = entry.with_parts(description=describe_origin(tree, expression))
        self.dropped[name] = (self.dropped[name][0] if name in self.dropped else old, entry)
        is_replaced = name in self.before.columns
        return dictionary.with_changed(name, entry) if is_replaced else dictionary.with_variable(name, entry)

    def describe(self) -> None:
        """Add the stated labels and units."""
        dictionary = self.table.dictionary
        for part, texts in (("label", self.step.label), ("unit", self.step.unit)):
            for name, text in parse_texts_by_name(texts).items():
                if name not in self.made:
                    raise UsageError(
                        f"‹{part}› names {name}, which is not a new variable.",
                        todo=f"New ones are {', '.join(self.made)}.",
                    )
                dictionary = dictionary.with_variable(name, dictionary.of(name).with_parts(**{part: text}))
        self.scope.set_table(replace(self.table, dictionary=dictionary))

    def move_after(self) -> None:
        """Move the new variables after the stated column."""
        if not self.step.after:
            return
        new = [name for name in self.made if name not in self.before.columns]
        old = [name for name in self.table.names if name not in new]
        index = old.index(self.step.after) + 1
        order = [*old[:index], *new, *old[index:]]
        self.scope.set_table(replace(self.table, columns={name: self.table[name] for name in order}))

    def find_new_names(self) -> dict[str, str]:
        """Return old and new name of each renamed column.

        Raises UsageError if there is no such column, or its new name is already used.
        """
        names, types = self.table.names, self.table.types()
        new_by_old = parse_renames(self.step.rename)
        for name in new_by_old:
            if name not in types:
                raise unknown_column_error(name, names, self.table.name)
        for choice, naming in parse_namings(self.step.rename_with):
            key = {*self.step.case, *self.step.occasion, *new_by_old}
            chosen = choose_columns(choice, types, self.table.name) if choice else [n for n in names if n not in key]
            new_by_old |= {name: naming.replace("{old}", name) for name in chosen if name not in new_by_old}
        new_by_old = {old: new for old, new in new_by_old.items() if old != new}
        old_by_new = {new_by_old.get(name, name): name for name in names}
        if len(old_by_new) < len(names):
            clash = next(name for name in names if old_by_new[new_by_old.get(name, name)] != name)
            new = new_by_old.get(clash, clash)
            raise UsageError(
                f"Two columns would be named {new}: {clash} and {old_by_new[new]}.",
                todo="Choose another name.",
            )
        return new_by_old

    def choose_shown(self, names: Mapping[str, str]) -> tuple[str, ...]:
        """Return the columns that a rehearsal shows: case, occasion, ingredients, results."""
        used = [name for text in self.made.values() for name in find_names(parse(text))]
        first = [*self.step.case, *self.step.occasion] or self.before.names[:1]
        order = dict.fromkeys([*first, *used, *self.made]) if self.made else dict.fromkeys(self.table.names)
        return tuple(names.get(name, name) for name in order if name in self.table.columns)

    # ----------------------------------------------------------------- account

    def make_account(self, result: Table, names: Mapping[str, str]) -> Account:
        """Report cells with a value and without, reason by reason."""
        new = [name for name in self.made if name not in self.before.columns]
        replaced = [name for name in self.made if name in self.before.columns]
        kept = [name for name in self.before.names if name not in replaced]
        done = [
            text
            for text in (
                f"{pluralize(len(new), 'variable')} derived" if new else "",
                f"{len(replaced):,} replaced" if replaced else "",
                f"{len(names):,} renamed" if names else "",
            )
            if text
        ]
        renamed = {old: new for old, new in names.items() if old not in self.made}
        return Account(
            "derive",
            Words("{done}; {rows:row} as before.", done=", ".join(done) or "nothing changed", rows=len(result)),
            (
                Balance("rows", len(self.before), (Part("kept", len(result)),), quiet=True),
                Balance(
                    "columns of the result",
                    len(result.names),
                    (
                        Part("kept", len(kept), "as-before"),
                        Part("added", len(new), "new"),
                        Part("changed", len(replaced), "replaced"),
                    ),
                ),
                balance_values(self.before.only(kept), self.table.only(kept)),
                *(self._balance_cells(name) for name in self.made),
            ),
            {"variables": {names.get(name, name): text for name, text in self.made.items()}, "renamed": dict(names)},
            (Listing("renamed", ("old", "new"), tuple(renamed.items())),) if renamed else (),
            (*self.scope.order_notes, *self.reports),
        )  # fmt: skip

    def _balance_cells(self, name: str) -> Balance:
        column = self.table[name]
        values = int(np.count_nonzero(~column.is_missing))
        missing = (Part("missing", count, reason=reason) for reason, count in column.reason_counts().items())
        return Balance("cells", len(self.before), (Part("kept", values, "present"), *missing), name, quiet=True)

    def make_tally(self, names: Mapping[str, str]) -> Tally:
        """Count the cells of the new variables."""
        variables = {}
        for name, expression in self.made.items():
            list_name = self.table.dictionary.of(name).codes
            is_own = list_name == name or list_name not in self.before.dictionary.codes
            labels = self.table.dictionary.labels_of(name) if is_own else {}
            codes = ", ".join(f"{code} {label}" for code, label in labels.items())
            undefined = self._note_undefined(name, names.get(name, name))
            variables[names.get(name, name)] = VariableTally.count(self.table[name], undefined, expression, codes)
        keys = (*self.step.case, *self.step.occasion)
        evidence = find_evidence(self.made.values(), self.before, self.table.types(), keys)
        return Tally(variables, self.dropped, self.before.dictionary, self.table.dictionary, names, evidence)

    def _note_undefined(self, name: str, new_name: str) -> Note:
        column = self.table[name]
        number = column.reasons.index(UNDEFINED) + 1 if UNDEFINED in column.reasons else 0
        rows = np.flatnonzero(column.why == number) if number and column.why is not None else np.zeros(0, np.int64)
        used = [column_name for column_name in find_names(parse(self.made[name])) if column_name in self.before.columns]
        first_rows = rows[:MOST_EXAMPLES]
        ingredients = [
            ", ".join(f"{column_name} {format_cell(self.before[column_name], row)}" for column_name in used)
            for row in first_rows.tolist()
        ]
        examples = self.before.show_rows(first_rows, ingredients)
        text = Words("{cells:cell} undefined: {made} has no value there.", cells=len(rows), made=self.made[name])
        return Note(text, new_name, examples, "undefined", len(rows))


def describe_origin(tree: ast.expr, expression: str) -> str:
    """Describe how a variable was made, for its dictionary entry."""
    name = tree.id if isinstance(tree, ast.Name) else ""
    return f"Copy of {name}." if name else f"Derived: {expression}"


def format_range(type_: Type, minimum: Any, maximum: Any) -> tuple[str, str]:
    """Return minimum and maximum as text; empty if there are none."""
    if minimum is None:
        return "", ""
    if type_ == "number":
        return f"{minimum:.6g}", f"{maximum:.6g}"
    first, last = Column.of(type_, np.array([minimum, maximum])).to_text().to_pylist()
    return str(first), str(last)


def format_cell(column: Column, row: int) -> str:
    """Format one cell."""
    text = column.slice(row, row + 1).first_text()
    return "—" if text is None else text


HEADS = ("function", "result", "example")


def list_functions() -> list[Listing]:
    """Return one listing for each kind of function."""
    kinds: dict[str, list[tuple[str, str, str]]] = {kind: [] for kind in KINDS}
    for function in load_functions().values():
        kinds[function.group].append((function.usage, function.description, function.examples[0]))
    return [Listing(kind, HEADS, tuple(lines)) for kind, lines in kinds.items()]
