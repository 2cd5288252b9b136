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
    """How a text file is written."""

    delimiter: str = ""  # character between cells; empty for that of the file's extension
    decimal: str = "."  # the sign before decimal places
    encoding: str = "utf-8"  # as Python names it
    line_ends: LineEnds = "unix"  # `unix` (a line feed) or `windows` (carriage return and line feed)
    digits: int | None = None  # decimal places of numbers that are not whole; as many as each has where None
    date_form: str = ""  # how dates are written, such as `%d/%m/%Y`; as the ISO standard says where empty
    line_max: int = 0  # signs that a line holds at most; 0 where any number may

    @property
    def is_plain(self) -> bool:
        """True if values are written in the default form."""
        return self.decimal == "." and self.digits is None and not self.date_form


@dataclass(frozen=True)
class ServerForm:
    """How a database table is created."""

    # what becomes of a table that is there; empty where only the general permission to overwrite counts
    if_exists: IfExists | None = None
    types: Mapping[str, str] = field(default_factory=dict)  # by column, the server's own name of a type
    index: tuple[tuple[str, ...], ...] = ()  # columns of each index
    describe: bool = False  # whether labels and codes are written as two further tables


@dataclass(frozen=True)
class Delivery:
    """How the table of a step is written."""

    form: Form | None = None  # form of the file; empty where its extension decides
    text: TextForm = field(default_factory=TextForm)  # how text files and tables of databases are made
    server: ServerForm = field(default_factory=ServerForm)
    primary_key: tuple[str, ...] = ()  # columns that tell the rows apart


DEFAULT_DELIVERY = Delivery()
