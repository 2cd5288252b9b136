"""PostgreSQL: rows go in and come out by COPY."""

from __future__ import annotations

import logging
import secrets
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

import pyarrow as pa
import pyarrow.csv as pacsv
import sqlalchemy
from sqlalchemy import Connection

from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.files.database import checksums
from lomrix.files.database.arrow_types import arrow_type, in_our_types
from lomrix.files.database.server import PATIENCE, ColumnMade, Index, Server
from lomrix.files.text_writer import rendered_parts

TYPES = {
    "integer": "BIGINT", "number": "DOUBLE PRECISION", "boolean": "BOOLEAN", "date": "DATE", "datetime": "TIMESTAMP",
}  # fmt: skip
BLOCK = 1 << 24


class Made(Server):
    """A PostgreSQL server."""

    def arguments(self) -> dict[str, Any]:
        """A server that does not answer is not waited for without end."""
        # What goes wrong is told once, by us.
        logging.getLogger("psycopg").setLevel(logging.CRITICAL)
        return {"connect_timeout": PATIENCE}

    def begin(self, connection: Connection) -> None:
        """Locks are waited for a while, moments come in universal time, numbers with all their digits."""
        for words in (
            f"SET lock_timeout = '{PATIENCE}s'", "SET TIME ZONE 'UTC'", "SET DATESTYLE = 'ISO'",
            "SET client_encoding = 'UTF8'", "SET extra_float_digits = 3", "SET synchronize_seqscans = off",
        ):  # fmt: skip
            self.say(connection, words)
        connection.commit()

    def type_of(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """Texts as long as the longest."""
        return TYPES.get(column.type, f"VARCHAR({max(longest, 1)})")

    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """COPY from standard input, part after part."""
        driver: Any = connection.connection.driver_connection
        names = ", ".join(map(self.quoted, columns))
        words = f"COPY {self.full_name(table)} ({names}) FROM STDIN (FORMAT csv)"
        with driver.cursor() as cursor, cursor.copy(words) as copy:
            for part in rendered_parts(columns, ",", quoted=True):
                copy.write(memoryview(part))

    def comment(self, connection: Connection, table: str, columns: Sequence[ColumnMade]) -> None:
        """Labels as comments."""
        for column in columns:
            if column.comment:
                text = column.comment.replace("'", "''")
                place = f"{self.full_name(table)}.{self.quoted(column.name)}"
                self.say(connection, f"COMMENT ON COLUMN {place} IS '{text}'")

    def finish(self, connection: Connection, table: str, beside: str, indexes: Sequence[Index]) -> None:
        """Indexes and keys have names of their own in a schema, which the old table's had until now."""
        for name, _ in indexes:
            own = f"{self.schema_words}{self.quoted(f'{name}_{self.mark}')}"
            self.say(connection, f"ALTER INDEX {own} RENAME TO {self.quoted(name)}")
        found = sqlalchemy.inspect(connection).get_pk_constraint(table, schema=self.reference.schema or None)
        if found.get("name"):
            words = f"RENAME CONSTRAINT {self.quoted(str(found['name']))} TO {self.quoted(f'{table[:58]}_pkey')}"
            self.say(connection, f"ALTER TABLE {self.full_name(table)} {words}")

    @property
    def schema_words(self) -> str:
        """The schema in front of a name."""
        return f"{self.quoted(self.reference.schema)}." if self.reference.schema else ""

    def index_words(self, table: str, name: str, columns: Sequence[str]) -> str:
        """Under a name that the old table's index does not have."""
        return super().index_words(table, name if table == self.reference.table else f"{name}_{self.mark}", columns)

    @cached_property
    def mark(self) -> str:
        """A mark of this run."""
        return secrets.token_hex(4)

    def checksum_words(self, name: str, column: Column) -> str:
        """Exact sums; of texts those of their hashes, of numbers those of their bits."""
        cell = self.quoted(name)
        if column.type == "string":
            return f"SUM(('x' || LEFT(MD5({cell}), {checksums.DIGITS}))::BIT(60)::BIGINT)"
        return {
            "integer": f"SUM({cell}::NUMERIC)",
            "number": f"SUM(('x' || ENCODE(FLOAT8SEND({cell}::FLOAT8), 'hex'))::BIT(64)::BIGINT)",
            "boolean": f"SUM({cell}::INT)",
            "date": f"SUM(({cell} - DATE '1970-01-01')::NUMERIC)",
            "datetime": f"SUM((EXTRACT(EPOCH FROM {cell}) * 1000000)::NUMERIC)",
        }[column.type]

    def checksum(self, column: Column) -> int:
        """The same sums here."""
        if column.type == "string":
            return checksums.sum_of_texts(column, checksums.hash_of)
        return checksums.sum_of_bits(column) if column.type == "number" else checksums.sum_of_whole(column)

    def arrow(self, connection: Connection, names: Sequence[str], rows: range | None) -> tuple[pa.Table, list[Note]]:
        """COPY to standard output, read as delimited text with the types that the server names."""
        there = self.columns_there(connection) or {}
        chosen = ", ".join(self.quoted(name) for name in names)
        order = ", ".join(map(self.quoted, self.key_there(connection)))
        words = f"SELECT {chosen} FROM {self.full_name()}" + (f" ORDER BY {order}" if order else "")
        if rows is not None:
            words += f" LIMIT {max(rows.stop - rows.start, 0)} OFFSET {rows.start}"
        driver: Any = connection.connection.driver_connection
        with driver.cursor() as cursor, cursor.copy(f"COPY ({words}) TO STDOUT (FORMAT csv, FORCE_QUOTE *)") as copy:
            parts = [bytes(part) for part in copy]
        kinds = {name: arrow_type(there[name]) for name in names}
        if not any(parts):
            empty = pa.table({name: pa.array([], kind) for name, kind in kinds.items()})
            return in_our_types(empty, [there[name] for name in names])
        table = pacsv.read_csv(
            pa.BufferReader(b"".join(parts)),
            pacsv.ReadOptions(column_names=list(names), block_size=BLOCK),
            pacsv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
            pacsv.ConvertOptions(
                column_types=kinds, null_values=[""], strings_can_be_null=True, quoted_strings_can_be_null=False,
                true_values=["t"], false_values=["f"],
            ),
        )  # fmt: skip
        return in_our_types(table, [there[name] for name in names])
