"""MariaDB and MySQL: rows go in as a file that the server loads, where it allows that."""

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
from sqlalchemy import Connection, types
from sqlalchemy.dialects import mysql

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.files.database import checksums
from lomrix.files.database.arrow_types import arrow_type, in_our_types
from lomrix.files.database.server import OLD_STANDS, PATIENCE, ColumnMade, Server
from lomrix.files.database.sqlite import rows_of
from lomrix.files.text_writer import rendered_parts

TYPES = {"integer": "BIGINT", "number": "DOUBLE", "boolean": "BOOLEAN", "date": "DATE", "datetime": "DATETIME(6)"}
# Texts that are longer have a type that stands apart from the row, whose length is limited.
LONGEST_VARCHAR = 500
MOST_VARCHARS = 30
LONGEST_TEXT = 16_000
# What the server says where it takes no files from programs.
NO_LOCAL_FILES = (1148, 3948, 4166)
ROWS = 100_000
ROWS_AT_ONCE = 1_000
LEFT = re.compile(r"(?P<table>.*)_lomrix_(?P<session>\d+)")
# Between these sizes a server and we write numbers with the same digits.
PLAIN_LOW, PLAIN_HIGH = 1e-4, 1e9


class Made(Server):
    """A server of MariaDB or MySQL."""

    longest_name = 64
    quote = "`"
    table_options = " ENGINE=InnoDB CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"

    def arguments(self) -> dict[str, Any]:
        """Texts in UTF-8; files of ours may be loaded."""
        # A server that lost the connection may leave it open, and read nothing more.
        return {"connect_timeout": PATIENCE, "write_timeout": 6 * PATIENCE, "charset": "utf8mb4", "local_infile": True}

    def begin(self, connection: Connection) -> None:
        """What does not fit is an error, locks are waited for a while."""
        for words in (
            "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO'",
            f"SET SESSION lock_wait_timeout = {PATIENCE}", f"SET SESSION innodb_lock_wait_timeout = {PATIENCE}",
            "SET SESSION time_zone = '+00:00'",
        ):  # fmt: skip
            self.say(connection, words)
        connection.commit()

    def type_of(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """Texts as long as the longest; long ones apart from the row."""
        if column.type in TYPES:
            return TYPES[column.type]
        if in_key or longest <= LONGEST_VARCHAR:
            return f"VARCHAR({max(longest, 1)})"
        return "TEXT" if longest <= LONGEST_TEXT else "LONGTEXT"

    def column_words(self, column: ColumnMade) -> str:
        """With its comment, which is part of the statement here."""
        text = column.comment[:1000].replace("\\", "\\\\").replace("'", "''")
        return super().column_words(column) + (f" COMMENT '{text}'" if text else "")

    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """A file that the server reads; where it takes none, statements of many rows."""
        driver: Any = connection.connection.driver_connection
        places, sets = [], []
        for at, (name, column) in enumerate(columns.items()):
            received = self.received(column, f"@c{at}")
            places.append(f"@c{at}" if received else self.quoted(name))
            sets += [f"{self.quoted(name)} = {received}"] if received else []
        with streamed(rendered_parts(columns, ",", quoted=True)) as path, driver.cursor() as cursor:
            words = (
                f"LOAD DATA LOCAL INFILE '{path}' INTO TABLE {self.full_name(table)} CHARACTER SET utf8mb4 "
                "FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' ESCAPED BY '' LINES TERMINATED BY '\\n' "
                f"({', '.join(places)})" + (f" SET {', '.join(sets)}" if sets else "")
            )
            try:
                cursor.execute(words)
            except Exception as error:
                if not error.args or error.args[0] not in NO_LOCAL_FILES:
                    raise
                self.load_rows(cursor, table, columns)
            self.refuse_warnings(cursor)

    @staticmethod
    def received(column: Column, mark: str) -> str:
        """A cell of the file as the column takes it: nothing is a null, true is 1; empty where it goes straight in."""
        if column.type == "boolean":
            return f"CASE {mark} WHEN 'true' THEN 1 WHEN 'false' THEN 0 END"
        # By its length: to a server that pads texts, one of blanks equals an empty one.
        return f"IF(LENGTH({mark}) = 0, NULL, {mark})" if column.missing_count else ""

    def load_rows(self, cursor: Any, table: str, columns: Mapping[str, Column]) -> None:
        """Statements of many rows."""
        names = ", ".join(map(self.quoted, columns)).replace("%", "%%")
        marks = ", ".join(["%s"] * len(columns))
        words = f"INSERT INTO {self.full_name(table).replace('%', '%%')} ({names}) VALUES ({marks})"
        rows = rows_of(columns)
        while some := list(itertools.islice(rows, ROWS_AT_ONCE)):
            cursor.executemany(words, some)

    def refuse_warnings(self, cursor: Any) -> None:
        """A file that is loaded gives warnings where a statement gives errors.

        Raises
        ------
        FileError
            With the first of them.
        """
        cursor.execute("SHOW WARNINGS")
        found = cursor.fetchall()
        if found:
            raise FileError(f"{self.reference} cannot be written.", where=str(found[0][2]), todo=OLD_STANDS)

    def session(self, connection: Connection) -> str:
        """The server's number of the connection; tables of connections that are gone are taken away."""
        self.clear(connection)
        return str(self.say(connection, "SELECT CONNECTION_ID()").scalar_one())

    def clear(self, connection: Connection) -> None:
        """Take away what killed runs left beside the table."""
        live = {str(row[0]) for row in self.say(connection, "SHOW PROCESSLIST")}
        for name in self.tables_there(connection):
            found = LEFT.fullmatch(name)
            if found and found["session"] not in live and self.reference.table.startswith(found["table"]):
                self.say(connection, f"DROP TABLE {self.full_name(name)}")

    def swap(self, connection: Connection, made: Mapping[str, str], *, replaces: bool) -> None:
        """All renamed in one statement: nobody sees the database between two of them."""
        if not made:
            return
        there = set(self.tables_there(connection)) if replaces else set()
        old = {name: f"{beside[:56]}_before" for name, beside in made.items() if name in there}
        moves = [f"{self.full_name(name)} TO {self.full_name(gone)}" for name, gone in old.items()]
        moves += [f"{self.full_name(beside)} TO {self.full_name(name)}" for name, beside in made.items()]
        self.say(connection, f"RENAME TABLE {', '.join(moves)}")
        self.drop(connection, list(old.values()))

    def drop(self, connection: Connection, made: Sequence[str]) -> None:
        """Statements that make tables cannot be undone here."""
        for name in made:
            self.say(connection, f"DROP TABLE IF EXISTS {self.full_name(name)}")

    def checksum_words(self, name: str, column: Column) -> str:
        """Exact sums; of texts, and of numbers by their digits, those of their CRC-32."""
        cell = self.quoted(name)
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
            return checksums.sum_of_texts(column, checksums.check_of)
        if column.type != "number":
            return checksums.sum_of_whole(column)
        sizes = np.abs(column.values)
        plain = (column.values == 0) | ((sizes >= PLAIN_LOW) & (sizes < PLAIN_HIGH))
        # Adding nothing makes one zero of the two.
        kept = Column.of("number", column.values[plain & ~column.is_missing] + 0.0)
        return checksums.sum_of_texts(kept.widened("string"), checksums.check_of)

    def arrow(self, connection: Connection, names: Sequence[str], rows: range | None) -> tuple[pa.Table, list[Note]]:
        """Rows as texts, put into the types that the server names."""
        from pymysql.cursors import SSCursor

        there = self.columns_there(connection) or {}
        order = ", ".join(map(self.quoted, self.key_there(connection)))
        words = f"SELECT {', '.join(self.selected(name, there[name]) for name in names)} FROM {self.full_name()}"
        words += f" ORDER BY {order}" if order else ""
        if rows is not None:
            words += f" LIMIT {max(rows.stop - rows.start, 0)} OFFSET {rows.start}"
        driver: Any = connection.connection.driver_connection
        parts: dict[str, list[pa.Array]] = {name: [] for name in names}
        decoders, driver.decoders = driver.decoders, {}
        try:
            with driver.cursor(SSCursor) as cursor:
                cursor.execute(words)
                while some := cursor.fetchmany(ROWS):
                    for name, cells in zip(names, zip(*some, strict=True), strict=True):
                        parts[name].append(pa.array(cells, pa.string()))
        finally:
            driver.decoders = decoders
        kinds = [boolean_or_not(there[name]) for name in names]
        texts = (pa.chunked_array(parts[name] or [pa.array([], pa.string())]) for name in names)
        columns = {
            name: as_type(cells, arrow_type(kind)) for name, cells, kind in zip(names, texts, kinds, strict=True)
        }
        return in_our_types(pa.table(columns), kinds)

    def selected(self, name: str, kind: Any) -> str:
        """A column as it is asked for: bits and bytes as hexadecimal digits."""
        cell = self.quoted(name)
        is_bytes = isinstance(kind, mysql.BIT | mysql.BLOB | mysql.BINARY | mysql.VARBINARY | mysql.LONGBLOB)
        return f"HEX({cell})" if is_bytes else cell


@contextlib.contextmanager
def streamed(parts: Iterable[pa.Buffer]) -> Iterator[Path]:
    """A pipe with a name, through which parts go while somebody reads: they are made while the server takes others."""
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
                except BaseException as error:  # the server has half of the rows now, and must not keep them
                    failures.append(error)

        writer = threading.Thread(target=write, daemon=True)
        writer.start()
        try:
            yield path
        finally:
            # Where nobody opened the pipe, or stopped reading, the writer is let go, wherever it just stands.
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


def boolean_or_not(kind: Any) -> Any:
    """A number of one digit is how these servers keep a boolean."""
    return types.Boolean() if isinstance(kind, mysql.TINYINT) and kind.display_width == 1 else kind


def as_type(cells: pa.ChunkedArray, kind: pa.DataType) -> pa.ChunkedArray:
    """Texts in an Arrow type; numbers other than 0 and 1 are no booleans."""
    if kind == pa.bool_():
        values = set(pc.unique(cells).drop_null().to_pylist())
        return cells.cast(pa.int64()).cast(pa.bool_()) if values <= {"0", "1"} else cells.cast(pa.int64())
    return cells if kind == pa.string() else cells.cast(kind)
