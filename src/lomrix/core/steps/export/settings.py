"""Settings of export."""

from __future__ import annotations

import codecs
from collections.abc import Collection, Mapping, Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from lomrix.core.errors import IdleSettingError, UsageError
from lomrix.core.steps.delivery import Delivery, Form, IfExists, LineEnds, ServerForm, TextForm
from lomrix.core.steps.export.missing_codes import AUTO, parse_missing_codes
from lomrix.core.steps.settings import Columns, Names, Setting, SortWords, Texts, parsed_by, require_distinct
from lomrix.core.steps.step import ANY_ROWS, NOTHING, WHOLE, Division, Extra, Role, Step, require
from lomrix.core.table.numbers import is_number
from lomrix.core.table.selection import choose_by_name, parse_sort_word
from lomrix.core.wording import split_list

LEAST_NAME = 4
LEAST_LINE = 20
MOST_DIGITS = 15
# Delimiters of a file of numbers only.
BARE_DELIMITERS = (" ", ",", "\t")


def parse_encoding(name: str) -> str:
    """Return Python's name of an encoding.

    Raises UsageError if there is none of that name.
    """
    try:
        "a".encode(name)
        return codecs.lookup(name).name
    except (LookupError, UnicodeError, TypeError) as error:
        raise UsageError(
            f"Unknown encoding {name}.", todo="Use ‹encoding_out=utf-8› or ‹encoding_out=cp1252›."
        ) from error


def parse_delimiter(text: str) -> str:
    """Return the delimiter: `,` `;` `|`, `tab` or `blank`.

    Raises UsageError if it cannot be a delimiter.
    """
    delimiter = {"tab": "\t", "\\t": "\t", "blank": " "}.get(text, text)
    if len(delimiter) != 1 or not delimiter.isascii() or delimiter.isalnum() or delimiter in '"\r\n.-+':
        raise UsageError(
            f'"{text}" cannot be a delimiter.',
            todo="Use ‹delimiter_out=;›, ‹delimiter_out=tab› or ‹delimiter_out=blank›.",
        )
    return delimiter


def require_date_form(text: str) -> None:
    """Stop if a text is not a single date form."""
    from lomrix.core.text.dates import BETWEEN_FORMS, require_date_forms, split_last_year

    require_date_forms(text)
    if split_last_year(text)[1] is not None:
        raise UsageError(f'"{text}" names a last year, for reading.', todo="Leave it out: ‹date_form=%d.%m.%y›.")
    if BETWEEN_FORMS in text:
        raise UsageError(f'"{text}" holds several date forms.', todo="Use one: ‹date_form=%d/%m/%Y›.")


def parse_types(texts: Sequence[str]) -> dict[str, str]:
    """Parse `age=SMALLINT`.

    Raises UsageError if a text does not name a column and a type, or the type has other characters than in type names.
    """
    types = {}
    for text in texts:
        name, equals, type_ = (part.strip() for part in text.partition("="))
        is_safe = all(character.isalnum() or character in " _(),'" for character in type_)
        if not equals or not name or not type_ or not is_safe:
            raise UsageError(f'"{text}" is not of the form COLUMN=TYPE.', todo="Use ‹db_type=age=SMALLINT›.")
        types[name] = type_
    require_distinct([text.partition("=")[0].strip() for text in texts], "The type of")
    return types


