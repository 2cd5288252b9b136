"""SQLite: a database in a file, on the library that Python brings."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
from sqlalchemy import Connection, types

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.database.arrow_types import in_our_types
from lomrix.files.database.server import PATIENCE, Index, Server
from lomrix.files.read_back import compared

TYPES = {"integer": "INTEGER", "number": "REAL", "boolean": "BOOLEAN", "date": "DATE", "datetime": "DATETIME"}
ROWS = 50_000


class Made(Server):
    """A file of SQLite."""

    longest_name = 1_000

    def arguments(self) -> dict[str, Any]:
        """A lock is waited for a while; statements begin transactions where we say so."""
        return {"timeout": PATIENCE, "isolation_level": None}

    def connect(self) -> Connection:
        """A connection; a file that is not there is made only when something is written."""
        path = self.reference.path
        if path is not None and path.is_dir():
            raise FileError(f"{path} is a directory.", todo="Name a file in it, such as study.db.")
        return super().connect()

    def type_of(self, name: str, column: Column, longest: int, *, in_key: bool) -> str:
        """Texts have no length there; a key of whole numbers must not become the order of the rows."""
        if in_key and column.type == "integer":
            return "BIGINT"
        return TYPES.get(column.type, "TEXT")

    def load(self, connection: Connection, table: str, columns: Mapping[str, Column]) -> None:
        """One prepared statement, all rows."""
        driver: Any = connection.connection.driver_connection
        names = ", ".join(map(self.quoted, columns))
        marks = ", ".join("?" * len(columns))
        driver.executemany(f"INSERT INTO {self.full_name(table)} ({names}) VALUES ({marks})", rows_of(columns))

    index_first = False

    def finish(self, connection: Connection, table: str, beside: str, indexes: Sequence[Index]) -> None:
        """Indexes cannot be renamed here, and the old table's had their names until now."""
        for name, columns in indexes:
            self.say(connection, self.index_words(table, name, columns))

    def checksum_words(self, name: str, column: Column) -> str:
        """What is loaded is read back and compared cell by cell."""
        return "NULL"

    def checksum(self, column: Column) -> int:
        """None."""
        return 0

    def compare(self, connection: Connection, table: str, made: Table, after: int, final: str) -> int:
        """Read the rows behind the first so many in their order and compare them cell by cell, part after part."""
        driver: Any = connection.connection.driver_connection
        names = ", ".join(map(self.quoted, made.names))
        cursor = driver.execute(f"SELECT {names} FROM {self.full_name(table)} ORDER BY rowid LIMIT -1 OFFSET {after}")
        start = 0
        for rows in chunks(cursor):
            stop = start + len(rows)
            sent = {name: cells_sent(column.part(start, stop)) for name, column in made.columns.items()}
            cells = dict(zip(made.names, zip(*rows, strict=True), strict=True))
            back = {name: pa.chunked_array([pa.array(cells[name], array.type)]) for name, array in sent.items()}
            compared(sent, back, len(rows), final)
            start = stop
        return start * len(made.names)

    def arrow(self, connection: Connection, names: Sequence[str], rows: range | None) -> tuple[pa.Table, list[Note]]:
        """Rows as they come; the type of a column is that of its values, not of its declaration alone."""
        there = self.columns_there(connection) or {}
        driver: Any = connection.connection.driver_connection
        words = f"SELECT {', '.join(map(self.quoted, names))} FROM {self.full_name()}"
        if rows is not None:
            words += f" LIMIT {max(rows.stop - rows.start, 0)} OFFSET {rows.start}"
        parts: dict[str, list[pa.Array]] = {name: [] for name in names}
        odd: dict[str, str] = {}
        for some in chunks(driver.execute(words)):
            for name, cells in zip(names, zip(*some, strict=True), strict=True):
                parts[name].append(array_of(cells))
        columns = {name: joined(name, found, there[name], odd) for name, found in parts.items()}
        notes = [Note(text, name, kind="mixed-types") for name, text in odd.items()]
        table, more = in_our_types(pa.table(columns), [there[name] for name in names])
        return table, [*notes, *more]


def chunks(cursor: Any) -> Iterator[list[tuple[Any, ...]]]:
    """The rows of a cursor, some at a time."""
    while rows := cursor.fetchmany(ROWS):
        yield rows


def rows_of(columns: Mapping[str, Column]) -> Iterator[tuple[Any, ...]]:
    """The rows as the driver takes them, a part at a time in memory."""
    count = len(next(iter(columns.values()))) if columns else 0
    parts = (
        zip(*(cells_sent(column.part(start, start + ROWS)).to_pylist() for column in columns.values()), strict=True)
        for start in range(0, count, ROWS)
    )
    return itertools.chain.from_iterable(parts)


def cells_sent(column: Column) -> pa.Array:
    """The cells of a column as they are stored: days and moments as texts, booleans as 0 and 1."""
    array = column.to_arrow()
    if column.type == "date":
        return array.cast(pa.date32()).cast(pa.large_string())
    if column.type == "datetime":
        return column.to_text()
    return array.cast(pa.int64()) if column.type == "boolean" else array


def array_of(cells: Sequence[Any]) -> pa.Array:
    """Cells as an array of the type that they have; as texts where they have several."""
    kinds = set(map(type, cells)) - {type(None)}
    if kinds <= {int}:
        return pa.array(cells, pa.int64())
    if kinds <= {int, float}:
        return pa.array(cells, pa.float64())
    if kinds <= {str}:
        return pa.array(cells, pa.string())
    return pa.array([plain(cell) for cell in cells], pa.string())


def plain(cell: Any) -> str | None:
    """A cell of any type as text."""
    return cell.hex() if isinstance(cell, bytes) else None if cell is None else str(cell)


def joined(name: str, parts: list[pa.Array], kind: Any, odd: dict[str, str]) -> pa.ChunkedArray:
    """Parts of one column under each other; numbers among texts become texts, which is told."""
    filled = [part for part in parts if part.null_count < len(part)]
    found = {part.type for part in filled}
    wanted = pa.string() if isinstance(kind, types.String | types.Date | types.DateTime) else pa.int64()
    if found:
        wanted = found.pop() if len(found) == 1 else pa.float64() if pa.string() not in found else pa.string()
    is_text = pa.types.is_string(wanted)
    if is_text and isinstance(kind, types.Numeric | types.Integer | types.Boolean):
        odd[name] = "texts stand among its numbers, so that all of it is text."
    cells = pa.chunked_array([part.cast(wanted) for part in parts] or [pa.array([], wanted)])
    if isinstance(kind, types.Boolean) and wanted == pa.int64():
        values = pc.unique(cells).drop_null().to_pylist()
        return cells.cast(pa.bool_()) if set(values) <= {0, 1} else cells
    if isinstance(kind, types.Float | types.Numeric) and wanted == pa.int64():
        return cells.cast(pa.float64()) if isinstance(kind, types.Float) else cells
    return cells
