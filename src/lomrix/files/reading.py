"""Settings of reading: what a person states about files, and what it means for a column."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ModelWrapValidatorHandler, ValidationError, model_validator

from lomrix.core.errors import SettingError, UsageError
from lomrix.core.steps.settings import Names, Setting, explain_validation_error, parsed_by, require_distinct
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.numbers import TYPES, Type
from lomrix.core.table.variable import NO_ENTRY, Variable

# The header is not searched beyond this row.
MOST_ABOVE = 1000


def parse_types(texts: Sequence[str]) -> dict[str, tuple[Type, str]]:
    """Parse `age=integer`, `visit=date:%d/%m/%Y` and `born=date:%d/%m/%Y|%d %b %Y`, whose forms are tried in turn.

    Raises UsageError if a text has no equals sign or no type, or its form is not a date form.

    >>> parse_types(("age=integer", "visit=date:%d/%m/%Y"))
    {'age': ('integer', ''), 'visit': ('date', '%d/%m/%Y')}
    """
    types: dict[str, tuple[Type, str]] = {}
    for text in texts:
        name, equals, value = text.partition("=")
        type_, _, format_ = value.partition(":")
        type_found = next((known_type for known_type in TYPES if known_type == type_), None)
        if not equals or type_found is None:
            raise UsageError(
                f'"{text}" is not of the form COLUMN=TYPE.',
                todo=f"Use ‹type=age=integer› or ‹type=visit=date:%d/%m/%Y›; types are {' '.join(TYPES)}.",
            )
        if format_:
            from lomrix.core.text.dates import require_date_forms

            if type_found not in ("date", "datetime"):
                raise UsageError(f'"{text}": only dates have a form.', todo=f"Use ‹type={name}={type_found}›.")
            require_date_forms(format_)
        types[name.strip()] = (type_found, format_)
    require_distinct([text.partition("=")[0].strip() for text in texts], "The type of")
    return types


def parse_delimiter(text: str) -> str:
    """Parse one character; `\\t` is a tab.

    Raises UsageError if it is longer, or cannot be a delimiter.
    """
    delimiter = "\t" if text == "\\t" else text
    if not is_delimiter(delimiter):
        raise UsageError(
            f'The delimiter "{text}" is not a single plain character.', todo="Use ‹delimiter=;› or ‹delimiter=\\t›."
        )
    return delimiter


def is_delimiter(text: str) -> bool:
    """Return whether a text can be between cells."""
    return len(text) == 1 and text.isascii() and text not in '"\r\n\0'


def parse_header_rows(text: str) -> tuple[int, ...]:
    """Parse row numbers separated by commas, as a spreadsheet counts them.

    Raises UsageError if they are not ascending row numbers.

    >>> parse_header_rows("4, 5")
    (4, 5)
    """
    parts = [part.strip() for part in text.split(",")]
    rows = tuple(int(part) for part in parts if part.isascii() and part.isdigit())
    if len(rows) < len(parts) or rows[0] < 1 or list(rows) != sorted(set(rows)) or rows[-1] > MOST_ABOVE:
        raise UsageError(
            f'"{text}" is not a list of header rows.',
            todo=f"Use ‹header_rows=4› or ‹header_rows=4,5›, as a spreadsheet counts, up to {MOST_ABOVE}.",
        )
    return rows


class ReadingOptions(BaseModel):
    """How files are read, as far as stated."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    dictionary: Annotated[str, Setting("Labels, codes and missing codes of the variables (TOML).", "FILE", "d")] = ""
    type: Annotated[
        Names, parsed_by(parse_types), Setting("Type of a column, such as visit=date:%d/%m/%Y.", "NAME=TYPE")
    ] = ()
    missing_text: Annotated[Names, Setting("Texts that mean a missing cell, separated by commas.", "TEXTS")] = ()
    delimiter: Annotated[
        str, parsed_by(parse_delimiter), Setting("Delimiter of text files (detected by default).", "CHARACTER")
    ] = ""
    decimal: Annotated[Literal[".", ","], Setting("Decimal separator: . or ,", "CHARACTER")] = "."
    thousands: Annotated[
        Literal["", ",", ".", " ", "'"],
        Setting("Separator between thousands: , . ' or a space.", "CHARACTER"),
    ] = ""
    encoding: Annotated[str, Setting("Encoding of text files (detected by default).", "NAME")] = ""
    header_rows: Annotated[
        str, parsed_by(parse_header_rows), Setting("Rows of the header, joined if there are several: 4,5", "ROWS")
    ] = ""
    label_row: Annotated[
        int, Field(ge=0, le=MOST_ABOVE), Setting("Row with the labels of the variables, which is no data.", "ROW")
    ] = 0
    unit_row: Annotated[
        int, Field(ge=0, le=MOST_ABOVE), Setting("Row with the units of the variables, which is no data.", "ROW")
    ] = 0
    data_from: Annotated[
        int, Field(ge=0, le=MOST_ABOVE), Setting("First row of data, if others are below the header.", "ROW")
    ] = 0
    no_header: Annotated[bool, Setting("The file has no header; the columns become column_1, column_2 …")] = False
    first_name: Annotated[str, Setting("Name of the first column, if the header has none for it.", "NAME")] = ""
    number_names: Annotated[bool, Setting("Number names that occur twice in the header: note, note_2.")] = False
    skip_rows: Annotated[int, Field(ge=0, le=MOST_ABOVE), Setting("Skip this many rows at the top.", "N")] = 0
    skip_last: Annotated[
        str, Setting("Skip this many rows at the end, or from the first that begins like this: 'Total*'", "FOOTER")
    ] = ""

    @model_validator(mode="wrap")
    @classmethod
    def _in_plain_words(cls, given: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        try:
            return handler(given)
        except ValidationError as error:
            raise explain_validation_error(error, cls.model_fields) from error

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        if self.thousands and self.thousands == self.decimal:
            message = f"One character, {self.decimal}, cannot separate both thousands and decimals."
            raise SettingError("thousands", message, todo="Add ‹decimal=,› if points separate thousands.")
        if self.no_header and self.header_rows:
            raise SettingError(
                "no_header", "‹no_header› and ‹header_rows› contradict each other.", todo="Use one of them."
            )
        for name in ("label_row", "unit_row", "data_from", "first_name"):
            if self.no_header and getattr(self, name):
                what = f"‹no_header› and ‹{name}› contradict each other."
                raise SettingError(name, what, todo="Use one of them, and ‹skip_rows› for rows above the data.")
        return self


# What applies to cells that have a type already, as in Parquet; to a worksheet; and to delimited text.
TYPED_OPTIONS = frozenset({"dictionary", "type", "missing_text"})
ROW_OPTIONS = {
    "header_rows",
    "label_row",
    "unit_row",
    "data_from",
    "no_header",
    "skip_rows",
    "skip_last",
    "first_name",
    "number_names",
}
SHEET_OPTIONS = TYPED_OPTIONS | {"decimal", "thousands"} | ROW_OPTIONS
ALL_OPTIONS = frozenset(ReadingOptions.model_fields)


@dataclass(frozen=True)
class ReadSettings:
    """The settings that apply when a file is read.

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
    label_row, unit_row, data_from
        Rows with labels and units, and the first row of data, counted from 1; 0 where not stated.
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
    notes_forms: bool = False
    label_row: int = 0
    unit_row: int = 0
    data_from: int = 0
    first_name: str = ""
    number_names: bool = False

    @classmethod
    def from_options(cls, options: ReadingOptions, dictionary: Dictionary) -> ReadSettings:
        """Return the settings from the options, with the dictionary that was named."""
        return cls(
            dictionary, parse_types(options.type), parse_delimiter(options.delimiter) if options.delimiter else "",
            options.encoding, options.decimal, options.missing_text, False,
            parse_header_rows(options.header_rows) if options.header_rows else (), options.skip_rows, options.skip_last,
            options.thousands, options.no_header,
            label_row=options.label_row, unit_row=options.unit_row, data_from=options.data_from,
            first_name=options.first_name, number_names=options.number_names,
        )  # fmt: skip

    def rename(self, names: Mapping[str, str]) -> ReadSettings:
        """Return the settings for a file whose columns get other names: those of a new name apply to the old one."""
        result = self.dictionary
        for old, new in names.items():
            if result.of(new) != NO_ENTRY:
                result = result.with_variable(old, result.of(new))
        types = {**self.types, **{old: self.types[new] for old, new in names.items() if new in self.types}}
        return replace(self, dictionary=result, types=types)

    @property
    def described_rows(self) -> Mapping[str, int]:
        """The rows with labels and units, counted from 1; 0 where not stated."""
        return {"label_row": self.label_row, "unit_row": self.unit_row}

    @property
    def rows_stated(self) -> int:
        """Number of rows at the top that settings mention."""
        return max(self.skip_rows, *self.header_rows, self.label_row, self.unit_row, self.data_from)

    def get_variable(self, name: str, beside: Dictionary) -> Variable:
        """Return what is known of a column before it is read."""
        if self.all_text:
            return Variable(type="string")
        entry, other = self.dictionary.of(name), beside.of(name)
        missing = {**{text: text for text in self.missing_text}, **other.missing, **entry.missing}
        type_ = self.types[name][0] if name in self.types else entry.type or other.type
        return entry.with_parts(type=type_, missing=missing)

    def get_date_format(self, name: str) -> str:
        """Return the stated date form of a column, or an empty text."""
        if self.all_text:
            return ""
        return self.types[name][1] if name in self.types else self.dictionary.of(name).form
