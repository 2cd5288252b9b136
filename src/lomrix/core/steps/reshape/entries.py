"""Dictionary entries of a long table: what a family's columns have in common."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from lomrix.core.errors import DataError
from lomrix.core.rows.occasions import Occasion
from lomrix.core.steps.reshape.families import Families
from lomrix.core.steps.reshape.labels import find_common_label, format_label
from lomrix.core.table.dictionary import Codes, Dictionary
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.variable import NO_ENTRY, Variable


@dataclass
class LongEntries:
    """The entries of a long table's measures and occasions."""

    known: Dictionary  # the wide table's dictionary
    families: Families  # which column holds which measure at which occasion
    memory: OtherLayout | None  # what is remembered of the long layout
    other_labels: str  # what happens where one code has different labels in a family

    def make_dictionary(self) -> Dictionary:
        """Return the dictionary with an entry for each known measure and occasion."""
        result = self.known
        for measure, columns in self.families.measures.items():
            entry, result = self._make_entry(measure, columns, result)
            if entry != NO_ENTRY:
                result = result.with_variable(measure, entry)
        if self.memory is not None:
            for name in self.families.names:
                if name in self.memory.variables and name not in self.known.variables:
                    result = self._recall(result, name)
        return result

    def _recall(self, result: Dictionary, name: str) -> Dictionary:
        assert self.memory is not None
        entry = self.memory.variables[name]
        if entry.codes is not None and entry.codes in self.memory.codes:
            codes, result = result.add_codes(name, self.memory.codes[entry.codes], entry.codes)
            entry = entry.with_parts(codes=codes)
        return result.with_variable(name, entry)

    def _make_entry(
        self, measure: str, columns: Mapping[Occasion, str], result: Dictionary
    ) -> tuple[Variable, Dictionary]:
        entries = {name: self.known.of(name) for name in columns.values()}
        stated = self.known.variables.get(measure)
        memory = self.memory if stated is None else None
        if memory is not None and all(memory.is_unchanged(name, entry) for name, entry in entries.items()):
            if measure not in memory.variables:
                return NO_ENTRY, result
            result = self._recall(result, measure)
            return result.variables[measure], result
        known_entries = [entry for entry in entries.values() if entry != NO_ENTRY]
        if not known_entries and stated is None:
            return NO_ENTRY, result
        entry = stated if stated is not None and not known_entries else known_entries[0]
        missing = {code: reason for part in reversed(known_entries) for code, reason in part.missing.items()}
        label = (
            stated.label
            if stated and stated.label
            else find_common_label([part.label for part in known_entries], self.families.names)
        )
        codes, result = self._join_codes(measure, list(columns.values()), entry, result)
        missing = missing or entry.missing
        return entry.with_parts(label=label, missing=missing, codes=codes, level="occasion", type=None), result

    def _join_codes(
        self, measure: str, names: list[str], entry: Variable, result: Dictionary
    ) -> tuple[str | None, Dictionary]:
        """Return one list of codes for all columns of a family."""
        lists = {name: labels for name in names if (labels := self.known.labels_of(name))}
        joined: dict[str, str] = {}
        for name, labels in lists.items():
            for code, label in labels.items():
                if joined.setdefault(code, label) != label and self.other_labels == "stop":
                    raise DataError(
                        f"One code of {measure} has different labels at different occasions.",
                        where=f'code {code}: "{joined[code]}", but "{label}" in {name}',
                        todo="Correct the dictionary or recode the column, or use ‹other_labels=first›.",
                    )
        if not lists or all(dict(labels) == joined for labels in lists.values()):
            return next((self.known.of(name).codes for name in lists), entry.codes), result
        new = measure
        while new in result.codes and dict(result.codes[new]) != joined:
            new += "_codes"
        return new, result.with_codes(new, sort_codes(joined))


def sort_codes(labels: Mapping[str, str]) -> Codes:
    """Return a list of codes, ascending if all are integers."""
    if all(code.lstrip("-").isdecimal() for code in labels):
        return dict(sorted(labels.items(), key=lambda pair: int(pair[0])))
    return dict(labels)


@dataclass
class WideEntries:
    """The entries of the columns that a measure is spread to."""

    known: Dictionary  # the long table's dictionary
    occasions: tuple[str, ...]  # the columns that name the occasion
    memory: OtherLayout | None  # what is remembered of the wide layout
    # by occasion the label, where a column of the table holds them
    texts: Mapping[Occasion, str] = field(default_factory=dict)

    def make_dictionary(self, spread: Mapping[str, Mapping[Occasion, str]]) -> Dictionary:
        """Return the dictionary with an entry for each known new column; `spread` maps measure and occasion to it."""
        labels = {name: self.known.labels_of(name) for name in self.occasions}
        codes, entries = dict(self.known.codes), dict(self.known.variables)
        for measure, by_occasion in spread.items():
            measure_entry = self.known.of(measure)
            recalls = self.memory is not None and self.memory.is_unchanged(measure, measure_entry)
            recorded_columns = (
                {position.column for position in self.memory.places} if self.memory is not None else set()
            )
            for occasion, name in by_occasion.items():
                if recalls and name in recorded_columns and self.memory is not None:
                    entry = self.memory.variables.get(name, NO_ENTRY)
                    if entry.codes is not None and entry.codes in self.memory.codes:
                        codes[entry.codes] = self.memory.codes[entry.codes]
                else:
                    entry = self._make_entry(measure_entry, name, occasion, labels)
                if entry != NO_ENTRY:
                    entries[name] = entry
        return Dictionary(entries, codes, self.known.rules, scales=self.known.scales)

    def _make_entry(
        self, measure_entry: Variable, name: str, occasion: Occasion, labels: Mapping[str, Mapping[str, str]]
    ) -> Variable:
        stated = self.known.of(name)
        if occasion in self.texts:
            return (stated if stated != NO_ENTRY else measure_entry).with_parts(
                label=self.texts[occasion], level=None, type=None
            )
        if stated != NO_ENTRY:
            return stated
        if measure_entry == NO_ENTRY:
            return measure_entry
        label = format_label(measure_entry.label, self.occasions, occasion, labels)
        return measure_entry.with_parts(label=label, level=None, type=None)
