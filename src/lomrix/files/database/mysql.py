"""MariaDB and MySQL: rows are sent as a file that the server loads, if it allows that."""

from __future__ import annotations

import contextlib
import itertools
import os
import re
import tempfile
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy
from sqlalchemy import Connection, types
from sqlalchemy.dialects import mysql

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.files.database import checksums
from lomrix.files.database.arrow_types import convert_table, fetch_batches, group_batches, to_arrow_type
from lomrix.files.database.server import PATIENCE, UNCHANGED, ColumnSpec, Server
from lomrix.files.database.sqlite import make_rows
from lomrix.files.text_writer import render_parts

TYPES = {"integer": "BIGINT", "number": "DOUBLE", "boolean": "BOOLEAN", "date": "DATE", "datetime": "DATETIME(6)"}
# Longer texts get a type stored outside the row, whose length is limited.
LONGEST_VARCHAR = 500
LONGEST_TEXT = 16_000
# Error codes of servers that take no files from clients.
NO_LOCAL_FILES = (1148, 3948, 4166)
ROWS = 100_000
ROWS_AT_ONCE = 1_000
LEFT = re.compile(r"(?P<table>.*)_lomrix_(?P<session>\d+)")
# Between these sizes the server formats numbers with the same digits as Python.
PLAIN_LOW, PLAIN_HIGH = 1e-4, 1e9


