"""Dictionary: what is known of each variable, and the named lists of codes that variables share."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from lomrix.core.table.header import match_pattern, parse_pattern
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.scale import Scale
from lomrix.core.table.variable import NO_ENTRY, Variable

Codes = Mapping[str, str]


@dataclass(frozen=True)
class Dictionary:
    """Variables by name, code lists by name, and a team's own rules: expressions that should be true of every row.

    A variable's name may be a header template such as `sleep_m{month}`; it then describes every column that fits, and
    braces in its label are filled in. After reshaping, `other_layout` records the table's previous layout. `coded`
    names the variables whose cells hold missing codes as values, as in a table prepared for export.
    """

    variables: Mapping[str, Variable] = field(default_factory=dict)
    codes: Mapping[str, Codes] = field(default_factory=dict)
    rules: Mapping[str, str] = field(default_factory=dict)
    other_layout: OtherLayout | None = None
    coded: frozenset[str] = frozenset()
    scales: Mapping[str, Scale] = field(default_factory=dict)

    def of(self, name: str) -> Variable:
        """Return the entry of a column, by its name or else by the first template that fits."""
        if name in self.variables:
            return self.variables[name]
        for pattern, variable in self.variables.items():
            if "{" not in pattern:
                continue
            reading = match_pattern(parse_pattern(pattern), name)
            if reading is not None:
                label = variable.label
                for occasion, value in reading.items():
                    label = label.replace("{" + occasion + "}", value)
                return variable.with_parts(label=label)
        return NO_ENTRY

    def labels_of(self, name: str) -> Codes:
        """Return code to label for a column; empty if the column has no list of codes."""
        codes = self.of(name).codes
        return self.codes.get(codes, {}) if codes is not None else {}

    def for_columns(self, names: Iterable[str]) -> Dictionary:
        """Return the dictionary of just these columns: templates filled in, unused code lists left out."""
        variables = {name: self.of(name) for name in names}
        variables = {name: entry for name, entry in variables.items() if entry != NO_ENTRY}
        used = {entry.codes for entry in variables.values()}
        return replace(
            self, variables=variables, codes={name: codes for name, codes in self.codes.items() if name in used}
        )

    def for_reading(self, names: Iterable[str]) -> Dictionary:
        """Return the dictionary with templates filled in for the columns of a file, keeping all other entries.

        They are needed later for columns that a step creates, such as the month that `to-long` finds in the names.
        """
        return replace(self, variables={**self.for_columns(names).variables, **self.variables})

    def with_variable(self, name: str, variable: Variable) -> Dictionary:
        """Return the dictionary with one entry added or replaced."""
        return replace(self, variables={**self.variables, name: variable})

    def with_changed(self, name: str, variable: Variable) -> Dictionary:
        """Return the dictionary with the entry of a variable whose values are others now, without rules about it."""
        rules = {rule: text for rule, text in self.rules.items() if name not in list_words(text)}
        return replace(self.with_variable(name, variable), rules=rules)

    def with_other_layout(self, memory: OtherLayout | None) -> Dictionary:
        """Return the dictionary with another record of the other layout, or none."""
        return replace(self, other_layout=memory)

    def with_coded(self, names: Iterable[str]) -> Dictionary:
        """Return the dictionary with the variables set whose cells hold missing codes as values."""
        return replace(self, coded=frozenset(names))

    def with_codes(self, name: str, codes: Codes) -> Dictionary:
        """Return the dictionary with one list of codes added or replaced."""
        return replace(self, codes={**self.codes, name: codes})

    def add_codes(self, variable: str, codes: Codes, name: str = "") -> tuple[str, Dictionary]:
        """Add a list of codes for a variable, and return its name: that of the variable if none is given, but not one
        that other variables use for other codes.
        """
        used = {entry.codes for other, entry in self.variables.items() if other != variable}
        name = name or variable
        new, number = name, 2
        while new in used and dict(self.codes.get(new, {})) != dict(codes):
            new, number = f"{name}_{number}", number + 1
        return new, self.with_codes(new, codes)

    def without_tokens(self) -> Dictionary:
        """Return the dictionary without missing codes that only repeat their reason, as in files written by Lomrix."""
        variables = {
            name: entry.with_parts(
                missing={code: why for code, why in entry.missing.items() if code.strip("[]") != why}
            )
            for name, entry in self.variables.items()
        }
        return replace(self, variables=variables)

    def combine(self, later: Dictionary) -> Dictionary:
        """Return what holds in two parts of one table."""
        if self == later:
            return self
        variables = {
            name: entry.combine(later.variables[name])
            for name, entry in self.variables.items()
            if name in later.variables
        }
        rules = {name: rule for name, rule in self.rules.items() if name in later.rules}
        return replace(self, variables=variables, codes={**later.codes, **self.codes}, rules=rules)

    def join(self, other: Dictionary, *, extends_codes: bool = True) -> Dictionary:
        """Join two dictionaries; what the first leaves open for a variable comes from the second.

        A code list of the same name but other contents is renamed. With `extends_codes`, codes that only the second
        labels are added to the first's.
        """
        codes = dict(self.codes)
        renamed: dict[str, str] = {}
        for name, entries in other.codes.items():
            new, number = name, 2
            while new in codes and dict(codes[new]) != dict(entries):
                new, number = f"{name}_{number}", number + 1
            codes[new] = entries
            renamed[name] = new
        variables = dict(self.variables)
        for name, entry in other.variables.items():
            if entry.codes is not None:
                entry = entry.with_parts(codes=renamed.get(entry.codes, entry.codes))
            known = variables.get(name)
            if extends_codes and known is not None and known.codes and entry.codes and known.codes != entry.codes:
                labels = codes.get(known.codes, {})
                codes[known.codes] = {
                    **labels,
                    **{code: label for code, label in codes[entry.codes].items() if code not in labels},
                }
            variables[name] = entry if known is None else fill_in(known, entry)
        return Dictionary(
            variables,
            codes,
            {**other.rules, **self.rules},
            self.other_layout or other.other_layout,
            scales={**other.scales, **self.scales},
        )


def list_words(rule: str) -> set[str]:
    """Return the words of a rule that may be variables, also those in quotes.

    >>> sorted(list_words("count_of('f1, f2') > 3"))
    ['3', 'count_of', 'f1', 'f2']
    """
    return set(re.findall(r"\w+", rule))


def rename_in_rule(rule: str, names: Mapping[str, str]) -> str:
    """Return a rule with other names of variables; texts in quotes stay.

    >>> rename_in_rule("sex in ('sex', 'x') or age > 16", {"sex": "gender"})
    "gender in ('sex', 'x') or age > 16"
    """
    return re.sub(r"'[^']*'|\"[^\"]*\"|\w+", lambda word: names.get(word[0], word[0]), rule)


def fill_in(first: Variable, second: Variable) -> Variable:
    """Return the first entry, with the parts it leaves open taken from the second."""
    open_parts = {
        part: value for part, value in second if getattr(first, part) in (None, "", {}, ()) and part != "missing"
    }
    return first.with_parts(**open_parts, missing={**second.missing, **first.missing})
