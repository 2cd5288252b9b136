"""PostgreSQL: rows are sent and read by COPY."""

from __future__ import annotations

import logging
import secrets
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

import pyarrow as pa
import pyarrow.csv as pacsv
import sqlalchemy
from sqlalchemy import Connection

from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.files.database import checksums
from lomrix.files.database.arrow_types import convert_table, to_arrow_type
from lomrix.files.database.server import PATIENCE, ColumnSpec, Index, Server
from lomrix.files.text_writer import render_parts

TYPES = {
    "integer": "BIGINT", "number": "DOUBLE PRECISION", "boolean": "BOOLEAN", "date": "DATE", "datetime": "TIMESTAMP",
}  # fmt: skip
BLOCK = PART = 1 << 24


class PostgreSQLServer(Server):
    """A PostgreSQL server."""

    def make_arguments(self) -> dict[str, Any]:
        """Limit the wait for a server."""
        # Errors are reported once, by Lomrix.
        logging.getLogger("psycopg").setLevel(logging.CRITICAL)
        return {"connect_timeout": PATIENCE}

    def begin(self, connection: Connection) -> None:
        """Limit the wait for locks; use UTC, ISO dates and all digits of numbers."""
        for statement in (
            f"SET lock_timeout = '{PATIENCE}s'", "SET TIME ZONE 'UTC'", "SET DATESTYLE = 'ISO'",
            "SET client_encoding = 'UTF8'", "SET extra_float_digits = 3", "SET synchronize_seqscans = off",
        ):  # fmt: skip
            self.execute(connection, statement)
        connection.commit()

    def choose_type(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """Return a type for the longest text."""
        return TYPES.get(column.type, f"VARCHAR({max(longest, 1)})")

    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """Send rows by COPY, part after part."""
        driver: Any = connection.connection.driver_connection
        names = ", ".join(map(self.quote_name, columns))
        statement = f"COPY {self.full_name(table)} ({names}) FROM STDIN (FORMAT csv)"
        with driver.cursor() as cursor, cursor.copy(statement) as copy:
            for part in render_parts(columns, ",", quoted=True):
                copy.write(part)

    def add_comments(self, connection: Connection, table: str, columns: Sequence[ColumnSpec]) -> None:
        """Add labels as comments."""
        for column in columns:
            if column.comment:
                text = column.comment.replace("'", "''")
                target = f"{self.full_name(table)}.{self.quote_name(column.name)}"
                self.execute(connection, f"COMMENT ON COLUMN {target} IS '{text}'")

    def rename_parts(self, connection: Connection, table: str, beside: str, indexes: Sequence[Index]) -> None:
        """Rename indexes and keys, whose names in the schema the old table had until now."""
        for name, _ in indexes:
            staged_name = f"{self.schema_prefix}{self.quote_name(f'{name}_{self.run_mark}')}"
            self.execute(connection, f"ALTER INDEX {staged_name} RENAME TO {self.quote_name(name)}")
        constraint = sqlalchemy.inspect(connection).get_pk_constraint(table, schema=self.reference.schema or None)
        if constraint.get("name"):
            old, new = self.quote_name(str(constraint["name"])), self.quote_name(f"{table[:58]}_pkey")
            clause = f"RENAME CONSTRAINT {old} TO {new}"
            self.execute(connection, f"ALTER TABLE {self.full_name(table)} {clause}")

    @property
    def schema_prefix(self) -> str:
        """The schema before a name."""
        return f"{self.quote_name(self.reference.schema)}." if self.reference.schema else ""

    def format_index(self, table: str, name: str, columns: Sequence[str]) -> str:
        """Use a name that the old table's index does not have."""
        return super().format_index(
            table, name if table == self.reference.table else f"{name}_{self.run_mark}", columns
        )

    @cached_property
    def run_mark(self) -> str:
        """A mark of this run."""
        return secrets.token_hex(4)

    def format_checksum(self, name: str, column: Column) -> str:
        """Exact sums; of texts those of their hashes, of numbers those of their bits."""
        cell = self.quote_name(name)
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
            return checksums.sum_texts(column, checksums.hash_text)
        return checksums.sum_bits(column) if column.type == "number" else checksums.sum_integers(column)

    def estimate_rows(self, connection: Connection) -> int | None:
        """Return the number that the server keeps for its own plans; None before it first counted."""
        query = sqlalchemy.text("SELECT reltuples FROM pg_class WHERE oid = to_regclass(:name)")
        rows = connection.execute(query, {"name": self.full_name()}).scalar()
        return int(rows) if rows and rows > 0 else None

    def iterate_arrow(
        self, connection: Connection, names: Sequence[str], rows: range | None = None, size: int | None = None
    ) -> Iterator[tuple[pa.Table, list[Note]]]:
        """Read by COPY, as delimited text with the types that the server reports."""
        types_there = self.list_columns(connection) or {}
        chosen = ", ".join(self.quote_name(name) for name in names)
        order = ", ".join(map(self.quote_name, self.list_key(connection)))
        query = f"SELECT {chosen} FROM {self.full_name()}" + (f" ORDER BY {order}" if order else "")
        if rows is not None:
            query += f" LIMIT {max(rows.stop - rows.start, 0)} OFFSET {rows.start}"
        driver: Any = connection.connection.driver_connection
        kinds = {name: to_arrow_type(types_there[name]) for name in names}
        options = (
            pacsv.ReadOptions(column_names=list(names), block_size=BLOCK),
            pacsv.ParseOptions(newlines_in_values=True, ignore_empty_lines=False),
            pacsv.ConvertOptions(
                column_types=kinds, null_values=[""], strings_can_be_null=True, quoted_strings_can_be_null=False,
                true_values=["t"], false_values=["f"],
            ),
        )  # fmt: skip
        is_empty = True
        with driver.cursor() as cursor, cursor.copy(f"COPY ({query}) TO STDOUT (FORMAT csv, FORCE_QUOTE *)") as copy:
            for text in gather_text(copy, None if size is None else PART):
                is_empty = False
                table = pacsv.read_csv(pa.BufferReader(text), *options)
                yield convert_table(table, [types_there[name] for name in names])
        if is_empty:
            empty = pa.table({name: pa.array([], kind) for name, kind in kinds.items()})
            yield convert_table(empty, [types_there[name] for name in names])


def gather_text(parts: Iterable[Any], size: int | None) -> Iterator[bytes]:
    """Yield the rows that a server sends, one in each part, in texts of about `size` bytes; all in one if None."""
    gathered: list[bytes] = []
    length = 0
    for part in parts:
        gathered.append(bytes(part))
        length += len(part)
        if size is not None and length >= size:
            yield b"".join(gathered)
            gathered, length = [], 0
    if length:
        yield b"".join(gathered)
