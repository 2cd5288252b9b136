"""Dictionary entries of a wide table: each new column's measure and occasion."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from lomrix.core.rows.occasions import Occasion
from lomrix.core.steps.reshape.labels import format_label
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.variable import NO_ENTRY, Variable


@dataclass
class WideEntries:
    """The entries of the columns that a measure is spread to.

    Parameters
    ----------
    known
        The long table's dictionary.
    occasions
        The columns that name the occasion.
    memory
        What is remembered of the wide layout.
    texts
        By occasion the label, where a column of the table holds them.
    """

    known: Dictionary
    occasions: tuple[str, ...]
    memory: OtherLayout | None
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
