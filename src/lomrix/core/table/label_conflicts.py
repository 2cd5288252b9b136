"""Codes that two tables label differently."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from lomrix.core.errors import DataError
from lomrix.core.table.dictionary import Dictionary

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