class Export(Step):
    """Write a file, a table or a package for another program, with missing values recoded."""

    word: ClassVar[str] = "export"
    delivers: ClassVar[bool] = True
    implementation: ClassVar[str] = "lomrix.core.steps.export.run:export"
    surveying: ClassVar[str] = "lomrix.core.steps.export.run:survey"
    checking: ClassVar[str] = "lomrix.core.steps.export.run:check"
    completing: ClassVar[str] = "lomrix.core.steps.export.run:complete"
    cell_size: ClassVar[int] = 22
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to export; several for a package.", many=True),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("companion", "Names in order, codes and labels: .txt, .md, or a template of your own, such as my.txt.j2.",
              "companion"),
        Extra("codebook", "Labels, codes with counts and statistics: .xml (DDI-Codebook 2.5) or .md.", "codebook"),
    )  # fmt: skip
    read_back: ClassVar[bool] = True

    form: Annotated[
        Form | None,
        Setting("headed: names on top. bare: only numbers. fixed: columns of fixed width. package: a folder."),
    ] = None
    columns: Annotated[Columns, Setting("Columns to write, in this order.", "COLUMNS")] = ""
    sort_by: Annotated[SortWords, Setting("Sort the rows by these columns; -age for descending.", "COLUMNS")] = ()
    missing_code: Annotated[
        Texts,
        parsed_by(parse_missing_codes),
        Setting("Code for missing cells: -9, auto, refused=-8 for a reason, sleep_*:-99 for columns.", "CODE"),
    ] = ()
    show_labels: Annotated[Columns, Setting("Write labels in place of codes.", "COLUMNS")] = ""
    names_max: Annotated[int, Field(ge=0, le=255), Setting("Shorten names to at most this many characters.", "N")] = 0
    ascii: Annotated[bool, Setting("Replace non-ASCII letters: ø as o.")] = False
    delimiter_out: Annotated[str, parsed_by(parse_delimiter), Setting("Delimiter: ; tab blank", "CHARACTER")] = ""
    decimal_out: Annotated[Literal[".", ","], Setting("Decimal separator: . or ,", "CHARACTER")] = "."
    encoding_out: Annotated[str, parsed_by(parse_encoding), Setting("Encoding of a text file.", "NAME")] = "utf-8"
    line_ends: Annotated[LineEnds, Setting("Line ends of a text file.")] = "unix"
    digits: Annotated[int | None, Field(ge=0, le=MOST_DIGITS), Setting("Decimal places of numbers.", "NUMBER")] = None
    date_form: Annotated[str, parsed_by(require_date_form), Setting("Form of dates: %d/%m/%Y", "FORM")] = ""
    line_max: Annotated[int, Field(ge=0), Setting("Break lines after this many characters (bare and fixed).", "N")] = 0
    primary_key: Annotated[Names, Setting("Columns that uniquely identify rows.", "COLUMNS")] = ()
    if_exists: Annotated[IfExists | None, Setting("What to do if the database table exists.")] = None
    db_type: Annotated[
        Texts,
        parsed_by(parse_types),
        Setting("Type of a column in a database: age=SMALLINT", "NAME=TYPE"),
    ] = ()
    index: Annotated[Texts, Setting("An index of a database table: these columns together.", "COLUMNS")] = ()
    describe: Annotated[bool, Setting("Write two more database tables: NAME_variables and NAME_codes.")] = False

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        self._require_fitting_codes()
        self._require_fitting_text()
        if self.names_max:
            message = f"‹names_max› is at least {LEAST_NAME}, not {self.names_max}."
            require(self.names_max >= LEAST_NAME, "names_max", message, "Shorter names are not readable.")
        if self.line_max:
            require(self.form in ("bare", "fixed"), "line_max",
                    "Only bare and fixed files have lines of a given length.",
                    "Add ‹form=bare›, or leave ‹line_max› out.")  # fmt: skip
            require(self.line_max >= LEAST_LINE, "line_max",
                    f"‹line_max› is at least {LEAST_LINE}, not {self.line_max}.",
                    "Use a larger number.")  # fmt: skip
        return self

    def _require_fitting_codes(self) -> None:
        if self.form == "bare":
            require(not self.show_labels, "show_labels", "A bare file holds only numbers, and no labels.",
                    "Leave ‹show_labels› out, or use ‹form=headed›.")  # fmt: skip
            for setting in parse_missing_codes(self.missing_code):
                require(setting.code == AUTO or is_number(setting.code), "missing_code",
                        f'"{setting.code}" is not a number.',
                        "A bare file holds only numbers: use -9 or auto.")  # fmt: skip
            require(not self.date_form, "date_form",
                    "A bare file holds only numbers: its dates are written as yyyymmdd.",
                    "Leave ‹date_form› out, or use ‹form=headed›.", IdleSettingError)  # fmt: skip

    def _require_fitting_text(self) -> None:
        delimiter = parse_delimiter(self.delimiter_out) if self.delimiter_out else ""
        require(not delimiter or self.form != "fixed", "delimiter_out", "Fixed columns have no delimiter.",
                "Leave ‹delimiter_out› out.")  # fmt: skip
        require(not delimiter or self.form != "bare" or delimiter in BARE_DELIMITERS, "delimiter_out",
                "A bare file separates numbers by spaces, commas or tabs.", "Use blank, tab or a comma.")  # fmt: skip
        require(delimiter != " " or self.form == "bare", "delimiter_out",
                "Only in a bare file may spaces separate cells.", "Use ‹form=bare›, or another delimiter.")  # fmt: skip
        require(not delimiter or delimiter != self.decimal_out, "delimiter_out",
                f"{delimiter} is both the delimiter and the decimal separator.", "Use ‹delimiter_out=;›.")  # fmt: skip

    @property
    def keeps_rows(self) -> bool:
        """Whether every row stays."""
        return True

    @property
    def division(self) -> Division:
        """Each row on its own, or in their order; which texts lose letters needs all of them."""
        if self.ascii:
            return WHOLE
        return Division("by order", {"source": self.sort_by}) if self.sort_by else ANY_ROWS

    def can_divide(self, wanted: Collection[str] = (), given: Mapping[str, int] = NOTHING) -> bool:
        """Several tables are not sorted in parts; what describes them is made from surveys."""
        is_sorted_package = self.sort_by and given.get("source", 1) > 1
        return self.division.kind != "whole" and not is_sorted_package

    @property
    def delivery(self) -> Delivery:
        """How the file or database table is written."""
        text = TextForm(
            parse_delimiter(self.delimiter_out) if self.delimiter_out else "", self.decimal_out,
            parse_encoding(self.encoding_out), self.line_ends, self.digits, self.date_form, self.line_max,
        )  # fmt: skip
        server = ServerForm(
            self.if_exists, parse_types(self.db_type), tuple(map(split_list, self.index)), self.describe
        )
        return Delivery(self.form, text, server, self.primary_key)

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """Return the columns to write, and those to sort by."""
        chosen = choose_by_name(self.columns, names) if self.columns else None
        sort_by = [parse_sort_word(word, names)[0] for word in self.sort_by]
        return None if chosen is None else [*chosen, *(name for name in sort_by if name not in chosen)]
