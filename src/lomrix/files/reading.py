"""Reading as it is asked for: what a person says of the files, and what that means for a column."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Names, Setting, parsed_by
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.types import TYPES, Type
from lomrix.core.table.variable import Variable


def types_asked(words: Sequence[str]) -> dict[str, tuple[Type, str]]:
    """Read `age=integer` and `visit=date:%d/%m/%Y`.

    Raises
    ------
    UsageError
        Where a word has no equals sign or names no type.

    Examples
    --------
    >>> types_asked(("age=integer", "visit=date:%d/%m/%Y"))
    {'age': ('integer', ''), 'visit': ('date', '%d/%m/%Y')}
    """
    asked: dict[str, tuple[Type, str]] = {}
    for word in words:
        name, equals, rest = word.partition("=")
        type_, _, format_ = rest.partition(":")
        known = next((one for one in TYPES if one == type_), None)
        if not equals or known is None:
            raise UsageError(
                f'"{word}" does not give a column its type.',
                todo=f"Say ‹type=age=integer› or ‹type=visit=date:%d/%m/%Y›; types are {' '.join(TYPES)}.",
            )
        asked[name.strip()] = (known, format_)
    return asked


def delimiter_said(text: str) -> str:
    """One sign; `\\t` is a tab.

    Raises
    ------
    UsageError
        Where it is more than one sign, or none that can stand between cells.
    """
    sign = "\t" if text == "\\t" else text
    if len(sign) != 1 or not sign.isascii() or sign in '"\r\n':
        raise UsageError(f'The delimiter "{text}" is not one plain sign.', todo="Say ‹delimiter=;› or ‹delimiter=\\t›.")
    return sign


class ReadingOptions(BaseModel):
    """How files are read, as far as a person says it."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    dictionary: Annotated[str, Setting("Labels, codes and missing codes of the variables (TOML).", "FILE", "d")] = ""
    type: Annotated[
        Names, parsed_by(types_asked), Setting("Type of a column, such as visit=date:%d/%m/%Y.", "NAME=TYPE")
    ] = ()
    missing_text: Annotated[Names, Setting("Texts that stand for a missing cell, commas between.", "TEXTS")] = ()
    delimiter: Annotated[
        str, parsed_by(delimiter_said), Setting("Delimiter of text files, where it is not found right.", "SIGN")
    ] = ""
    decimal: Annotated[Literal[".", ","], Setting("Sign before decimal places: . or ,", "SIGN")] = "."
    encoding: Annotated[str, Setting("Encoding of text files, where it is not found right.", "NAME")] = ""


@dataclass(frozen=True)
class ReadSettings:
    """What counts when a file is read.

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
    """

    dictionary: Dictionary = field(default_factory=Dictionary)
    types: Mapping[str, tuple[Type, str]] = field(default_factory=dict)
    delimiter: str = ""
    encoding: str = ""
    decimal: str = "."
    missing_text: tuple[str, ...] = ()
    all_text: bool = False

    @classmethod
    def of(cls, options: ReadingOptions, dictionary: Dictionary) -> ReadSettings:
        """What a person said, with the dictionary that was named."""
        return cls(
            dictionary, types_asked(options.type), delimiter_said(options.delimiter) if options.delimiter else "",
            options.encoding, options.decimal, options.missing_text,
        )  # fmt: skip

    def variable(self, name: str, beside: Dictionary) -> Variable:
        """What is known of a column before it is read."""
        if self.all_text:
            return Variable(type="string")
        entry, other = self.dictionary.of(name), beside.of(name)
        missing = {**{text: text for text in self.missing_text}, **other.missing, **entry.missing}
        type_ = self.types[name][0] if name in self.types else entry.type or other.type
        return entry.with_(type=type_, missing=missing)

    def date_format(self, name: str) -> str:
        """How a column's dates are written, empty where that was not said."""
        return self.types[name][1] if name in self.types and not self.all_text else ""
