"""What all servers have in common, and their errors in plain words."""

from __future__ import annotations

import contextlib
import secrets
import sys
import warnings
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import pyarrow as pa
import sqlalchemy
from sqlalchemy import Connection, Engine
from sqlalchemy.exc import DBAPIError, NoSuchTableError, SAWarning, SQLAlchemyError

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.database.reference import DRIVERS, PASSWORD, Reference, find_password

# Seconds to wait for a lock that another program holds.
PATIENCE = 10
KEPT = "Nothing was changed."
UNCHANGED = "The previous content is unchanged."
# Rows are sent and fetched by the drivers directly, so their own errors occur too.
DRIVER_MODULES = ("sqlite3", "psycopg", "pymysql")

# A column of a kind that SQLAlchemy does not know is read as text.
warnings.filterwarnings("ignore", "Did not recognize type", SAWarning)


@dataclass(frozen=True)
class Checksum:
    """The number of present cells, and the sum of a number that each of them has."""

    count: int
    total: int

    def __sub__(self, other: Checksum) -> Checksum:
        return Checksum(self.count - other.count, self.total - other.total)


Index = tuple[str, tuple[str, ...]]


@dataclass(frozen=True)
class ColumnSpec:
    """One column of a table to be created: its name, the server's type, comment, and whether it is required."""

    name: str
    type: str
    comment: str = ""
    is_needed: bool = False


