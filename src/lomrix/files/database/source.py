"""A database table as a source."""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterator, Sequence
from functools import cached_property
from typing import Any

import pyarrow as pa
from sqlalchemy import Connection

from lomrix.core.combining import Run, run_in_memory
from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.entry_changes import note_overridden_labels
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list
from lomrix.files.arrow_columns import columns_from_arrow
from lomrix.files.database.reference import Reference
from lomrix.files.database.server import Server, open_server, translate_errors
from lomrix.files.database.sink import DESCRIBED_BY
from lomrix.files.dictionary_text import VARIABLE_HEADS, parse_sheets
from lomrix.files.interface import Location, ReadResult, Source
from lomrix.files.reading import ReadSettings
from lomrix.files.scratch import Noted, TableStore

# What a server records may be outdated, so fewer rows are counted.
LARGE = 1_000_000
# Rows that are read at once, where they go to disk.
ROWS_AT_ONCE = 1 << 20


class DatabaseSource(Source):
    """A table or a view of a database."""

    def __init__(self, reference: str, settings: ReadSettings) -> None:
        self.reference, self.settings = Reference.parse(reference), settings
        self.server: Server = open_server(self.reference)
        path = self.reference.path
        if path is not None and not path.exists():
            raise FileError(f"The file {path} does not exist.", todo="Check the path.")

    @cached_property
    def _connection(self) -> Connection:
        # Without transactions: reading must not block others.
        return self.server.connect().execution_options(isolation_level="AUTOCOMMIT")

    @property
    def name(self) -> str:
        """The table's name."""
        return self.reference.table

    @property
    def locations(self) -> tuple[Location, ...]:
        """The table."""
        return (self.reference.location,)

    @cached_property
    def _columns(self) -> dict[str, Any]:
        with translate_errors(self.reference, "read"):
            columns = self.server.list_columns(self._connection)
            if columns is None:
                tables = self.server.list_tables(self._connection)
        if columns is None:
            listing = shorten_list(tables) or "none"
            raise FileError(f"The table {self.reference} does not exist.", todo=f"Its tables are {listing}.")
        return columns

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""
        return tuple(self._columns)

    @cached_property
    def described(self) -> Dictionary:
        """The dictionary in the two tables beside it, if they exist."""
        sheets = {}
        for suffix in DESCRIBED_BY:
            reference = Reference(
                self.reference.kind, self.reference.url, f"{self.name}_{suffix}", self.reference.schema
            )
            server = open_server(reference)
            with translate_errors(reference, "read"):
                columns_there = server.list_columns(self._connection)
                if columns_there is None or (suffix == "variables" and not {"variable", "label"} <= set(columns_there)):
                    break
                arrow, _ = server.read_arrow(self._connection, list(columns_there), None)
            columns, _ = columns_from_arrow(
                arrow, list(columns_there), ReadSettings(all_text=True), Dictionary(), reference.table
            )
            sheets[suffix] = Table(columns, name=reference.table)
        if "variables" not in sheets or not set(sheets["variables"].names) <= set(VARIABLE_HEADS):
            return Dictionary()
        return parse_sheets(sheets)

    @property
    def dictionary(self) -> Dictionary:
        """The stated dictionary, completed by the tables beside it."""
        result = self.settings.dictionary.for_reading(self.names)
        result = result.join(self.described, extends_codes=False).without_tokens()
        for name, (type_, form) in self.settings.types.items():
            if name in self.names and not self.settings.all_text:
                result = result.with_variable(name, result.of(name).with_parts(type=type_, form=form))
        return result

    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> ReadResult:
        """Read the table; only the needed columns and rows are transferred."""
        requested = set(self.names if columns is None else columns)
        chosen = [name for name in self.names if name in requested]
        with translate_errors(self.reference, "read"):
            arrow, notes = self.server.read_arrow(self._connection, chosen, rows)
        table, all_notes = self._convert(arrow, notes, chosen)
        labels = note_overridden_labels(self.settings.dictionary, self.described, chosen)
        return ReadResult(table, (*all_notes, *labels) if not self.settings.all_text else ())

    def _convert(self, arrow: pa.Table, notes: Sequence[Note], chosen: list[str]) -> Noted:
        """Convert what was read, with notes on its cells."""
        columns, more = columns_from_arrow(arrow, chosen, self.settings, self.described, self.name)
        all_names = self.names if len(chosen) < len(self.names) else ()
        table = Table(columns, self.dictionary, name=self.name, first_row=1, names_in_source=all_names)
        return table, (*notes, *more)

    def read_into(self, store: TableStore, columns: Collection[str], run: Run = run_in_memory) -> ReadResult:
        """Read the given columns to disk, some rows at a time."""
        chosen = [name for name in self.names if name in set(columns)]

        def read_parts() -> Iterator[Noted]:
            for arrow, notes in self.server.iterate_arrow(self._connection, chosen, None, ROWS_AT_ONCE):
                yield self._convert(arrow, notes, chosen)

        def read_again(name: str) -> Noted:
            return self._convert(*self.server.read_arrow(self._connection, [name], None), [name])

        self.described  # noqa: B018 found before the connection is busy with the rows
        with translate_errors(self.reference, "read"):
            notes = store.fill(read_parts(), read_again)
        labels = note_overridden_labels(self.settings.dictionary, self.described, chosen)
        return ReadResult(store.finish(), (*notes, *labels) if not self.settings.all_text else ())

    def estimate_rows(self) -> int:
        """Return about how many rows there are; counted, unless the server knows that counting takes long."""
        self._columns  # noqa: B018 the table must exist
        with translate_errors(self.reference, "read"):
            known = self.server.estimate_rows(self._connection)
            return known if known is not None and known > LARGE else self.server.count_rows(self._connection)

    def close(self) -> None:
        """Close the connection."""
        if "_connection" in vars(self):
            with contextlib.suppress(Exception):
                self._connection.close()
            del vars(self)["_connection"]

    def compute_fingerprint(self) -> str:
        """Return an empty text: a server does not report what changed."""
        return ""
