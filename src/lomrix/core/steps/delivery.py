"""Delivery: how a step's table is written to its file or server, as far as stated."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

Form = Literal["headed", "bare", "fixed", "package"]
LineEnds = Literal["unix", "windows"]
IfExists = Literal["stop", "replace", "append"]


@dataclass(frozen=True)
class TextForm:
    """How a text file is written.

    Parameters
    ----------
    delimiter
        Character between cells; empty for that of the file's extension.
    decimal
        The sign before decimal places.
    encoding
        As Python names it.
    line_ends
        `unix` (a line feed) or `windows` (carriage return and line feed).
    digits
        Decimal places of numbers that are not whole; as many as each has where None.
    date_form
        How dates are written, such as `%d/%m/%Y`; as the ISO standard says where empty.
    line_max
        Signs that a line holds at most; 0 where any number may.
    """

    delimiter: str = ""
    decimal: str = "."
    encoding: str = "utf-8"
    line_ends: LineEnds = "unix"
    digits: int | None = None
    date_form: str = ""
    line_max: int = 0

    @property
    def is_plain(self) -> bool:
        """True if values are written in the default form."""
        return self.decimal == "." and self.digits is None and not self.date_form


@dataclass(frozen=True)
class ServerForm:
    """How a database table is created.

    Parameters
    ----------
    if_exists
        What becomes of a table that is there; empty where only the general permission to overwrite counts.
    types
        By column, the server's own name of a type.
    index
        Columns of each index.
    describe
        Whether labels and codes are written as two further tables.
    """

    if_exists: IfExists | None = None
    types: Mapping[str, str] = field(default_factory=dict)
    index: tuple[tuple[str, ...], ...] = ()
    describe: bool = False


@dataclass(frozen=True)
class Delivery:
    """How the table of a step is written.

    Parameters
    ----------
    form
        Form of the file; empty where its extension decides.
    text, server
        How text files and tables of databases are made.
    primary_key
        Columns that tell the rows apart.
    """

    form: Form | None = None
    text: TextForm = field(default_factory=TextForm)
    server: ServerForm = field(default_factory=ServerForm)
    primary_key: tuple[str, ...] = ()


DEFAULT_DELIVERY = Delivery()