class Server(ABC):
    """One kind of server. The connection is opened once and used for the whole task."""

    longest_name = 63
    quote = '"'

    def __init__(self, reference: Reference) -> None:
        self.reference = reference
        self.engine: Engine = sqlalchemy.create_engine(
            self.make_url(), poolclass=sqlalchemy.NullPool, connect_args=self.make_arguments(), hide_parameters=True
        )

    # ------------------------------------------------- implemented by each kind

    def make_arguments(self) -> dict[str, Any]:
        """Return arguments for the driver."""
        return {}

    def begin(self, connection: Connection) -> None:
        """Run the first statements of a connection."""
        return

    @abstractmethod
    def choose_type(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """Return the server's type for a column; `longest` is the length of its longest text."""

    @abstractmethod
    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """Send rows to a table in the server's fastest way."""

    @abstractmethod
    def format_checksum(self, name: str, column: Column) -> str:
        """Return SQL for a column's checksum."""

    @abstractmethod
    def checksum(self, column: Column) -> int:
        """Return the same checksum of the local column."""

    @abstractmethod
    def iterate_arrow(
        self, connection: Connection, names: Sequence[str], rows: range | None = None, size: int | None = None
    ) -> Iterator[tuple[pa.Table, list[Note]]]:
        """Yield some columns, and some rows or all, as pyarrow Tables of about `size` rows, or one; at least one."""

    @abstractmethod
    def estimate_rows(self, connection: Connection) -> int | None:
        """Return about how many rows there are by the server's own records; None if it has none."""

    def read_arrow(
        self, connection: Connection, names: Sequence[str], rows: range | None
    ) -> tuple[pa.Table, list[Note]]:
        """Return some columns, and some rows or all, as a pyarrow Table."""
        (result,) = self.iterate_arrow(connection, names, rows)
        return result

    def count_rows(self, connection: Connection) -> int:
        """Count the rows."""
        return int(self.execute(connection, f"SELECT COUNT(*) FROM {self.full_name()}").scalar())

    # ----------------------------------------------------------------- common

    def make_url(self) -> sqlalchemy.URL:
        """Return the URL with the driver's name and the password."""
        url = sqlalchemy.make_url(self.reference.url)
        password = find_password(self.reference.url)
        url = url.set(drivername=DRIVERS[url.drivername.partition("+")[0]])
        return url.set(password=password) if password is not None and self.reference.kind != "sqlite" else url

    def connect(self) -> Connection:
        """Open a connection; at a terminal, ask for the password if the server needs one.

        Raises FileError if there is none.
        """
        try:
            with translate_errors(self.reference, "reached"):
                connection = self.engine.connect()
        except FileError as error:
            needs_password = "password" in error.where.lower() or "access denied" in error.where.lower()
            if not needs_password or not sys.stdin.isatty() or find_password(self.reference.url) is not None:
                raise
            from getpass import getpass

            password = getpass(f"Password for {self.reference.url}: ")
            self.engine = sqlalchemy.create_engine(
                self.make_url().set(password=password), poolclass=sqlalchemy.NullPool,
                connect_args=self.make_arguments(), hide_parameters=True,
            )  # fmt: skip
            with translate_errors(self.reference, "reached"):
                connection = self.engine.connect()
        with translate_errors(self.reference, "reached"):
            self.begin(connection)
        return connection

    def quote_name(self, name: str) -> str:
        """Quote an identifier."""
        return self.quote + name.replace(self.quote, self.quote * 2) + self.quote

    def full_name(self, table: str = "") -> str:
        """A table's name with its schema, quoted."""
        name = self.quote_name(table or self.reference.table)
        return f"{self.quote_name(self.reference.schema)}.{name}" if self.reference.schema else name

    def execute(self, connection: Connection, statement: str) -> Any:
        """Execute one statement; nothing in it is a placeholder."""
        return connection.exec_driver_sql(statement, execution_options={"no_parameters": True})

    def list_columns(self, connection: Connection, table: str = "") -> dict[str, Any] | None:
        """Return the columns of a table with their types; None if there is no such table."""
        try:
            columns = sqlalchemy.inspect(connection).get_columns(
                table or self.reference.table, schema=self.reference.schema or None
            )
        except NoSuchTableError:
            return None
        return {column["name"]: column["type"] for column in columns}

    def list_tables(self, connection: Connection) -> list[str]:
        """Return the names of all tables and views in the schema."""
        inspector, schema = sqlalchemy.inspect(connection), self.reference.schema or None
        return [*inspector.get_table_names(schema=schema), *inspector.get_view_names(schema=schema)]

    def list_key(self, connection: Connection) -> list[str]:
        """Return the columns of the primary key, by which rows can be ordered; empty if there is none."""
        constraint = sqlalchemy.inspect(connection).get_pk_constraint(
            self.reference.table, schema=self.reference.schema or None
        )
        return list(constraint.get("constrained_columns") or [])

    def format_create(self, table: str, columns: Sequence[ColumnSpec], key: Sequence[str]) -> str:
        """Return the statement that creates a table."""
        lines = [self.format_column(column) for column in columns]
        if key:
            lines.append(f"PRIMARY KEY ({', '.join(map(self.quote_name, key))})")
        return f"CREATE TABLE {self.full_name(table)} (\n  " + ",\n  ".join(lines) + "\n)" + self.table_options

    table_options = ""

    def format_column(self, column: ColumnSpec) -> str:
        """Return one column of that statement."""
        return f"{self.quote_name(column.name)} {column.type}" + (" NOT NULL" if column.is_needed else "")

    def add_comments(self, connection: Connection, table: str, columns: Sequence[ColumnSpec]) -> None:
        """Add labels to the columns, if the server stores comments separately."""
        return

    def format_index(self, table: str, name: str, columns: Sequence[str]) -> str:
        """Return the statement that creates an index."""
        column_list = ", ".join(map(self.quote_name, columns))
        return f"CREATE INDEX {self.quote_name(name)} ON {self.full_name(table)} ({column_list})"

    def start_session(self, connection: Connection) -> str:
        """Return a mark of the connection."""
        return secrets.token_hex(4)

    def compare(self, connection: Connection, table: str, result: Table, after: int, final: str) -> int:
        """Compare the cells after the given row with those sent, if there are no checksums."""
        return 0

    def swap(self, connection: Connection, staged: Mapping[str, str], *, replaces: bool) -> None:
        """Move new tables to their names, in the transaction; `staged` maps final to current names, `replaces` drops
        old tables first.
        """
        for name, staged_name in staged.items():
            if replaces:
                self.execute(connection, f"DROP TABLE IF EXISTS {self.full_name(name)}")
            self.execute(connection, f"ALTER TABLE {self.full_name(staged_name)} RENAME TO {self.quote_name(name)}")

    # Whether indexes can be created before a table has its final name.
    index_first = True

    def rename_parts(self, connection: Connection, table: str, beside: str, indexes: Sequence[Index]) -> None:
        """Give the indexes and keys of a table in its place their final names."""
        return

    def drop(self, connection: Connection, tables: Sequence[str]) -> None:
        """Drop staged tables that a rollback has not removed."""
        return

    def fetch_checksums(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> dict[str, Checksum]:
        """Return what the server holds: for each column the number of present cells, and their sum."""
        expressions = [
            f"COUNT({self.quote_name(name)}), {self.format_checksum(name, column)}" for name, column in columns.items()
        ]
        row = self.execute(connection, f"SELECT COUNT(*), {', '.join(expressions)} FROM {self.full_name(table)}").one()
        result = {"": Checksum(int(row[0]), 0)}
        for index, name in enumerate(columns):
            result[name] = Checksum(int(row[1 + 2 * index]), int(row[2 + 2 * index] or 0))
        return result

    def compute_checksums(self, table: Table) -> dict[str, Checksum]:
        """Return the same for the local table."""
        result = {"": Checksum(len(table), 0)}
        for name, column in table.columns.items():
            result[name] = Checksum(len(column) - column.missing_count, self.checksum(column))
        return result


@contextlib.contextmanager
def translate_errors(reference: Reference, action: str, more: str = "") -> Iterator[None]:
    """Turn errors of a server or driver into plain errors.

    Raises FileError with the server's own reason, never with a password.
    """
    try:
        yield
    except DBAPIError as error:
        raise make_error(reference, action, error.orig or error, more) from error
    except (SQLAlchemyError, OSError) as error:
        raise make_error(reference, action, error, more) from error
    except Exception as error:
        if type(error).__module__.partition(".")[0] not in DRIVER_MODULES:
            if not is_driver_error(error):
                raise
            # A driver that fails on its own lost connection.
            raise make_error(reference, action, ConnectionError("the connection was lost"), more) from error
        raise make_error(reference, action, error, more) from error


def is_driver_error(error: BaseException) -> bool:
    """Return whether an error arose inside a driver."""
    traceback = error.__traceback__
    while traceback is not None and traceback.tb_next is not None:
        traceback = traceback.tb_next
    return (
        traceback is not None and str(traceback.tb_frame.f_globals.get("__name__")).partition(".")[0] in DRIVER_MODULES
    )


def make_error(reference: Reference, action: str, error: BaseException, hint: str = "") -> FileError:
    """Make the error for a server's message."""
    message = get_message(error)
    lowered = message.lower()
    todo = hint
    if action == "reached":
        todo = "Check the host, the port and whether the server runs."
        if "password" in lowered or "access denied" in lowered or "authentication" in lowered:
            todo = f"Check the user, and give the password in {PASSWORD}."
        elif "does not exist" in lowered or "unknown database" in lowered:
            todo = "Check the name of the database."
        elif reference.kind == "sqlite":
            todo = "Check the path of the file."
    elif "lock" in lowered:
        todo = f"Another program locked the table for more than {PATIENCE} seconds. {hint}".strip()
    return FileError(f"{reference} cannot be {action}.", where=message, todo=todo or KEPT)


def get_message(error: BaseException) -> str:
    """Return a driver's message on one line: the server's message, and the position it names."""
    diagnostics = getattr(error, "diag", None)
    if diagnostics is not None and getattr(diagnostics, "message_primary", None):
        # A whole row, or a line that was sent, may name people: only its position is reported.
        detail = getattr(diagnostics, "message_detail", None) or ""
        detail = "" if detail.startswith("Failing row") else detail
        context = (getattr(diagnostics, "context", None) or "").partition(': "')[0]
        parts = [diagnostics.message_primary, detail, context]
        return "; ".join(part.strip().splitlines()[0] for part in parts if part.strip())
    arguments: Any = getattr(error, "args", ())
    if len(arguments) == 2 and isinstance(arguments[0], int):
        return str(arguments[1]).strip().splitlines()[0]
    lines = str(error).strip().splitlines()
    return lines[0] if lines else type(error).__name__


def open_server(reference: Reference) -> Server:
    """Return the server that a reference names; only its own module is loaded."""
    import importlib

    kinds = {"sqlite": "SQLiteServer", "postgresql": "PostgreSQLServer", "mysql": "MySQLServer"}
    module = importlib.import_module(f"lomrix.files.database.{reference.kind}")
    server: Server = getattr(module, kinds[reference.kind])(reference)
    return server
