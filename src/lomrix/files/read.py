"""Reading: what a person said about a file, and what a reader gives back."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from lomrix.core.errors import UsageError
from lomrix.core.table.column import TYPES, Type
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable


@dataclass(frozen=True)
class Read:
    """A table as it was read, and what the reading wants a person to look at."""

    table: Table
    notes: tuple[Note, ...] = ()
    # All columns of the source, those that were not asked for among them.
    names: tuple[str, ...] = ()


@dataclass(frozen=True)
class ReadSettings:
    """What was said about the files that are read.

    Parameters
    ----------
    dictionary
        Goes before what stands beside or inside a file.
    types
        By column, type and date format (empty where none was said).
    delimiter, encoding
        Found from the file where empty.
    decimal
        The sign before the decimal places of numbers in text.
    missing_text
        Texts that stand for a missing cell in every column, each its own reason.
    all_text
        Every column stays text, as in a ledger.
    sheet
        Sheet of a workbook; the first one that holds something where empty.
    needed
        Given the names of a file's columns, which of them are wanted; None for all.
    """

    dictionary: Dictionary = field(default_factory=Dictionary)
    types: Mapping[str, tuple[Type, str]] = field(default_factory=dict)
    delimiter: str = ""
    encoding: str = ""
    decimal: str = "."
    missing_text: tuple[str, ...] = ()
    all_text: bool = False
    sheet: str = ""
    needed: Callable[[list[str]], list[str] | None] = lambda names: None

    def names_needed(self, names: list[str]) -> list[str]:
        """The columns to be read, in file order."""
        needed = self.needed(names)
        return names if needed is None else [name for name in names if name in set(needed)]

    def variable(self, name: str, beside: Dictionary) -> Variable:
        """What is known of a column before it is read."""
        entry = self.dictionary.of(name)
        other = beside.of(name)
        if self.all_text:
            return Variable(type="string")
        missing = {**{text: text for text in self.missing_text}, **other.missing, **entry.missing}
        type_ = self.types[name][0] if name in self.types else entry.type or other.type
        return entry.with_(type=type_, missing=missing)

    def date_format(self, name: str) -> str:
        """How a column's dates are written, empty where that was not said."""
        return self.types[name][1] if name in self.types else ""


def types_asked(words: list[str]) -> dict[str, tuple[Type, str]]:
    """Read `age=integer,visit=date:%d/%m/%Y`.

    Raises
    ------
    UsageError
        Where a word has no equals sign or names no type.
    """
    asked: dict[str, tuple[Type, str]] = {}
    for word in (part.strip() for text in words for part in text.split(",") if part.strip()):
        name, equals, rest = word.partition("=")
        type_, _, format_ = rest.partition(":")
        if not equals or type_ not in TYPES:
            raise UsageError(
                f'"{word}" does not give a column its type.',
                todo=f"Say --type age=integer or --type visit=date:%d/%m/%Y; types are {' '.join(TYPES)}.",
            )
        asked[name.strip()] = (type_, format_)
    return asked
