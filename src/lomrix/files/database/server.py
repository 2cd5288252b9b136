"""What all servers have in common, and the errors that they give in plain words."""

from __future__ import annotations

import contextlib
import secrets
import sys
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import sqlalchemy
from sqlalchemy import Connection, Engine
from sqlalchemy.exc import DBAPIError, NoSuchTableError, SQLAlchemyError

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.database.reference import DRIVERS, PASSWORD, Reference, password_of

# Seconds that are waited for a lock that another program holds.
PATIENCE = 10
KEPT = "Nothing was changed."
OLD_STANDS = "What was there before is as it was."
# Where rows are sent and fetched by the drivers themselves, their errors come as they are.
DRIVER_MODULES = ("sqlite3", "psycopg", "pymysql")


@dataclass(frozen=True)
class Checksum:
    """The number of cells with a value, and the sum of a number that each of them has."""

    count: int
    total: int

    def __sub__(self, other: Checksum) -> Checksum:
        return Checksum(self.count - other.count, self.total - other.total)


Index = tuple[str, tuple[str, ...]]


@dataclass(frozen=True)
class ColumnMade:
    """One column of a table to be made: its name, the server's own type, and what is told of it."""

    name: str
    type: str
    comment: str = ""
    is_needed: bool = False


class Server(ABC):
    """One kind of server. The connection is made once and used for the whole task.

    Parameters
    ----------
    reference
        The table.
    """

    longest_name = 63
    quote = '"'

    def __init__(self, reference: Reference) -> None:
        self.reference = reference
        self.engine: Engine = sqlalchemy.create_engine(
            self.url(), poolclass=sqlalchemy.NullPool, connect_args=self.arguments(), hide_parameters=True
        )

    # --------------------------------------------------------- what kinds say

    def arguments(self) -> dict[str, Any]:
        """What the driver is told."""
        return {}

    def begin(self, connection: Connection) -> None:
        """What is said first to a server."""
        return

    @abstractmethod
    def type_of(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """The server's type for a column; `longest` is the length of its longest text."""

    @abstractmethod
    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """Send rows to a table, by the server's quickest way."""

    @abstractmethod
    def checksum_words(self, name: str, column: Column) -> str:
        """SQL for the sum that a column has to have."""

    @abstractmethod
    def checksum(self, column: Column) -> int:
        """The same sum, of the column here."""

    @abstractmethod
    def arrow(self, connection: Connection, names: Sequence[str], rows: range | None) -> tuple[pa.Table, list[Note]]:
        """Some columns, and some rows or all, as a pyarrow Table."""

    # -------------------------------------------------------------- the rest

    def url(self) -> sqlalchemy.URL:
        """The URL with the driver's name, and the password."""
        made = sqlalchemy.make_url(self.reference.url)
        password = password_of(self.reference.url)
        made = made.set(drivername=DRIVERS[made.drivername.partition("+")[0]])
        return made.set(password=password) if password is not None and self.reference.kind != "sqlite" else made

    def connect(self) -> Connection:
        """A connection; a person at a terminal is asked for a password where the server wants one.

        Raises
        ------
        FileError
            Where there is none to be had.
        """
        try:
            with told(self.reference, "reached"):
                connection = self.engine.connect()
        except FileError as error:
            wants = "password" in error.where.lower() or "access denied" in error.where.lower()
            if not wants or not sys.stdin.isatty() or password_of(self.reference.url) is not None:
                raise
            from getpass import getpass

            word = getpass(f"Password for {self.reference.url}: ")
            self.engine = sqlalchemy.create_engine(
                self.url().set(password=word), poolclass=sqlalchemy.NullPool, connect_args=self.arguments(),
                hide_parameters=True,
            )  # fmt: skip
            with told(self.reference, "reached"):
                connection = self.engine.connect()
        with told(self.reference, "reached"):
            self.begin(connection)
        return connection

    def quoted(self, name: str) -> str:
        """A name as the server takes it for nothing but a name."""
        return self.quote + name.replace(self.quote, self.quote * 2) + self.quote

    def full_name(self, table: str = "") -> str:
        """A table's name with its schema, quoted."""
        name = self.quoted(table or self.reference.table)
        return f"{self.quoted(self.reference.schema)}.{name}" if self.reference.schema else name

    def say(self, connection: Connection, words: str) -> Any:
        """Have the server do one thing; nothing in the words stands for a value."""
        return connection.exec_driver_sql(words, execution_options={"no_parameters": True})

    def columns_there(self, connection: Connection, table: str = "") -> dict[str, Any] | None:
        """The columns of a table with their types; None where there is no such table."""
        try:
            found = sqlalchemy.inspect(connection).get_columns(
                table or self.reference.table, schema=self.reference.schema or None
            )
        except NoSuchTableError:
            return None
        return {column["name"]: column["type"] for column in found}

    def tables_there(self, connection: Connection) -> list[str]:
        """The names of all tables in the schema, views among them."""
        look, schema = sqlalchemy.inspect(connection), self.reference.schema or None
        return [*look.get_table_names(schema=schema), *look.get_view_names(schema=schema)]

    def key_there(self, connection: Connection) -> list[str]:
        """The columns of the primary key, by which rows can be ordered; empty where there is none."""
        found = sqlalchemy.inspect(connection).get_pk_constraint(
            self.reference.table, schema=self.reference.schema or None
        )
        return list(found.get("constrained_columns") or [])

    def create_words(self, table: str, columns: Sequence[ColumnMade], key: Sequence[str]) -> str:
        """The statement that makes a table."""
        lines = [self.column_words(column) for column in columns]
        if key:
            lines.append(f"PRIMARY KEY ({', '.join(map(self.quoted, key))})")
        return f"CREATE TABLE {self.full_name(table)} (\n  " + ",\n  ".join(lines) + "\n)" + self.table_options

    table_options = ""

    def column_words(self, column: ColumnMade) -> str:
        """One column in that statement."""
        return f"{self.quoted(column.name)} {column.type}" + (" NOT NULL" if column.is_needed else "")

    def comment(self, connection: Connection, table: str, columns: Sequence[ColumnMade]) -> None:
        """Put labels on the columns, where the server has room for them and they are not told otherwise."""
        return

    def index_words(self, table: str, name: str, columns: Sequence[str]) -> str:
        """The statement that makes an index."""
        inside = ", ".join(map(self.quoted, columns))
        return f"CREATE INDEX {self.quoted(name)} ON {self.full_name(table)} ({inside})"

    def session(self, connection: Connection) -> str:
        """A mark of the connection."""
        return secrets.token_hex(4)

    def compare(self, connection: Connection, table: str, made: Table, after: int, final: str) -> int:
        """Compare the cells behind the first so many rows with those that were sent, where checksums do not."""
        return 0

    def swap(self, connection: Connection, made: Mapping[str, str], *, replaces: bool) -> None:
        """Put new tables in their places, inside the transaction; the server says no where a table is there.

        Parameters
        ----------
        connection
            Where it is done.
        made
            By the name that a table shall have, the one that it has.
        replaces
            Whether old tables go first.
        """
        for name, beside in made.items():
            if replaces:
                self.say(connection, f"DROP TABLE IF EXISTS {self.full_name(name)}")
            self.say(connection, f"ALTER TABLE {self.full_name(beside)} RENAME TO {self.quoted(name)}")

    # Whether indexes can be made on a table before it has its own name.
    index_first = True

    def finish(self, connection: Connection, table: str, beside: str, indexes: Sequence[Index]) -> None:
        """Give what belongs to a table, once it stands in its place, the names that it shall have."""
        return

    def drop(self, connection: Connection, made: Sequence[str]) -> None:
        """Take away tables that were made beside, where undoing the transaction has not done so."""
        return

    def checksums(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> dict[str, Checksum]:
        """What the server holds: for each column the number of cells with a value, and their sum."""
        words = [f"COUNT({self.quoted(name)}), {self.checksum_words(name, column)}" for name, column in columns.items()]
        row = self.say(connection, f"SELECT COUNT(*), {', '.join(words)} FROM {self.full_name(table)}").one()
        found = {"": Checksum(int(row[0]), 0)}
        for at, name in enumerate(columns):
            found[name] = Checksum(int(row[1 + 2 * at]), int(row[2 + 2 * at] or 0))
        return found

    def expected(self, table: Table) -> dict[str, Checksum]:
        """The same of the table here."""
        found = {"": Checksum(len(table), 0)}
        for name, column in table.columns.items():
            found[name] = Checksum(len(column) - column.missing_count, self.checksum(column))
        return found


@contextlib.contextmanager
def told(reference: Reference, done: str, more: str = "") -> Iterator[None]:
    """Whatever a server says against something becomes a plain error.

    Raises
    ------
    FileError
        With the server's own reason; a password is never in it.
    """
    try:
        yield
    except DBAPIError as error:
        raise refused(reference, done, error.orig or error, more) from error
    except (SQLAlchemyError, OSError) as error:
        raise refused(reference, done, error, more) from error
    except Exception as error:
        if type(error).__module__.partition(".")[0] not in DRIVER_MODULES:
            if not is_of_driver(error):
                raise
            # A driver that stumbles over its own lost connection.
            raise refused(reference, done, ConnectionError("the connection was lost"), more) from error
        raise refused(reference, done, error, more) from error


def is_of_driver(error: BaseException) -> bool:
    """True where an error arose inside a driver."""
    at = error.__traceback__
    while at is not None and at.tb_next is not None:
        at = at.tb_next
    return at is not None and str(at.tb_frame.f_globals.get("__name__")).partition(".")[0] in DRIVER_MODULES


def refused(reference: Reference, done: str, error: BaseException, more: str = "") -> FileError:
    """The error for what a server said."""
    words = message_of(error)
    low = words.lower()
    todo = more
    if done == "reached":
        todo = "Check the host, the port and whether the server runs."
        if "password" in low or "access denied" in low or "authentication" in low:
            todo = f"Check the user, and say the password in {PASSWORD}."
        elif "does not exist" in low or "unknown database" in low:
            todo = "Check the name of the database."
        elif reference.kind == "sqlite":
            todo = "Check the path of the file."
    elif "lock" in low:
        todo = f"Another program holds the table; it was waited for {PATIENCE} seconds. {more}".strip()
    return FileError(f"{reference} cannot be {done}.", where=words, todo=todo or KEPT)


def message_of(error: BaseException) -> str:
    """What a driver says, in one line: the server's message, and the place that it names."""
    diag = getattr(error, "diag", None)
    if diag is not None and getattr(diag, "message_primary", None):
        # A whole row, or a line of what was sent, may name people: of it only the place is told.
        detail = getattr(diag, "message_detail", None) or ""
        detail = "" if detail.startswith("Failing row") else detail
        place = (getattr(diag, "context", None) or "").partition(': "')[0]
        parts = [diag.message_primary, detail, place]
        return "; ".join(part.strip().splitlines()[0] for part in parts if part.strip())
    arguments: Any = getattr(error, "args", ())
    if len(arguments) == 2 and isinstance(arguments[0], int):
        return str(arguments[1]).strip().splitlines()[0]
    lines = str(error).strip().splitlines()
    return lines[0] if lines else type(error).__name__


def server_of(reference: Reference) -> Server:
    """The server that a reference names; only its own module is loaded."""
    import importlib

    module = importlib.import_module(f"lomrix.files.database.{reference.kind}")
    made: Server = module.Made(reference)
    return made
