"""Dictionary entries on the way to long: what a family's columns have in common."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from lomrix.core.errors import DataError
from lomrix.core.rows.occasions import Occasion
from lomrix.core.steps.reshape.families import Families
from lomrix.core.steps.reshape.labels import common_label
from lomrix.core.table.dictionary import Codes, Dictionary
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.variable import NOTHING_KNOWN, Variable


@dataclass
class LongEntries:
    """The entries of a long table's measures and occasions.

    Parameters
    ----------
    known
        The wide table's dictionary.
    families
        Which column holds which measure at which occasion.
    memory
        What is remembered of the long layout.
    other_labels
        What happens where one code has different labels in a family.
    """

    known: Dictionary
    families: Families
    memory: OtherLayout | None
    other_labels: str

    def dictionary(self) -> Dictionary:
        """The dictionary with an entry for each measure and occasion of which something is known."""
        made = self.known
        for measure, at in self.families.measures.items():
            entry, made = self._entry(measure, at, made)
            if entry != NOTHING_KNOWN:
                made = made.with_variable(measure, entry)
        if self.memory is not None:
            for name in self.families.names:
                if name in self.memory.variables and name not in self.known.variables:
                    made = self._recalled(made, name)
        return made

    def _recalled(self, made: Dictionary, name: str) -> Dictionary:
        assert self.memory is not None
        entry = self.memory.variables[name]
        if entry.codes is not None and entry.codes in self.memory.codes:
            made = made.with_codes(entry.codes, self.memory.codes[entry.codes])
        return made.with_variable(name, entry)

    def _entry(self, measure: str, at: Mapping[Occasion, str], made: Dictionary) -> tuple[Variable, Dictionary]:
        entries = {name: self.known.of(name) for name in at.values()}
        own = self.known.variables.get(measure)
        memory = self.memory if own is None else None
        if memory is not None and all(memory.unchanged(name, entry) for name, entry in entries.items()):
            if measure not in memory.variables:
                return NOTHING_KNOWN, made
            return memory.variables[measure], self._recalled(made, measure)
        filled = [entry for entry in entries.values() if entry != NOTHING_KNOWN]
        if not filled and own is None:
            return NOTHING_KNOWN, made
        entry = own if own is not None and not filled else filled[0]
        missing = {code: reason for one in reversed(filled) for code, reason in one.missing.items()}
        label = own.label if own and own.label else common_label([one.label for one in filled], self.families.names)
        codes, made = self._codes(measure, list(at.values()), entry, made)
        missing = missing or entry.missing
        return entry.with_(label=label, missing=missing, codes=codes, level="occasion", type=None), made

    def _codes(
        self, measure: str, names: list[str], entry: Variable, made: Dictionary
    ) -> tuple[str | None, Dictionary]:
        """One list of codes for all columns of a family."""
        lists = {name: labels for name in names if (labels := self.known.labels_of(name))}
        joined: dict[str, str] = {}
        for name, labels in lists.items():
            for code, label in labels.items():
                if joined.setdefault(code, label) != label and self.other_labels == "stop":
                    raise DataError(
                        f"One code of {measure} has different labels at different occasions.",
                        where=f'code {code}: "{joined[code]}", but "{label}" in {name}',
                        todo="Mend the dictionary or recode the column, or say ‹other_labels=first›.",
                    )
        if not lists or all(dict(labels) == joined for labels in lists.values()):
            return next((self.known.of(name).codes for name in lists), entry.codes), made
        new = measure
        while new in made.codes and dict(made.codes[new]) != joined:
            new += "_codes"
        return new, made.with_codes(new, as_codes(joined))


def as_codes(labels: Mapping[str, str]) -> Codes:
    """A list of codes in ascending order where all codes are whole numbers."""
    if all(code.lstrip("-").isdecimal() for code in labels):
        return dict(sorted(labels.items(), key=lambda pair: int(pair[0])))
    return dict(labels)
