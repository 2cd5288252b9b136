"""Dictionary: what is known of each variable, and the named lists of codes that variables share."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from lomrix.core.table.header import pattern_of, speaks_of
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.scale import Scale
from lomrix.core.table.variable import NOTHING_KNOWN, Variable

Codes = Mapping[str, str]


@dataclass(frozen=True)
class Dictionary:
    """Variables by name, code lists by name, and a team's own rules: expressions that should be true of every row.

    A variable's name may be a header template such as `sleep_m{month}`; it then speaks of every column that
    fits, and braces in its label are filled in. Where the table was turned between wide and long, `other_layout`
    remembers what it looked like before. `coded` names the variables in whose cells the missing codes stand as values,
    as they do once a table was made ready for another program. `scales` are scored together by name.
    """

    variables: Mapping[str, Variable] = field(default_factory=dict)
    codes: Mapping[str, Codes] = field(default_factory=dict)
    rules: Mapping[str, str] = field(default_factory=dict)
    other_layout: OtherLayout | None = None
    coded: frozenset[str] = frozenset()
    scales: Mapping[str, Scale] = field(default_factory=dict)

    def of(self, name: str) -> Variable:
        """The entry for a column, by its name or else by the first template that fits."""
        if name in self.variables:
            return self.variables[name]
        for pattern, variable in self.variables.items():
            if "{" not in pattern:
                continue
            reading = speaks_of(pattern_of(pattern), name)
            if reading is not None:
                label = variable.label
                for occasion, value in reading.items():
                    label = label.replace("{" + occasion + "}", value)
                return variable.with_(label=label)
        return NOTHING_KNOWN

    def labels_of(self, name: str) -> Codes:
        """Code to label for a column; empty where the column has no list of codes."""
        codes = self.of(name).codes
        return self.codes.get(codes, {}) if codes is not None else {}

    def for_columns(self, names: Iterable[str]) -> Dictionary:
        """The dictionary of just these columns: templates filled in, lists of codes nobody uses left out."""
        variables = {name: self.of(name) for name in names}
        variables = {name: entry for name, entry in variables.items() if entry != NOTHING_KNOWN}
        used = {entry.codes for entry in variables.values()}
        return replace(
            self, variables=variables, codes={name: codes for name, codes in self.codes.items() if name in used}
        )

    def for_reading(self, names: Iterable[str]) -> Dictionary:
        """The dictionary with templates filled in for the columns of a file, and all else that it says kept.

        What it says of columns that a step will make is wanted then: of the month that `to-long` finds in the names.
        """
        return replace(self, variables={**self.for_columns(names).variables, **self.variables})

    def with_variable(self, name: str, variable: Variable) -> Dictionary:
        """The dictionary with one entry added or replaced."""
        return replace(self, variables={**self.variables, name: variable})

    def with_other_layout(self, memory: OtherLayout | None) -> Dictionary:
        """The dictionary with a memory of the other layout, or with none."""
        return replace(self, other_layout=memory)

    def with_coded(self, names: Iterable[str]) -> Dictionary:
        """The dictionary of a table in whose cells the missing codes of some variables stand as values."""
        return replace(self, coded=frozenset(names))

    def with_codes(self, name: str, codes: Codes) -> Dictionary:
        """The dictionary with one list of codes added or replaced."""
        return replace(self, codes={**self.codes, name: codes})

    def without_tokens(self) -> Dictionary:
        """The dictionary without missing codes that only repeat their reason, as files written by us hold them."""
        variables = {
            name: entry.with_(missing={code: why for code, why in entry.missing.items() if code.strip("[]") != why})
            for name, entry in self.variables.items()
        }
        return replace(self, variables=variables)

    def joined(self, other: Dictionary, *, extends_codes: bool = True) -> Dictionary:
        """Both dictionaries; where both know a variable, what the first leaves open comes from the second.

        A list of codes of the same name with other contents is kept under a name of its own.

        Parameters
        ----------
        other
            The second.
        extends_codes
            Whether, where both have codes for a variable, those that only the second labels are added to the first's.
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
                entry = entry.with_(codes=renamed.get(entry.codes, entry.codes))
            known = variables.get(name)
            if extends_codes and known is not None and known.codes and entry.codes and known.codes != entry.codes:
                mine = codes.get(known.codes, {})
                codes[known.codes] = {
                    **mine,
                    **{code: label for code, label in codes[entry.codes].items() if code not in mine},
                }
            variables[name] = entry if known is None else filled_in(known, entry)
        return Dictionary(
            variables,
            codes,
            {**other.rules, **self.rules},
            self.other_layout or other.other_layout,
            scales={**other.scales, **self.scales},
        )


def filled_in(first: Variable, second: Variable) -> Variable:
    """The first entry, with the parts it leaves open taken from the second."""
    open_parts = {
        part: value for part, value in second if getattr(first, part) in (None, "", {}, ()) and part != "missing"
    }
    return first.with_(**open_parts, missing={**second.missing, **first.missing})
