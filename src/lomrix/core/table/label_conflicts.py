"""Codes that two tables label differently."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from lomrix.core.errors import DataError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.wording import shorten_list

MOST_SHOWN = 4


def find_label_conflicts(first: Dictionary, second: Dictionary, names: Mapping[str, str], table: str) -> list[str]:
    """Describe the codes to which two dictionaries give different labels; `names` maps names of the second to those of
    the first, `table` is what messages call the second.
    """
    conflicts = []
    for second_name, first_name in names.items():
        first_labels, second_labels = first.labels_of(first_name), second.labels_of(second_name)
        conflicts += [
            f'{first_name} {code}: "{first_labels[code]}" before, "{second_labels[code]}" in {table}'
            for code in first_labels
            if code in second_labels and first_labels[code] != second_labels[code]
        ]
    return conflicts


def require_same_labels(conflicts: Iterable[str]) -> None:
    """Stop if a code has two labels.

    Raises
    ------
    DataError
        With the first of them.
    """
    found = list(conflicts)
    if found:
        raise DataError(
            "One code has different labels in different files.",
            where="; ".join(found[:MOST_SHOWN]) + (" …" if len(found) > MOST_SHOWN else ""),
            todo="Recode one of the files, or use ‹other_labels=first›.",
        )


def note_overridden_labels(given: Dictionary, own: Dictionary, names: Iterable[str]) -> list[Note]:
    """Note where a given dictionary labels codes differently from the file itself."""
    notes = []
    for name in names:
        overridden = [
            f'{code} is "{label}", not "{own.labels_of(name)[code]}" as in the file'
            for code, label in given.labels_of(name).items()
            if own.labels_of(name).get(code, label) != label
        ]
        if overridden:
            text = f"the dictionary overrides labels of the file: {shorten_list(overridden, MOST_SHOWN)}."
            notes.append(Note(text, name, (), "labels-overridden", len(overridden)))
    return notes