class MySQLServer(Server):
    """A server of MariaDB or MySQL."""

    longest_name = 64
    quote = "`"
    table_options = " ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"

    def make_arguments(self) -> dict[str, Any]:
        """Use UTF-8, and allow loading local files."""
        # A server that lost the connection may leave it open without reading.
        return {"connect_timeout": PATIENCE, "write_timeout": 6 * PATIENCE, "charset": "utf8mb4", "local_infile": True}

    def begin(self, connection: Connection) -> None:
        """Make values that do not fit an error, and limit the wait for locks."""
        for statement in (
            "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO'",
            f"SET SESSION lock_wait_timeout = {PATIENCE}", f"SET SESSION innodb_lock_wait_timeout = {PATIENCE}",
            "SET SESSION time_zone = '+00:00'",
        ):  # fmt: skip
            self.execute(connection, statement)
        connection.commit()

    def choose_type(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """Return a type for the longest text; long ones outside the row."""
        if column.type in TYPES:
            return TYPES[column.type]
        if in_key or longest <= LONGEST_VARCHAR:
            return f"VARCHAR({max(longest, 1)})"
        return "TEXT" if longest <= LONGEST_TEXT else "LONGTEXT"

    def format_column(self, column: ColumnSpec) -> str:
        """Include the comment, which is part of the statement here."""
        text = column.comment[:1000].replace("\\", "\\\\").replace("'", "''")
        return super().format_column(column) + (f" COMMENT '{text}'" if text else "")

    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """Load a file through a pipe; if the server takes none, use statements with many rows."""
        driver: Any = connection.connection.driver_connection
        targets, sets = [], []
        for index, (name, column) in enumerate(columns.items()):
            expression = self.format_received(column, f"@c{index}")
            targets.append(f"@c{index}" if expression else self.quote_name(name))
            sets += [f"{self.quote_name(name)} = {expression}"] if expression else []
        with stream_through_pipe(render_parts(columns, ",", quoted=True)) as path, driver.cursor() as cursor:
            statement = (
                f"LOAD DATA LOCAL INFILE '{path}' INTO TABLE {self.full_name(table)} CHARACTER SET utf8mb4 "
                "FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY '' LINES TERMINATED BY '\\n' "
                f"({', '.join(targets)})" + (f" SET {', '.join(sets)}" if sets else "")
            )
            try:
                cursor.execute(statement)
            except Exception as error:
                if not error.args or error.args[0] not in NO_LOCAL_FILES:
                    raise
                self.load_rows(cursor, table, columns)
            self.refuse_warnings(cursor)

    @staticmethod
    def format_received(column: Column, mark: str) -> str:
        """Return the expression that converts a cell of the file: empty is null, true is 1; empty if none is needed."""
        if column.type == "boolean":
            return f"CASE {mark} WHEN 'true' THEN 1 WHEN 'false' THEN 0 END"
        # By its length: for a server that pads texts, spaces equal an empty text.
        return f"IF(LENGTH({mark}) = 0, NULL, {mark})" if column.missing_count else ""

    def load_rows(self, cursor: Any, table: str, columns: Mapping[str, Column]) -> None:
        """Insert with statements of many rows."""
        names = ", ".join(map(self.quote_name, columns)).replace("%", "%%")
        placeholders = ", ".join(["%s"] * len(columns))
        statement = f"INSERT INTO {self.full_name(table).replace('%', '%%')} ({names}) VALUES ({placeholders})"
        rows = make_rows(columns)
        while batch := list(itertools.islice(rows, ROWS_AT_ONCE)):
            cursor.executemany(statement, batch)

    def refuse_warnings(self, cursor: Any) -> None:
        """Treat warnings as errors: a loaded file gives warnings where a statement gives errors.

        Raises FileError with the first of them.
        """
        cursor.execute("SHOW WARNINGS")
        warnings = cursor.fetchall()
        if warnings:
            raise FileError(f"{self.reference} cannot be written.", where=str(warnings[0][2]), todo=UNCHANGED)

    def start_session(self, connection: Connection) -> str:
        """Return the server's number of the connection; tables of dead connections are dropped."""
        self.drop_leftovers(connection)
        return str(self.execute(connection, "SELECT CONNECTION_ID()").scalar_one())

    def drop_leftovers(self, connection: Connection) -> None:
        """Drop what killed runs left beside the table."""
        live_sessions = {str(row[0]) for row in self.execute(connection, "SHOW PROCESSLIST")}
        for name in self.list_tables(connection):
            match = LEFT.fullmatch(name)
            if match and match["session"] not in live_sessions and self.reference.table.startswith(match["table"]):
                self.execute(connection, f"DROP TABLE {self.full_name(name)}")

    def swap(self, connection: Connection, staged: Mapping[str, str], *, replaces: bool) -> None:
        """Rename all in one statement, so that nobody sees a state in between."""
        if not staged:
            return
        existing = set(self.list_tables(connection)) if replaces else set()
        old = {name: f"{staged_name[:56]}_before" for name, staged_name in staged.items() if name in existing}
        moves = [f"{self.full_name(name)} TO {self.full_name(old_name)}" for name, old_name in old.items()]
        moves += [f"{self.full_name(staged_name)} TO {self.full_name(name)}" for name, staged_name in staged.items()]
        self.execute(connection, f"RENAME TABLE {', '.join(moves)}")
        self.drop(connection, list(old.values()))

    def drop(self, connection: Connection, tables: Sequence[str]) -> None:
        """Drop tables explicitly, since statements that create tables cannot be rolled back here."""
        for name in tables:
            self.execute(connection, f"DROP TABLE IF EXISTS {self.full_name(name)}")

    def format_checksum(self, name: str, column: Column) -> str:
        """Exact sums; of texts, and of numbers by their digits, those of their CRC-32."""
        cell = self.quote_name(name)
        is_plain = f"{cell} = 0 OR (ABS({cell}) >= {PLAIN_LOW} AND ABS({cell}) < {PLAIN_HIGH})"
        hashed = f"CRC32({cell})"
        return {
            "string": f"SUM({hashed})",
            "integer": f"SUM({cell})",
            "boolean": f"SUM({cell})",
            "number": f"SUM(IF({is_plain}, {hashed}, 0))",
            "date": f"SUM(DATEDIFF({cell}, '1970-01-01'))",
            "datetime": f"SUM(TIMESTAMPDIFF(MICROSECOND, '1970-01-01', {cell}))",
        }[column.type]

    def checksum(self, column: Column) -> int:
        """The same sums here."""
        if column.type == "string":
            return checksums.sum_texts(column, checksums.crc_text)
        if column.type != "number":
            return checksums.sum_integers(column)
        sizes = np.abs(column.values)
        is_plain = (column.values == 0) | ((sizes >= PLAIN_LOW) & (sizes < PLAIN_HIGH))
        # Adding 0.0 turns -0.0 into 0.0.
        kept = Column.of("number", column.values[is_plain & ~column.is_missing] + 0.0)
        return checksums.sum_texts(kept.widen("string"), checksums.crc_text)

    def estimate_rows(self, connection: Connection) -> int | None:
        """Return the number that the server keeps for its own plans."""
        schema = self.reference.schema or self.engine.url.database
        query = "SELECT TABLE_ROWS FROM information_schema.TABLES WHERE TABLE_SCHEMA = :schema AND TABLE_NAME = :name"
        rows = connection.execute(sqlalchemy.text(query), {"schema": schema, "name": self.reference.table}).scalar()
        return None if rows is None else int(rows)

    def iterate_arrow(
        self, connection: Connection, names: Sequence[str], rows: range | None = None, size: int | None = None
    ) -> Iterator[tuple[pa.Table, list[Note]]]:
        """Read rows as text, converted to the types that the server reports."""
        from pymysql.cursors import SSCursor

        types_there = self.list_columns(connection) or {}
        order = ", ".join(map(self.quote_name, self.list_key(connection)))
        selected = ", ".join(self.format_selected(name, types_there[name]) for name in names)
        query = f"SELECT {selected} FROM {self.full_name()}"
        query += f" ORDER BY {order}" if order else ""
        if rows is not None:
            query += f" LIMIT {max(rows.stop - rows.start, 0)} OFFSET {rows.start}"
        driver: Any = connection.connection.driver_connection
        kinds = {name: detect_boolean(types_there[name]) for name in names}
        decoders, driver.decoders = driver.decoders, {}
        try:
            with driver.cursor(SSCursor) as cursor:
                cursor.execute(query)
                for batches in group_batches(fetch_batches(cursor, ROWS), None if size is None else size // ROWS):
                    parts: dict[str, list[pa.Array]] = {name: [] for name in names}
                    for batch in batches:
                        for name, cells in zip(names, zip(*batch, strict=True), strict=True):
                            parts[name].append(to_strings(cells))
                    columns = {
                        name: cast_type(pa.chunked_array(texts, pa.string()), to_arrow_type(kinds[name]))
                        for name, texts in parts.items()
                    }
                    yield convert_table(pa.table(columns), list(kinds.values()))
        finally:
            driver.decoders = decoders

    def format_selected(self, name: str, kind: Any) -> str:
        """Format a column for a query: bits and bytes as hexadecimal digits."""
        cell = self.quote_name(name)
        is_bytes = isinstance(kind, mysql.BIT | sqlalchemy.types._Binary)
        return f"HEX({cell})" if is_bytes else cell


def to_strings(cells: Sequence[bytes | None]) -> pa.Array:
    """Return cells as the server sent them; what is no text, such as a point on a map, as hexadecimal digits."""
    try:
        return pa.array(cells, pa.string())
    except pa.ArrowInvalid:
        return pa.array([None if cell is None else cell.hex().upper() for cell in cells], pa.string())


@contextlib.contextmanager
def stream_through_pipe(parts: Iterable[memoryview]) -> Iterator[Path]:
    """Provide a named pipe that streams the parts to a reader while they are produced."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "rows.csv"
        os.mkfifo(path, 0o600)
        failures: list[BaseException] = []
        is_over = threading.Event()

        def write() -> None:
            with contextlib.suppress(BrokenPipeError):
                try:
                    with path.open("wb") as pipe:
                        for part in parts:
                            if is_over.is_set():
                                break
                            pipe.write(part)
                except BrokenPipeError:
                    raise
                except BaseException as error:  # the server has only part of the rows, and must not keep them
                    failures.append(error)

        writer = threading.Thread(target=write, daemon=True)
        writer.start()
        try:
            yield path
        finally:
            # If nobody opened the pipe, or reading stopped, unblock the writer.
            is_over.set()
            while writer.is_alive():
                reader = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
                with contextlib.suppress(BlockingIOError):
                    while os.read(reader, 1 << 16):
                        pass
                os.close(reader)
                writer.join(0.02)
        if failures:
            raise failures[0]


def detect_boolean(kind: Any) -> Any:
    """Return boolean for a one-digit number, as these servers store them."""
    return types.Boolean() if isinstance(kind, mysql.TINYINT) and kind.display_width == 1 else kind


def cast_type(cells: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    """Cast texts to an Arrow type; numbers other than 0 and 1 are not booleans."""
    if kind == pa.bool_():
        values = set(pc.unique(cells).drop_null().to_pylist())
        return cells.cast(pa.int64()).cast(pa.bool_()) if values <= {"0", "1"} else cells.cast(pa.int64())
    return cells if kind == pa.string() else cells.cast(kind)
