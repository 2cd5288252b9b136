"""SQLite: a database in a file, with Python's own library."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import sqlalchemy
from sqlalchemy import Connection, types

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.database.arrow_types import convert_table, fetch_batches, group_batches
from lomrix.files.database.server import PATIENCE, Index, Server
from lomrix.files.read_back import compare_columns, require_row_count

TYPES = {"integer": "INTEGER", "number": "REAL", "boolean": "BOOLEAN", "date": "DATE", "datetime": "DATETIME"}
ROWS = 50_000


class SQLiteServer(Server):
    """A file of SQLite."""

    longest_name = 1_000

    def make_arguments(self) -> dict[str, Any]:
        """Limit the wait for locks; transactions begin explicitly."""
        return {"timeout": PATIENCE, "isolation_level": None}

    def connect(self) -> Connection:
        """Open a connection; a missing file is created only when something is written."""
        path = self.reference.path
        if path is not None and path.is_dir():
            raise FileError(f"{path} is a directory.", todo="Name a file in it, such as study.db.")
        return super().connect()

    def choose_type(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """Texts have no length here; an integer key must not become the order of the rows."""
        if in_key and column.type == "integer":
            return "BIGINT"
        return TYPES.get(column.type, "TEXT")

    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """Insert all rows with one prepared statement."""
        driver: Any = connection.connection.driver_connection
        names = ", ".join(map(self.quote_name, columns))
        placeholders = ", ".join("?" * len(columns))
        driver.executemany(f"INSERT INTO {self.full_name(table)} ({names}) VALUES ({placeholders})", make_rows(columns))

    index_first = False

    def rename_parts(self, connection: Connection, table: str, beside: str, indexes: Sequence[Index]) -> None:
        """Create the indexes, which cannot be renamed, after the old table's are gone."""
        for name, columns in indexes:
            self.execute(connection, self.format_index(table, name, columns))

    def format_checksum(self, name: str, column: Column) -> str:
        """Return NULL: rows are read back and compared cell by cell."""
        return "NULL"

    def checksum(self, column: Column) -> int:
        """Return 0."""
        return 0

    def compare(self, connection: Connection, table: str, result: Table, after: int, final: str) -> int:
        """Read the new rows in order and compare them cell by cell, part after part."""
        driver: Any = connection.connection.driver_connection
        names = ", ".join(map(self.quote_name, result.names))
        cursor = driver.execute(f"SELECT {names} FROM {self.full_name(table)} ORDER BY rowid LIMIT -1 OFFSET {after}")
        start = 0
        for rows in fetch_batches(cursor, ROWS):
            stop = start + len(rows)
            sent = {name: to_stored(column.slice(start, stop)) for name, column in result.columns.items()}
            cells = dict(zip(result.names, zip(*rows, strict=True), strict=True))
            if stop <= len(result):
                back = {name: pa.array(cells[name], array.type) for name, array in sent.items()}
                compare_columns(sent, back, start, final)
            start = stop
        require_row_count(len(result), start, final)
        return start * len(result.names)

    def estimate_rows(self, connection: Connection) -> int | None:
        """Return the largest row number, if rows are numbered."""
        try:
            rows = self.execute(connection, f"SELECT MAX(rowid) FROM {self.full_name()}").scalar()
            return None if rows is None else int(rows)
        except sqlalchemy.exc.DBAPIError:  # a view, or a table without row numbers
            return None

    def iterate_arrow(
        self, connection: Connection, names: Sequence[str], rows: range | None = None, size: int | None = None
    ) -> Iterator[tuple[pa.Table, list[Note]]]:
        """Read rows; a column's type is that of its values, not only of its declaration."""
        types_there = self.list_columns(connection) or {}
        driver: Any = connection.connection.driver_connection
        query = f"SELECT {', '.join(map(self.quote_name, names))} FROM {self.full_name()}"
        if rows is not None:
            query += f" LIMIT {max(rows.stop - rows.start, 0)} OFFSET {rows.start}"
        every = fetch_batches(driver.execute(query), ROWS)
        for batches in group_batches(every, None if size is None else size // ROWS):
            parts: dict[str, list[pa.Array]] = {name: [] for name in names}
            mixed: dict[str, str] = {}
            for batch in batches:
                for name, cells in zip(names, zip(*batch, strict=True), strict=True):
                    parts[name].append(make_array(cells))
            columns = {name: join_parts(name, arrays, types_there[name], mixed) for name, arrays in parts.items()}
            notes = [Note(text, name, kind="mixed-types") for name, text in mixed.items()]
            table, more = convert_table(pa.table(columns), [types_there[name] for name in names])
            yield table, [*notes, *more]


def make_rows(columns: Mapping[str, Column]) -> Iterator[tuple[Any, ...]]:
    """Yield the rows as the driver takes them, a part at a time in memory."""
    count = len(next(iter(columns.values()))) if columns else 0
    parts = (
        zip(*(to_stored(column.slice(start, start + ROWS)).to_pylist() for column in columns.values()), strict=True)
        for start in range(0, count, ROWS)
    )
    return itertools.chain.from_iterable(parts)


def to_stored(column: Column) -> pa.Array:
    """Return the cells as stored: dates and timestamps as text, booleans as 0 and 1."""
    array = column.to_arrow()
    if column.type == "date":
        return array.cast(pa.date32()).cast(pa.large_string())
    if column.type == "datetime":
        return column.to_text()
    return array.cast(pa.int64()) if column.type == "boolean" else array


def make_array(cells: Sequence[Any]) -> pa.Array:
    """Return cells as an array of their type; as text if they have several."""
    kinds = set(map(type, cells)) - {type(None)}
    if kinds <= {int}:
        return pa.array(cells, pa.int64())
    if kinds <= {int, float}:
        return pa.array(cells, pa.float64())
    if kinds <= {str}:
        return pa.array(cells, pa.string())
    return pa.array([to_text(cell) for cell in cells], pa.string())


def to_text(cell: Any) -> str | None:
    """Return a cell of any type as text."""
    return cell.hex() if isinstance(cell, bytes) else None if cell is None else str(cell)


def join_parts(name: str, parts: list[pa.Array], kind: Any, mixed: dict[str, str]) -> pa.ChunkedArray:
    """Join parts of one column; numbers among texts become text, with a note in `mixed`."""
    filled = [part for part in parts if part.null_count < len(part)]
    types_found = {part.type for part in filled}
    target = pa.string() if isinstance(kind, types.String | types.Date | types.DateTime) else pa.int64()
    if types_found:
        target = (
            types_found.pop()
            if len(types_found) == 1
            else pa.float64()
            if pa.string() not in types_found
            else pa.string()
        )
    is_text = pa.types.is_string(target)
    if is_text and isinstance(kind, types.Numeric | types.Integer | types.Boolean):
        mixed[name] = "read as text, since there are texts among its numbers."
    cells = pa.chunked_array([part.cast(target) for part in parts] or [pa.array([], target)])
    if isinstance(kind, types.Boolean) and target == pa.int64():
        values = pc.unique(cells).drop_null().to_pylist()
        return cells.cast(pa.bool_()) if set(values) <= {0, 1} else cells
    if isinstance(kind, types.Float | types.Numeric) and target == pa.int64():
        return cells.cast(pa.float64()) if isinstance(kind, types.Float) else cells
    return cells
