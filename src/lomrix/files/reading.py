"""Reading as it is asked for: what a person says of the files, and what that means for a column."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from lomrix.core.errors import SettingError, UsageError
from lomrix.core.steps.settings import Names, Setting, parsed_by, require_distinct
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.types import TYPES, Type
from lomrix.core.table.variable import NOTHING_KNOWN, Variable

# A header is not looked for further down than this.
MOST_ABOVE = 1000


def types_asked(words: Sequence[str]) -> dict[str, tuple[Type, str]]:
    """Read `age=integer`, `visit=date:%d/%m/%Y` and `born=date:%d/%m/%Y|%d %b %Y`, whose forms are tried in turn.

    Raises
    ------
    UsageError
        Where a word has no equals sign or names no type, or its form is none of dates.

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
        if format_:
            from lomrix.core.text.dates import require_date_forms

            if known not in ("date", "datetime"):
                raise UsageError(f'"{word}": only dates have a form.', todo=f"Say ‹type={name}={known}›.")
            require_date_forms(format_)
        asked[name.strip()] = (known, format_)
    require_distinct([word.partition("=")[0].strip() for word in words], "The type of")
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


def header_rows_said(text: str) -> tuple[int, ...]:
    """Row numbers with commas between, as a sheet counts them.

    Raises
    ------
    UsageError
        Where they are none, or do not ascend.

    Examples
    --------
    >>> header_rows_said("4, 5")
    (4, 5)
    """
    parts = [part.strip() for part in text.split(",")]
    rows = tuple(int(part) for part in parts if part.isascii() and part.isdigit())
    if len(rows) < len(parts) or rows[0] < 1 or list(rows) != sorted(set(rows)) or rows[-1] > MOST_ABOVE:
        raise UsageError(
            f'"{text}" does not say which rows the header has.',
            todo=f"Say ‹header_rows=4› or ‹header_rows=4,5›, as a sheet counts them, up to {MOST_ABOVE}.",
        )
    return rows


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
    thousands: Annotated[
        Literal["", ",", ".", " ", "'"],
        Setting("Separator between thousands: , . ' or a space.", "CHARACTER"),
    ] = ""
    encoding: Annotated[str, Setting("Encoding of text files, where it is not found right.", "NAME")] = ""
    header_rows: Annotated[
        str, parsed_by(header_rows_said), Setting("Rows of the header, joined where there are several: 4,5", "ROWS")
    ] = ""
    no_header: Annotated[bool, Setting("There is no header: columns are called column_1, column_2 …")] = False
    skip_rows: Annotated[int, Field(ge=0, le=MOST_ABOVE), Setting("Leave out so many rows at the top.", "NUMBER")] = 0
    skip_last: Annotated[
        str, Setting("Leave out so many rows at the end, or from the one on that begins like this: 'Total*'", "FOOTER")
    ] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        if self.thousands and self.thousands == self.decimal:
            what = f"One character, {self.decimal}, cannot separate both thousands and decimals."
            raise SettingError("thousands", what, todo="Add ‹decimal=,› where points separate thousands.")
        if self.no_header and self.header_rows:
            raise SettingError(
                "no_header", "‹no_header› and ‹header_rows› contradict each other.", todo="Give one of them."
            )
        return self


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
    decimal, thousands
        The separator before the decimal places of numbers in text, and that between thousands.
    missing_text
        Texts that stand for a missing cell in every column, each its own reason.
    all_text
        Every column stays text, as in a ledger.
    header_rows
        Rows of the header counted from 1; found where empty.
    skip_rows, skip_last
        What is left out at the top and at the end.
    no_header
        Whether the first row is data.
    tells_forms
        Whether numbers that will be written otherwise than they stand in the file are told.
    """

    dictionary: Dictionary = field(default_factory=Dictionary)
    types: Mapping[str, tuple[Type, str]] = field(default_factory=dict)
    delimiter: str = ""
    encoding: str = ""
    decimal: str = "."
    missing_text: tuple[str, ...] = ()
    all_text: bool = False
    header_rows: tuple[int, ...] = ()
    skip_rows: int = 0
    skip_last: str = ""
    thousands: str = ""
    no_header: bool = False
    tells_forms: bool = False

    @classmethod
    def of(cls, options: ReadingOptions, dictionary: Dictionary) -> ReadSettings:
        """What a person said, with the dictionary that was named."""
        return cls(
            dictionary, types_asked(options.type), delimiter_said(options.delimiter) if options.delimiter else "",
            options.encoding, options.decimal, options.missing_text, False,
            header_rows_said(options.header_rows) if options.header_rows else (), options.skip_rows, options.skip_last,
            options.thousands, options.no_header,
        )  # fmt: skip

    def renamed(self, names: Mapping[str, str]) -> ReadSettings:
        """The settings for a file whose columns get other names: what is said of a new name counts for the old one."""
        known = self.dictionary
        for old, new in names.items():
            if known.of(new) != NOTHING_KNOWN:
                known = known.with_variable(old, known.of(new))
        types = {**self.types, **{old: self.types[new] for old, new in names.items() if new in self.types}}
        return replace(self, dictionary=known, types=types)

    @property
    def rows_named(self) -> int:
        """How many rows at the top something was said of."""
        return max(self.skip_rows, *self.header_rows, 0)

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
        if self.all_text:
            return ""
        return self.types[name][1] if name in self.types else self.dictionary.of(name).form
