"""Export as it is asked for."""

from __future__ import annotations

import codecs
from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.delivery import Delivery, Form, IfExists, LineEnds, ServerForm, TextForm
from lomrix.core.steps.export.missing_codes import AUTO, codes_said
from lomrix.core.steps.settings import Columns, Names, Setting, Texts, parsed_by, require_distinct
from lomrix.core.steps.step import ANY_ROWS, WHOLE, Division, Extra, Role, Step, need
from lomrix.core.table.numbers import is_number
from lomrix.core.table.selection import columns_by_name
from lomrix.core.wording import listed

LEAST_NAME = 4
LEAST_LINE = 20
MOST_DIGITS = 15
# Numbers in a file of numbers only may stand apart like this.
BARE_DELIMITERS = (" ", ",", "\t")


def encoding_said(name: str) -> str:
    """An encoding that a text file can have, by the name that Python gives it.

    Raises
    ------
    UsageError
        Where there is none of that name.
    """
    try:
        "a".encode(name)
        return codecs.lookup(name).name
    except (LookupError, UnicodeError, TypeError) as error:
        raise UsageError(
            f"There is no encoding {name}.", todo="Say ‹encoding_out=utf-8› or ‹encoding_out=cp1252›."
        ) from error


def delimiter_said(text: str) -> str:
    """The sign that stands between cells: `,` `;` `|`, `tab` or `blank`.

    Raises
    ------
    UsageError
        Where it is none that can stand there.
    """
    sign = {"tab": "\t", "\\t": "\t", "blank": " "}.get(text, text)
    if len(sign) != 1 or not sign.isascii() or sign.isalnum() or sign in '"\r\n.-+':
        raise UsageError(
            f'"{text}" cannot stand between cells.',
            todo="Say ‹delimiter_out=;›, ‹delimiter_out=tab› or ‹delimiter_out=blank›.",
        )
    return sign


def date_form_said(text: str) -> None:
    """Stop where a text is no single form of dates."""
    from lomrix.core.text.dates import BETWEEN_FORMS, require_date_forms

    require_date_forms(text)
    if BETWEEN_FORMS in text:
        raise UsageError(
            f'"{text}" names several forms of dates.', todo="A file is written in one: ‹date_form=%d/%m/%Y›"
        )


def types_said(words: Sequence[str]) -> dict[str, str]:
    """Read `age=SMALLINT`.

    Raises
    ------
    UsageError
        Where a word does not name a column and a type, or the type is not made of words, numbers and brackets.
    """
    found = {}
    for word in words:
        name, equals, type_ = (part.strip() for part in word.partition("="))
        plain = all(sign.isalnum() or sign in " _(),'" for sign in type_)
        if not equals or not name or not type_ or not plain:
            raise UsageError(f'"{word}" does not give a column a type.', todo="Say ‹db_type=age=SMALLINT›.")
        found[name] = type_
    require_distinct([word.partition("=")[0].strip() for word in words], "The type of")
    return found


