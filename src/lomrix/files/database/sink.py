"""A table of a database as a sink: made beside the old one, read back, and swapped in."""

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
from lomrix.core.wording import some_of
from lomrix.files.database.reference import Reference
from lomrix.files.database.server import OLD_STANDS, Checksum, ColumnMade, Index, Server, server_of, told
from lomrix.files.dictionary_text import dictionary_sheets
from lomrix.files.holding import lost
from lomrix.files.interface import Place, Placed, Sink, TablePlace

DESCRIBED_BY = ("variables", "codes")


@dataclass
class DatabaseSink(Sink):
    """A table of a database.

    Parameters
    ----------
    reference
        The table.
    delivery
        Types, keys and indexes, and what becomes of a table that is there.
    if_exists
        That, once the general permission to overwrite is counted in.
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
    def of(cls, reference: str, delivery: Delivery, overwrite: bool) -> DatabaseSink:
        """The sink that a reference names."""
        said = delivery.server.if_exists or ("replace" if overwrite else "stop")
        return cls(Reference.of(reference), delivery, said)

    @cached_property
    def server(self) -> Server:
        """The server."""
        return server_of(self.reference)

    @property
    def name(self) -> str:
        """The table's name."""
        return self.reference.table

    @property
    def places(self) -> tuple[Place, ...]:
        """The table, and the two that describe it."""
        main = self.reference.place
        more = [TablePlace(main.database, f"{main.table}_{one}") for one in DESCRIBED_BY]
        return (main, *(more if self.delivery.server.describe else ()))

    @property
    def appends(self) -> bool:
        """Whether rows are added to a table that is there."""
        return self.if_exists == "append" and bool(self._there)

    @property
    def _open(self) -> Connection:
        if self.connection is None:
            path = self.reference.path
            self.is_new_file = path is not None and not path.exists()
            self.connection = self.server.connect()
            self.inode = path.stat().st_ino if path is not None and path.exists() else 0
        return self.connection

    @cached_property
    def _there(self) -> dict[str, object]:
        with told(self.reference, "looked at"):
            found = self.server.columns_there(self._open)
            self._open.rollback()
        return found or {}

    def check(self) -> None:
        """Stop where the server cannot be reached, or a table is there that may not be replaced."""
        path = self.reference.path
        if path is not None and not path.parent.is_dir():
            raise FileError(f"There is no folder {path.parent}.", todo=f"Make it first: mkdir -p {path.parent}")
        for role in (self.reference.table, *self._describing()):
            if len(role.encode()) > self.server.longest_name:
                raise FileError(
                    f"The name {role} is too long for this server.",
                    where=f"{len(role.encode())} bytes; it takes {self.server.longest_name}",
                    todo="Give the table a shorter name.",
                )
        if path is not None and not path.exists():
            return  # a look would make the file
        try:
            self._require_place()
        except BaseException:
            self.discard()
            raise

    def _require_place(self) -> None:
        if self.if_exists == "append" and self.delivery.server.describe:
            raise SettingError("describe", "Rows that are added have the dictionary that stands there.",
                               todo="Leave ‹describe› out, or say ‹if_exists=replace›.")  # fmt: skip
        with told(self.reference, "looked at"):
            there = self.server.tables_there(self._open)
            self._open.rollback()
        for name in (self.reference.table, *self._describing()):
            if name in there and self.if_exists == "stop":
                raise FileError(
                    f"{self.reference} is there already."
                    if name == self.reference.table
                    else f"There is a table {name}.",
                    todo="Say ‹if_exists=replace› or ‹if_exists=append›, or name another table.",
                )

    def _describing(self) -> tuple[str, ...]:
        if not self.delivery.server.describe:
            return ()
        return tuple(f"{self.reference.table}_{one}" for one in DESCRIBED_BY)

    # ------------------------------------------------------------- the table

    def cannot_hold(self, table: Table) -> list[str]:
        """What neither the table, nor its comments, nor the two tables beside it hold."""
        describes, comments = self.delivery.server.describe, self.reference.kind != "sqlite"
        return lost(
            table,
            labels=not (describes or comments),
            codes=not (describes or comments),
            units=not (describes or comments),
        )

    def beforehand(self, table: Table) -> list[Listing]:
        """The statements that make the table."""
        try:
            if self.appends:
                self.require_columns(table)
                words = [f"rows are added to {self.reference}"]
            else:
                words = self.server.create_words(
                    self.reference.table, self.columns_made(table), self.delivery.primary_key
                ).split("\n")
                words += [self.server.index_words(self.reference.table, *one) for one in self.indexes()]
        finally:
            self.discard()
        return [Listing("the table that would be made", ("statement",), tuple((line,) for line in words))]

    def columns_made(self, table: Table) -> list[ColumnMade]:
        """Each column with the server's type and its comment.

        Raises
        ------
        SettingError
            Where a type, a key or an index is said of a column that is not there.
        FileError
            Where a name is too long for the server, or two are one to it.
        """
        types, key = self.delivery.server.types, self.delivery.primary_key
        said = {
            "db_type": list(types),
            "primary_key": list(key),
            "index": [one for group in self.delivery.server.index for one in group],
        }
        for setting, names in said.items():
            for name in names:
                if name not in table.columns:
                    todo = f"Columns that go out are {some_of(table.names)}."
                    raise SettingError(setting, f"There is no column {name} for ‹{setting}›.", todo=todo)
        self.require_names(table.names)
        in_key = {*said["primary_key"], *said["index"]}
        made = []
        for name, column in table.columns.items():
            type_ = types.get(name) or self.server.type_of(name, column, longest(column), in_key=name in in_key)
            made.append(ColumnMade(name, type_, comment_of(table, name), name in key))
        return made

    def require_names(self, names: Sequence[str]) -> None:
        """Stop where the server would cut a name, or take two for one."""
        seen: dict[str, str] = {}
        for name in names:
            if len(name.encode()) > self.server.longest_name:
                raise FileError(
                    f"The name {name} is too long for this server.",
                    where=f"{len(name.encode())} bytes; it takes {self.server.longest_name}",
                    todo=f"Say ‹names_max={self.server.longest_name}›.",
                )
            other = seen.setdefault(name.lower(), name)
            if other != name and self.reference.kind != "postgresql":
                raise FileError(f"{other} and {name} are one name to this server.", todo="Rename one of them first.")

    def require_columns(self, table: Table) -> None:
        """Stop where rows cannot be added, since a column is wanting in the table that is there."""
        wanting = [name for name in table.names if name not in self._there]
        if wanting:
            raise FileError(
                f"{self.reference} has no column {wanting[0]}.",
                where=f"its columns are {some_of(self._there)}",
                todo="Choose the columns it has with ‹columns›, or say ‹if_exists=replace›.",
            )

    def indexes(self) -> list[Index]:
        """The indexes by their names."""
        return [(f"{self.reference.table}_{'_'.join(one)}"[:50], one) for one in self.delivery.server.index]

    # -------------------------------------------------------------- the work

    def stage(self, content: object) -> None:
        """Load the rows into a table beside the old one, in a transaction where the server has them for that."""
        assert isinstance(content, Table)
        try:
            with told(self.reference, "written", OLD_STANDS):
                appends = self.appends  # a look that ends a transaction
                self._begin_alone()
                if appends:
                    self.require_columns(content)
                    self.before = self.server.checksums(self._open, self.reference.table, content.columns)
                    self.load(self.reference.table, content.columns)
                else:
                    self.make(self.reference.table, content)
                    if self.delivery.server.describe:
                        for one, sheet in dictionary_sheets(content.dictionary.for_columns(content.names)).items():
                            if one in DESCRIBED_BY:
                                self.make(f"{self.reference.table}_{one}", sheet)
        except BaseException:
            self.discard()
            raise

    def _begin_alone(self) -> None:
        """Wait until no other program writes into the file; one that gave up may have taken it away meanwhile."""
        path = self.reference.path
        if path is None:
            return
        self.server.say(self._open, "BEGIN IMMEDIATE")
        if not path.exists() or path.stat().st_ino != self.inode:
            raise FileError(f"{path} was taken away by another program.", todo="Run the command again.")

    def make(self, table: str, content: Table) -> None:
        """Make a table under a name of its own, and load it."""
        is_main = table == self.reference.table
        columns = self.columns_made(content) if is_main else self.plain_columns(content)
        key = self.delivery.primary_key if is_main else ()
        beside = self.name_beside(table)
        self.staging[table] = beside
        self.server.say(self._open, self.server.create_words(beside, columns, key))
        self.load(beside, content.columns)
        self.server.comment(self._open, beside, columns)
        for name, inside in self.indexes() if is_main and self.server.index_first else []:
            self.server.say(self._open, self.server.index_words(beside, name, inside))

    def plain_columns(self, content: Table) -> list[ColumnMade]:
        """The columns of a table that describes."""
        return [
            ColumnMade(name, self.server.type_of(name, column, longest(column), in_key=False))
            for name, column in content.columns.items()
        ]

    def name_beside(self, table: str) -> str:
        """A name that no table has; it tells which connection is at work, so that what a dead one left can go."""
        mark = f"_lomrix_{self.server.session(self._open)}"
        return table.encode()[: self.server.longest_name - len(mark)].decode(errors="ignore") + mark

    def load(self, table: str, columns: Mapping[str, Column]) -> None:
        """Send the rows; an empty text is nothing to a server, as it is in a file."""
        ready = {name: without_empty_texts(column) for name, column in columns.items()}
        if ready and len(next(iter(ready.values()))):
            self.server.load(self._open, table, ready)

    def verify(self, table: Table) -> int:
        """Compare what the server holds: every cell, or the count and a checksum of every column.

        Raises
        ------
        FileError
            Naming the column that differs.
        """
        target = self.staging.get(self.reference.table, self.reference.table)
        ready = Table({name: without_empty_texts(column) for name, column in table.columns.items()}, name=table.name)
        try:
            with told(self.reference, "read back", OLD_STANDS):
                found = self.server.checksums(self._open, target, ready.columns)
                expected = self.server.expected(ready)
                for name, sent in expected.items():
                    holds = found[name] - self.before[name] if self.before else found[name]
                    if holds != sent:
                        what = f"the column {name}" if name else "the number of rows"
                        raise FileError(
                            f"{self.reference} was not written: {what} did not come back as it went out.",
                            where=f"{sent.count:,} cells with a value went out, {holds.count:,} came back"
                            if holds.count != sent.count else "its checksum differs",
                            todo="Look whether ‹db_type› or a type of the table changes the values.",
                        )  # fmt: skip
                self.server.compare(
                    self._open, target, ready, self.before[""].count if self.before else 0, str(self.reference)
                )
        except BaseException:
            self.discard()
            raise
        return len(table) * len(table.names)

    def commit(self) -> tuple[Placed, ...]:
        """Swap the new tables in for the old ones, at once."""
        connection = self._open
        try:
            with told(self.reference, "written", OLD_STANDS):
                self.server.swap(connection, self.staging, replaces=self.if_exists == "replace")
                if self.reference.table in self.staging:
                    beside = self.staging[self.reference.table]
                    self.server.finish(connection, self.reference.table, beside, self.indexes())
                connection.commit()
        except BaseException:
            self.discard()
            raise
        more = [f"{self.reference}_{one}" for one in DESCRIBED_BY] if self.delivery.server.describe else []
        self.staging, self.is_new_file = {}, False
        connection.close()
        self.connection = None
        return tuple(Placed(name) for name in (str(self.reference), *more))

    def discard(self) -> None:
        """Undo what was not committed, and take away what was made beside."""
        if self.connection is None:
            return
        with contextlib.suppress(Exception):
            self.connection.rollback()
        try:
            self.server.drop(self.connection, list(self.staging.values()))
        except Exception:  # the connection is lost, and with it the way to take away what it made
            with contextlib.suppress(Exception), contextlib.closing(self.server.connect()) as fresh:
                self.server.drop(fresh, list(self.staging.values()))
                fresh.commit()
        with contextlib.suppress(Exception):
            self._take_away_new_file()
        with contextlib.suppress(Exception):
            self.connection.close()
        self.connection, self.staging = None, {}

    def _take_away_new_file(self) -> None:
        """Leave no file behind in which nothing stands, unless another program is at work in it."""
        path = self.reference.path
        if not self.is_new_file or path is None or self.connection is None:
            return
        self.connection.rollback()
        self.server.say(self.connection, "PRAGMA busy_timeout = 0")
        self.server.say(self.connection, "BEGIN EXCLUSIVE")
        if not self.server.say(self.connection, "SELECT COUNT(*) FROM sqlite_master").scalar_one():
            path.unlink(missing_ok=True)
        self.connection.rollback()


def longest(column: Column) -> int:
    """The number of signs in the longest text."""
    if column.type != "string" or not len(column):
        return 0
    found = pc.max(pc.utf8_length(column.strings.strings)).as_py()
    return int(found or 0)


def without_empty_texts(column: Column) -> Column:
    """A column in which an empty text is a blank."""
    if column.type != "string" or column.strings.strings.index("").as_py() < 0:
        return column
    empty = pc.equal(column.to_arrow(), "").fill_null(False).to_numpy(zero_copy_only=False)
    return column.with_missing(np.asarray(empty, np.bool_), "blank")


def comment_of(table: Table, name: str) -> str:
    """What is told of a column on the server: its label, unit and codes."""
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
