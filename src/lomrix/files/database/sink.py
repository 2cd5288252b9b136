"""A database table as a sink: created beside the old one, read back, and swapped in."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
import pyarrow.compute as pc
from sqlalchemy import Connection

from lomrix.core.errors import FileError, SettingError
from lomrix.core.steps.account import Listing
from lomrix.core.steps.delivery import Delivery
from lomrix.core.steps.export.prepared import Prepared
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list
from lomrix.files.database.reference import Reference
from lomrix.files.database.server import UNCHANGED, Checksum, ColumnSpec, Index, Server, open_server, translate_errors
from lomrix.files.dictionary_text import make_sheets
from lomrix.files.interface import Location, Sink, StoredOutput, TableLocation
from lomrix.files.scratch import require_folder
from lomrix.files.staging import describe_losses

DESCRIBED_BY = ("variables", "codes")


@dataclass
class DatabaseSink(Sink):
    """A table of a database.

    `if_exists` says what happens to an existing table, with the general permission to overwrite taken into account.
    """

    reference: Reference
    delivery: Delivery
    if_exists: str = "stop"
    notes: list[Note] = field(default_factory=list)
    prepared: Prepared | None = None
    connection: Connection | None = None
    is_new_file: bool = False
    inode: int = 0
    staging: dict[str, str] = field(default_factory=dict)
    before: dict[str, Checksum] = field(default_factory=dict)

    @classmethod
    def open(cls, reference: str, delivery: Delivery, overwrite: bool) -> DatabaseSink:
        """Return the sink that a reference names."""
        if_exists = delivery.server.if_exists or ("replace" if overwrite else "stop")
        return cls(Reference.parse(reference), delivery, if_exists)

    @cached_property
    def server(self) -> Server:
        """The server."""
        return open_server(self.reference)

    @property
    def name(self) -> str:
        """The table's name."""
        return self.reference.table

    @property
    def locations(self) -> tuple[Location, ...]:
        """The table, and the two that describe it."""
        main = self.reference.location
        described = [TableLocation(main.database, f"{main.table}_{suffix}") for suffix in DESCRIBED_BY]
        return (main, *(described if self.delivery.server.describe else ()))

    @property
    def appends(self) -> bool:
        """Whether rows are added to an existing table."""
        return self.if_exists == "append" and bool(self._existing_columns)

    @property
    def _connected(self) -> Connection:
        if self.connection is None:
            path = self.reference.path
            self.is_new_file = path is not None and not path.exists()
            self.connection = self.server.connect()
            self.inode = path.stat().st_ino if path is not None and path.exists() else 0
        return self.connection

    @cached_property
    def _existing_columns(self) -> dict[str, object]:
        with translate_errors(self.reference, "looked at"):
            columns = self.server.list_columns(self._connected)
            self._connected.rollback()
        return columns or {}

    def check(self) -> None:
        """Stop if the server cannot be reached, or a table exists that may not be replaced."""
        path = self.reference.path
        if path is not None:
            require_folder(path.parent)
        for role in (self.reference.table, *self._list_described()):
            if len(role.encode()) > self.server.longest_name:
                raise FileError(
                    f"The name {role} is too long for this server.",
                    where=f"{len(role.encode())} bytes; it takes {self.server.longest_name}",
                    todo="Use a shorter table name.",
                )
        if path is not None and not path.exists():
            return  # connecting would create the file
        try:
            self._require_free()
        except BaseException:
            self.discard()
            raise

    def _require_free(self) -> None:
        if self.if_exists == "append" and self.delivery.server.describe:
            raise SettingError("describe", "Added rows use the existing dictionary.",
                               todo="Leave ‹describe› out, or use ‹if_exists=replace›.")  # fmt: skip
        with translate_errors(self.reference, "looked at"):
            tables = self.server.list_tables(self._connected)
            self._connected.rollback()
        for name in (self.reference.table, *self._list_described()):
            if name in tables and self.if_exists == "stop":
                raise FileError(
                    f"{self.reference} already exists."
                    if name == self.reference.table
                    else f"The table {name} already exists.",
                    todo="Use ‹if_exists=replace› or ‹if_exists=append›, or name another table.",
                )

    def _list_described(self) -> tuple[str, ...]:
        if not self.delivery.server.describe:
            return ()
        return tuple(f"{self.reference.table}_{suffix}" for suffix in DESCRIBED_BY)

    # ------------------------------------------------------------- the table

    def list_losses(self, table: Table) -> list[str]:
        """List what neither the table, nor its comments, nor the two tables beside it hold."""
        describes, comments = self.delivery.server.describe, self.reference.kind != "sqlite"
        return describe_losses(
            table,
            labels=not (describes or comments),
            codes=not (describes or comments),
            units=not (describes or comments),
        )

    def preview(self, table: Table) -> list[Listing]:
        """List the statements that create the table."""
        try:
            if self.appends:
                self.require_columns(table)
                statements = [f"rows will be added to {self.reference}"]
            else:
                statements = self.server.format_create(
                    self.reference.table, self.specify_columns(table), self.delivery.primary_key
                ).split("\n")
                statements += [self.server.format_index(self.reference.table, *index) for index in self.name_indexes()]
        finally:
            self.discard()
        return [Listing("the table that would be created", ("statement",), tuple((line,) for line in statements))]

    def specify_columns(self, table: Table) -> list[ColumnSpec]:
        """Return each column with the server's type and its comment.

        Raises SettingError if a type, key or index is stated for a column that does not exist. Raises FileError if a
        name is too long for the server, or two are the same for it.
        """
        types, key = self.delivery.server.types, self.delivery.primary_key
        stated = {
            "db_type": list(types),
            "primary_key": list(key),
            "index": [name_ for group in self.delivery.server.index for name_ in group],
        }
        for setting, names in stated.items():
            for name in names:
                if name not in table.columns:
                    todo = f"Columns to write are {shorten_list(table.names)}."
                    raise SettingError(setting, f"No column {name} for ‹{setting}›.", todo=todo)
        self.require_names(table.names)
        in_key = {*stated["primary_key"], *stated["index"]}
        specs = []
        for name, column in table.columns.items():
            type_ = types.get(name) or self.server.choose_type(
                name, column, measure_longest(column), in_key=name in in_key
            )
            specs.append(ColumnSpec(name, type_, format_comment(table, name), name in key))
        return specs

    def require_names(self, names: Sequence[str]) -> None:
        """Stop if the server would truncate a name, or treat two as the same."""
        seen: dict[str, str] = {}
        for name in names:
            if len(name.encode()) > self.server.longest_name:
                raise FileError(
                    f"The name {name} is too long for this server.",
                    where=f"{len(name.encode())} bytes; it takes {self.server.longest_name}",
                    todo=f"Use ‹names_max={self.server.longest_name}›.",
                )
            other = seen.setdefault(name.lower(), name)
            if other != name and self.reference.kind != "postgresql":
                raise FileError(
                    f"{other} and {name} are the same name for this server.", todo="Rename one of them first."
                )

    def require_columns(self, table: Table) -> None:
        """Stop if rows cannot be added because the existing table lacks a column."""
        missing = [name for name in table.names if name not in self._existing_columns]
        if missing:
            raise FileError(
                f"{self.reference} has no column {missing[0]}.",
                where=f"its columns are {shorten_list(self._existing_columns)}",
                todo="Choose the columns it has with ‹columns›, or use ‹if_exists=replace›.",
            )

    def name_indexes(self) -> list[Index]:
        """Return the indexes by their names."""
        return [(f"{self.reference.table}_{'_'.join(columns)}"[:50], columns) for columns in self.delivery.server.index]

    # -------------------------------------------------------------- the work

    def stage(self, content: object) -> None:
        """Load the rows into a table beside the old one, in a transaction if the server supports that."""
        assert isinstance(content, Table)
        try:
            with translate_errors(self.reference, "written", UNCHANGED):
                appends = self.appends  # this query ends a transaction
                self._lock_file()
                if appends:
                    self.require_columns(content)
                    self.before = self.server.fetch_checksums(self._connected, self.reference.table, content.columns)
                    self.load(self.reference.table, content.columns)
                else:
                    self.create_table(self.reference.table, content)
                    if self.delivery.server.describe:
                        for suffix, sheet in make_sheets(content.dictionary.for_columns(content.names)).items():
                            if suffix in DESCRIBED_BY:
                                self.create_table(f"{self.reference.table}_{suffix}", sheet)
        except BaseException:
            self.discard()
            raise

    def _lock_file(self) -> None:
        """Wait until no other program writes into the file; one that gave up may have removed it meanwhile."""
        path = self.reference.path
        if path is None:
            return
        self.server.execute(self._connected, "BEGIN IMMEDIATE")
        if not path.exists() or path.stat().st_ino != self.inode:
            raise FileError(f"{path} was removed by another program.", todo="Run the command again.")

    def create_table(self, table: str, content: Table) -> None:
        """Create a table under a temporary name, and load it."""
        is_main = table == self.reference.table
        columns = self.specify_columns(content) if is_main else self.specify_plain_columns(content)
        key = self.delivery.primary_key if is_main else ()
        staged_name = self.make_staged_name(table)
        self.staging[table] = staged_name
        self.server.execute(self._connected, self.server.format_create(staged_name, columns, key))
        self.load(staged_name, content.columns)
        self.server.add_comments(self._connected, staged_name, columns)
        for name, columns_of_index in self.name_indexes() if is_main and self.server.index_first else []:
            self.server.execute(self._connected, self.server.format_index(staged_name, name, columns_of_index))

    def specify_plain_columns(self, content: Table) -> list[ColumnSpec]:
        """Return the columns of a describing table."""
        return [
            ColumnSpec(name, self.server.choose_type(name, column, measure_longest(column), in_key=False))
            for name, column in content.columns.items()
        ]

    def make_staged_name(self, table: str) -> str:
        """Return a name that no table has; it identifies the connection, so that leftovers of a dead one can be
        dropped.
        """
        mark = f"_lomrix_{self.server.start_session(self._connected)}"
        return table.encode()[: self.server.longest_name - len(mark)].decode(errors="ignore") + mark

    def load(self, table: str, columns: Mapping[str, Column]) -> None:
        """Send the rows; an empty text is null for a server, as in a file."""
        loaded = {name: blank_empty_texts(column) for name, column in columns.items()}
        if loaded and len(next(iter(loaded.values()))):
            self.server.load(self._connected, table, loaded)

    def verify(self, table: Table) -> int:
        """Compare what the server holds: every cell, or the count and a checksum of every column.

        Raises FileError naming the differing column.
        """
        target = self.staging.get(self.reference.table, self.reference.table)
        loaded = Table({name: blank_empty_texts(column) for name, column in table.columns.items()}, name=table.name)
        try:
            with translate_errors(self.reference, "read back", UNCHANGED):
                fetched = self.server.fetch_checksums(self._connected, target, loaded.columns)
                expected = self.server.compute_checksums(loaded)
                for name, sent in expected.items():
                    difference = fetched[name] - self.before[name] if self.before else fetched[name]
                    if difference != sent:
                        subject = f"the column {name}" if name else "the number of rows"
                        raise FileError(
                            f"{self.reference} was not written: {subject} differs after reading back.",
                            where=f"{sent.count:,} cells with a value were sent, {difference.count:,} read back"
                            if difference.count != sent.count else "its checksum differs",
                            todo="Check whether ‹db_type› or a type of the table changes the values.",
                        )  # fmt: skip
                self.server.compare(
                    self._connected, target, loaded, self.before[""].count if self.before else 0, str(self.reference)
                )
        except BaseException:
            self.discard()
            raise
        return len(table) * len(table.names)

    def commit(self) -> tuple[StoredOutput, ...]:
        """Swap the new tables in for the old ones, at once."""
        connection = self._connected
        try:
            with translate_errors(self.reference, "written", UNCHANGED):
                self.server.swap(connection, self.staging, replaces=self.if_exists == "replace")
                if self.reference.table in self.staging:
                    staged_name = self.staging[self.reference.table]
                    self.server.rename_parts(connection, self.reference.table, staged_name, self.name_indexes())
                connection.commit()
        except BaseException:
            self.discard()
            raise
        described = [f"{self.reference}_{suffix}" for suffix in DESCRIBED_BY] if self.delivery.server.describe else []
        self.staging, self.is_new_file = {}, False
        connection.close()
        self.connection = None
        return tuple(StoredOutput(name) for name in (str(self.reference), *described))

    def discard(self) -> None:
        """Undo what was not committed, and drop staged tables."""
        if self.connection is None:
            return
        with contextlib.suppress(Exception):
            self.connection.rollback()
        try:
            self.server.drop(self.connection, list(self.staging.values()))
        except Exception:  # the connection is lost, so drop its tables through a new one
            with contextlib.suppress(Exception), contextlib.closing(self.server.connect()) as fresh:
                self.server.drop(fresh, list(self.staging.values()))
                fresh.commit()
        with contextlib.suppress(Exception):
            self._remove_new_file()
        with contextlib.suppress(Exception):
            self.connection.close()
        self.connection, self.staging = None, {}

    def _remove_new_file(self) -> None:
        """Remove a file that we created and that is still empty, unless another program uses it."""
        path = self.reference.path
        if not self.is_new_file or path is None or self.connection is None:
            return
        self.connection.rollback()
        self.server.execute(self.connection, "PRAGMA busy_timeout = 0")
        self.server.execute(self.connection, "BEGIN EXCLUSIVE")
        if not self.server.execute(self.connection, "SELECT COUNT(*) FROM sqlite_master").scalar_one():
            path.unlink(missing_ok=True)
        self.connection.rollback()


def measure_longest(column: Column) -> int:
    """Return the number of characters in the longest text."""
    if column.type != "string" or not len(column):
        return 0
    length = pc.max(pc.utf8_length(column.strings.strings)).as_py()
    return int(length or 0)


def blank_empty_texts(column: Column) -> Column:
    """Make empty texts blank."""
    if column.type != "string" or column.strings.strings.index("").as_py() < 0:
        return column
    is_empty = pc.equal(column.to_arrow(), "").fill_null(False).to_numpy(zero_copy_only=False)
    return column.with_missing(np.asarray(is_empty, np.bool_), "blank")


def format_comment(table: Table, name: str) -> str:
    """Return the comment of a column: its label, unit and codes."""
    entry = table.dictionary.of(name)
    parts = [entry.label + (f" [{entry.unit}]" if entry.unit else "") if entry.label else entry.unit]
    codes = table.dictionary.labels_of(name)
    if codes:
        parts.append(", ".join(f"{code} {label}" for code, label in codes.items()))
    missing = (
        ", ".join(f"{code} {reason}" for code, reason in entry.missing.items())
        if name in table.dictionary.coded
        else ""
    )
    if missing:
        parts.append(f"missing: {missing}")
    return "; ".join(part for part in parts if part)
