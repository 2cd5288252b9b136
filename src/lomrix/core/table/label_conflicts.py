"""Codes that two tables label differently."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from lomrix.core.errors import DataError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.wording import some_of

MOST_TOLD = 4


def label_conflicts(first: Dictionary, second: Dictionary, names: Mapping[str, str], table: str) -> list[str]:
    """The codes to which two dictionaries give different labels, in words.

    Parameters
    ----------
    first, second
        The dictionaries.
    names
        By name in the second, the name that the variable has in the first.
    table
        How messages call what the second speaks of.
    """
    told = []
    for theirs, mine in names.items():
        one, two = first.labels_of(mine), second.labels_of(theirs)
        told += [
            f'{mine} {code}: "{one[code]}" before, "{two[code]}" in {table}'
            for code in one
            if code in two and one[code] != two[code]
        ]
    return told


def require_same_labels(conflicts: Iterable[str]) -> None:
    """Stop where a code has two labels.

    Raises
    ------
    DataError
        Naming the first of them.
    """
    told = list(conflicts)
    if told:
        raise DataError(
            "One code has different labels in different files.",
            where="; ".join(told[:MOST_TOLD]) + (" …" if len(told) > MOST_TOLD else ""),
            todo="Recode one of the files, or say ‹other_labels=first›.",
        )


def notes_on_labels(given: Dictionary, own: Dictionary, names: Iterable[str]) -> list[Note]:
    """What is reported where a dictionary that was given labels codes otherwise than the file itself."""
    notes = []
    for name in names:
        told = [
            f'{code} is "{label}", not "{own.labels_of(name)[code]}" as in the file'
            for code, label in given.labels_of(name).items()
            if own.labels_of(name).get(code, label) != label
        ]
        if told:
            text = f"the dictionary overrides labels of the file: {some_of(told, MOST_TOLD)}."
            notes.append(Note(text, name, (), "labels-overridden", len(told)))
    return notes
