"""Dictionary entries on the way to wide: each new column says which measure it is, and of which occasion."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from lomrix.core.rows.occasions import Occasion
from lomrix.core.steps.reshape.labels import label_at
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.variable import NOTHING_KNOWN, Variable


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

    def dictionary(self, spread: Mapping[str, Mapping[Occasion, str]]) -> Dictionary:
        """The dictionary with an entry for each new column of which something is known.

        Parameters
        ----------
        spread
            For each measure, the name of its column by occasion.
        """
        labels = {name: self.known.labels_of(name) for name in self.occasions}
        codes, entries = dict(self.known.codes), dict(self.known.variables)
        for measure, at in spread.items():
            own = self.known.of(measure)
            recalls = self.memory is not None and self.memory.unchanged(measure, own)
            places = {place.column for place in self.memory.places} if self.memory is not None else set()
            for occasion, name in at.items():
                if recalls and name in places and self.memory is not None:
                    entry = self.memory.variables.get(name, NOTHING_KNOWN)
                    if entry.codes is not None and entry.codes in self.memory.codes:
                        codes[entry.codes] = self.memory.codes[entry.codes]
                else:
                    entry = self._entry(own, name, occasion, labels)
                if entry != NOTHING_KNOWN:
                    entries[name] = entry
        return Dictionary(entries, codes, self.known.rules, scales=self.known.scales)

    def _entry(self, own: Variable, name: str, occasion: Occasion, labels: Mapping[str, Mapping[str, str]]) -> Variable:
        told = self.known.of(name)
        if occasion in self.texts:
            return (told if told != NOTHING_KNOWN else own).with_(label=self.texts[occasion], level=None, type=None)
        if told != NOTHING_KNOWN:
            return told
        if own == NOTHING_KNOWN:
            return own
        label = label_at(own.label, self.occasions, occasion, labels)
        return own.with_(label=label, level=None, type=None)
