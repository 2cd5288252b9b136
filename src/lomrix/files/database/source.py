"""A table of a database as a source."""

from __future__ import annotations

import contextlib
from collections.abc import Collection
from functools import cached_property
from typing import Any

from sqlalchemy import Connection

from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.label_conflicts import notes_on_labels
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of
from lomrix.files.arrow_columns import columns_from_arrow
from lomrix.files.database.reference import Reference
from lomrix.files.database.server import Server, server_of, told
from lomrix.files.database.sink import DESCRIBED_BY
from lomrix.files.dictionary_text import VARIABLE_HEADS, dictionary_of_sheets
from lomrix.files.interface import Place, Read, Source
from lomrix.files.reading import ReadSettings


class DatabaseSource(Source):
    """A table or a view of a database.

    Parameters
    ----------
    reference
        A URL with a table.
    settings
        What was said about it.
    """

    def __init__(self, reference: str, settings: ReadSettings) -> None:
        self.reference, self.settings = Reference.of(reference), settings
        self.server: Server = server_of(self.reference)
        path = self.reference.path
        if path is not None and not path.exists():
            raise FileError(f"There is no file {path}.", todo="Check the path.")

    @cached_property
    def _connection(self) -> Connection:
        # Without transactions: a look at a table must not hold others up.
        return self.server.connect().execution_options(isolation_level="AUTOCOMMIT")

    @property
    def name(self) -> str:
        """The table's name."""
        return self.reference.table

    @property
    def places(self) -> tuple[Place, ...]:
        """The table."""
        return (self.reference.place,)

    @cached_property
    def _columns(self) -> dict[str, Any]:
        with told(self.reference, "read"):
            found = self.server.columns_there(self._connection)
            if found is None:
                there = self.server.tables_there(self._connection)
        if found is None:
            near = some_of(there) or "none"
            raise FileError(f"There is no table {self.reference}.", todo=f"Its tables are {near}.")
        return found

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""
        return tuple(self._columns)

    @cached_property
    def described(self) -> Dictionary:
        """What two tables beside it say, where they stand there."""
        sheets = {}
        for one in DESCRIBED_BY:
            beside = Reference(self.reference.kind, self.reference.url, f"{self.name}_{one}", self.reference.schema)
            server = server_of(beside)
            with told(beside, "read"):
                there = server.columns_there(self._connection)
                if there is None or (one == "variables" and not {"variable", "label"} <= set(there)):
                    break
                arrow, _ = server.arrow(self._connection, list(there), None)
            columns, _ = columns_from_arrow(arrow, list(there), ReadSettings(all_text=True), Dictionary(), beside.table)
            sheets[one] = Table(columns, name=beside.table)
        if "variables" not in sheets or not set(sheets["variables"].names) <= set(VARIABLE_HEADS):
            return Dictionary()
        return dictionary_of_sheets(**sheets)

    @property
    def dictionary(self) -> Dictionary:
        """What was said goes before what the tables beside it say."""
        known = self.settings.dictionary.for_reading(self.names)
        known = known.joined(self.described, extends_codes=False).without_tokens()
        for name, (type_, form) in self.settings.types.items():
            if name in self.names and not self.settings.all_text:
                known = known.with_variable(name, known.of(name).with_(type=type_, form=form))
        return known

    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> Read:
        """Read the table; only the columns and rows that are wanted come over the line."""
        asked = set(self.names if columns is None else columns)
        wanted = [name for name in self.names if name in asked]
        with told(self.reference, "read"):
            arrow, notes = self.server.arrow(self._connection, wanted, rows)
        made, more = columns_from_arrow(arrow, wanted, self.settings, self.described, self.name)
        left = self.names if len(wanted) < len(self.names) else ()
        table = Table(made, self.dictionary, name=self.name, first_row=1, names_in_source=left)
        labels = notes_on_labels(self.settings.dictionary, self.described, wanted)
        return Read(table, (*notes, *labels, *more) if not self.settings.all_text else ())

    def close(self) -> None:
        """End the connection."""
        if "_connection" in vars(self):
            with contextlib.suppress(Exception):
                self._connection.close()
            del vars(self)["_connection"]

    def fingerprint(self) -> str:
        """None: a server does not tell what has changed."""
        return ""