class Export(Step):
    """Write a file, a table or a package for another program, with missing values recoded."""

    word: ClassVar[str] = "export"
    done_by: ClassVar[str] = "lomrix.core.steps.export.run:prepared"
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
    columns: Annotated[Columns, Setting("Which columns go out, in this order.", "COLUMNS")] = ""
    sort_by: Annotated[Names, Setting("Sort the rows by these columns.", "COLUMNS")] = ()
    missing_code: Annotated[
        Texts,
        parsed_by(codes_said),
        Setting("Code for missing cells: -9, auto, refused=-8 for a reason, sleep_*:-99 for columns.", "CODE"),
    ] = ()
    show_labels: Annotated[Columns, Setting("Labels in place of codes.", "COLUMNS")] = ""
    names_max: Annotated[int, Field(ge=0, le=255), Setting("Short names, of so many signs at most.", "SIGNS")] = 0
    ascii: Annotated[bool, Setting("Write letters outside ASCII with plain ones: ø as o.")] = False
    delimiter_out: Annotated[str, parsed_by(delimiter_said), Setting("Sign between cells: ; tab blank", "SIGN")] = ""
    decimal_out: Annotated[Literal[".", ","], Setting("Sign before decimal places: . or ,", "SIGN")] = "."
    encoding_out: Annotated[str, parsed_by(encoding_said), Setting("Encoding of a text file.", "NAME")] = "utf-8"
    line_ends: Annotated[LineEnds, Setting("How lines of a text file end.")] = "unix"
    digits: Annotated[int | None, Field(ge=0, le=MOST_DIGITS), Setting("Decimal places of numbers.", "NUMBER")] = None
    date_form: Annotated[str, parsed_by(date_form_said), Setting("How dates are written: %d/%m/%Y", "FORM")] = ""
    line_max: Annotated[
        int, Field(ge=0), Setting("Go on in a new line after so many signs (bare and fixed).", "SIGNS")
    ] = 0
    primary_key: Annotated[Names, Setting("Columns that tell the rows apart.", "COLUMNS")] = ()
    if_exists: Annotated[IfExists | None, Setting("What becomes of a database table that is there.")] = None
    db_type: Annotated[
        Texts,
        parsed_by(types_said),
        Setting("Type of a column in a database: age=SMALLINT", "NAME=TYPE"),
    ] = ()
    index: Annotated[Texts, Setting("An index of a database table: these columns together.", "COLUMNS")] = ()
    describe: Annotated[bool, Setting("Two more database tables: NAME_variables and NAME_codes.")] = False

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        self._codes_fit()
        self._text_fits()
        if self.names_max:
            told = f"‹names_max› is at least {LEAST_NAME}, not {self.names_max}."
            need(self.names_max >= LEAST_NAME, "names_max", told, "Shorter names say nothing.")
        if self.line_max:
            need(self.form in ("bare", "fixed"), "line_max", "Only bare and fixed files have lines of a given length.",
                 "Add ‹form=bare›, or leave ‹line_max› out.")  # fmt: skip
            need(self.line_max >= LEAST_LINE, "line_max", f"‹line_max› is at least {LEAST_LINE}, not {self.line_max}.",
                 "Give another number.")  # fmt: skip
        return self

    def _codes_fit(self) -> None:
        if self.form == "bare":
            need(not self.show_labels, "show_labels", "A bare file holds only numbers, and no labels.",
                 "Leave ‹show_labels› out, or say ‹form=headed›.")  # fmt: skip
            for one in codes_said(self.missing_code):
                need(one.code == AUTO or is_number(one.code), "missing_code", f'"{one.code}" is no number.',
                     "A bare file holds only numbers: say -9 or auto.")  # fmt: skip
            need(not self.date_form, "date_form", "A bare file holds only numbers: its dates are written as yyyymmdd.",
                 "Leave ‹date_form› out, or say ‹form=headed›.")  # fmt: skip

    def _text_fits(self) -> None:
        delimiter = delimiter_said(self.delimiter_out) if self.delimiter_out else ""
        need(not delimiter or self.form != "fixed", "delimiter_out", "Fixed columns have nothing between them.",
             "Leave ‹delimiter_out› out.")  # fmt: skip
        need(not delimiter or self.form != "bare" or delimiter in BARE_DELIMITERS, "delimiter_out",
             "Numbers of a bare file stand apart by blanks, commas or tabs.", "Say blank, tab or a comma.")  # fmt: skip
        need(delimiter != " " or self.form == "bare", "delimiter_out",
             "Only the numbers of a bare file stand apart by blanks.", "Say ‹form=bare›, or another sign.")  # fmt: skip
        need(not delimiter or delimiter != self.decimal_out, "delimiter_out",
             f"One sign, {delimiter}, would divide cells and decimals alike.", "Say ‹delimiter_out=;›.")  # fmt: skip

    @property
    def delivery(self) -> Delivery:
        """How the file, or the table of a database, is made."""
        text = TextForm(
            delimiter_said(self.delimiter_out) if self.delimiter_out else "", self.decimal_out,
            encoding_said(self.encoding_out), self.line_ends, self.digits, self.date_form, self.line_max,
        )  # fmt: skip
        server = ServerForm(self.if_exists, types_said(self.db_type), tuple(map(listed, self.index)), self.describe)
        return Delivery(self.form, text, server, self.primary_key)

    @property
    def division(self) -> Division:
        """Each cell is recoded on its own, unless codes are looked for, rows sorted or lengths measured."""
        is_cell_by_cell = self.form in (None, "headed") and AUTO not in self.missing_code and not self.sort_by
        return ANY_ROWS if is_cell_by_cell and not self.primary_key else WHOLE

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The columns that go out, and those that rows are sorted by."""
        found = columns_by_name(self.columns, names) if self.columns else None
        return None if found is None else [*found, *(name for name in self.sort_by if name not in found)]
