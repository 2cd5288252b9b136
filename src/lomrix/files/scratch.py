"""Scratch: tables on disk that are larger than memory, mapped so that they are used like any other table."""

from __future__ import annotations

import contextlib
import os
import re
import secrets
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.text_bytes import get_buffers
from lomrix.core.arrays.types import Array
from lomrix.core.combining import PartsDifferError, combine_lists
from lomrix.core.errors import FileError
from lomrix.core.table.column import DTYPES, FILLERS, Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.numbers import Type
from lomrix.core.table.pool import Pool, to_positions
from lomrix.core.table.reasons import join_reasons, renumber_why
from lomrix.core.table.table import Table
from lomrix.files.transport import map_file, receive, send, writing_to

NAME = re.compile(r"lomrix-(?P<owner>\d+)-[0-9a-f]{8}")
# Strings repeat if there are at most this many, and each occurs this often in a part of more than a few rows.
MOST_DISTINCT, REPEATS, FEW_ROWS = 200_000, 8, 10_000
# Files of a column; `starts` holds where each string begins among the values.
PIECES = ("values", "why", "starts")
# Rows that are converted at once if the type of a column turns out to be wider.
BLOCK = 1 << 20


@dataclass
class Scratch:
    """A folder for tables on disk, removed at the end; what dead runs left is removed at the beginning."""

    folder: Path
    count: int = 0

    @classmethod
    def make(cls, parent: str = "") -> Scratch:
        """Make the folder.

        Raises FileError if it cannot be made.
        """
        place = Path(parent or tempfile.gettempdir())
        require_folder(place)
        for leftover in place.glob("lomrix-*"):
            match = NAME.fullmatch(leftover.name)
            if match and not is_alive(int(match["owner"])):
                shutil.rmtree(leftover, ignore_errors=True)
        folder = place / f"lomrix-{os.getpid()}-{secrets.token_hex(4)}"
        try:
            folder.mkdir(mode=0o700)
        except OSError as error:
            todo = "Use another folder: ‹scratch=FOLDER›."
            raise FileError(f"Nothing can be written to {place}.", where=str(error.strerror), todo=todo) from error
        return cls(folder)

    def require_space(self, size: int) -> None:
        """Stop if the disk has fewer bytes free.

        Raises FileError with both.
        """
        free = shutil.disk_usage(self.folder).free
        if free < size:
            raise FileError(
                f"The scratch folder {self.folder.parent} has too little space.",
                where=f"about {size / 1e9:,.1f} GB are needed, {free / 1e9:,.1f} GB are free",
                todo="Use ‹scratch=FOLDER› on a larger disk, or more ‹memory›.",
            )

    def make_store(self) -> TableStore:
        """Return a new table on disk, to be filled."""
        folder = self.make_path()
        folder.mkdir()
        return TableStore(folder)

    @property
    def size(self) -> int:
        """Bytes on disk."""
        size = 0
        for folder, _, files in os.walk(self.folder):
            for name in files:
                with contextlib.suppress(OSError):  # removed meanwhile
                    size += Path(folder, name).stat().st_size
        return size

    def make_path(self) -> Path:
        """Return the path of a new file or folder."""
        self.count += 1
        return self.folder / str(self.count)

    def run(
        self, function: Callable[..., Any], arguments: Iterable[tuple[Any, ...]], *, keeps: bool = False
    ) -> Iterator[Any]:
        """Apply a function to the arguments of each part, in this process; results that are kept are on disk."""
        for values in arguments:
            result = function(*values)
            yield receive(send(result, self.make_path())) if keeps else result
            del result

    def remove(self) -> None:
        """Remove everything; tables that are still mapped stay readable until they are dropped."""
        shutil.rmtree(self.folder, ignore_errors=True)


# A table, or a part of it, with notes on its cells.
Noted = tuple[Table, Sequence[Note]]


@dataclass
class TableStore:
    """A table being written to disk, part after part."""

    folder: Path
    columns: dict[str, ColumnStore] = field(default_factory=dict)
    rows: int = 0
    dictionary: Dictionary | None = None
    first: Table | None = None
    unfit: set[str] = field(default_factory=set)  # columns of several types

    def append(self, table: Table) -> None:
        """Append the rows of a part; its columns are those of the first part.

        A column whose type does not go with that of the parts before becomes `unfit`.
        """
        if self.first is None:
            self.first = replace(table, columns={})  # the rest of it, not its cells
            self.columns = {name: ColumnStore(self.folder / str(number)) for number, name in enumerate(table.names)}
        for name, column in table.columns.items():
            if name not in self.unfit:
                try:
                    self.columns[name].append(column)
                except PartsDifferError:
                    self.unfit.add(name)
        self.rows += len(table)
        self.dictionary = table.dictionary if self.dictionary is None else self.dictionary.combine(table.dictionary)

    def fill(self, parts: Iterable[Noted], read_again: Callable[[str], Noted]) -> list[Note]:
        """Append the parts of a table, and return the notes on its cells.

        A column that is of one type in some rows and of another elsewhere, or of which there is something to note that
        only all its cells show, is read again as a whole.
        """
        notes: tuple[Note, ...] = ()
        again, only_tokens = dict[str, None](), set[str]()
        for table, notes_of_part in parts:
            self.append(table)
            again.update({note.column: None for note in notes_of_part if note.column and not note.adds_up})
            tokens = {note.column for note in notes_of_part if note.kind == "token"}
            only_tokens |= {name for name in tokens if table[name].is_without_values}
            notes = combine_lists(notes, notes_of_part, lambda note: note.identity)
        # A word such as n/a is a text if other parts show that the column is one.
        again.update({name: None for name in only_tokens if self.columns[name].type == "string"})
        order = {name: index for index, name in enumerate(self.columns)}
        for name in (name for name in order if name in self.unfit or name in again):
            table, notes_of_column = read_again(name)
            if len(table) != self.rows:
                raise FileError(f"{table.name} changed while it was read.", todo="Run it again.")
            self.replace(name, table[name])
            of_others = [note for note in notes if note.column != name]
            notes = (*of_others, *(note for note in notes_of_column if note.column == name))
        # Spaces are noted first, though they may be in a later part than the words.
        return sorted(notes, key=lambda note: (order.get(note.column, -1), note.kind != "spaces-around"))

    def replace(self, name: str, column: Column) -> None:
        """Replace all cells of a column."""
        self.columns[name].clear()
        self.columns[name].append(column)
        self.unfit.discard(name)

    def remove(self) -> None:
        """Remove the files; cells that are still mapped stay readable."""
        shutil.rmtree(self.folder, ignore_errors=True)

    def finish(self) -> Table:
        """Return the table, its cells mapped from disk."""
        assert self.first is not None and self.dictionary is not None
        if self.unfit:
            raise PartsDifferError(f"{', '.join(sorted(self.unfit))} of several types")
        columns = {name: store.finish() for name, store in self.columns.items()}
        return replace(self.first, columns=columns, dictionary=self.dictionary)


class ColumnStore:
    """A column being written to disk: values and reasons.

    Strings that repeat are positions in a pool, which stays in memory; others are on disk, with where each begins.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.clear()

    def clear(self) -> None:
        """Begin again without cells."""
        for name in PIECES:
            self._get_path(name).unlink(missing_ok=True)
        self.type: Type | None = None
        self.is_certain = False  # whether a cell had a value, so that the type is known
        self.rows = self.size = 0
        self.reasons: tuple[str, ...] = ()
        self.pool: pa.Array | None = None  # the distinct strings, while these repeat

    def append(self, column: Column) -> None:
        """Append some cells.

        Raises PartsDifferError if their type does not go with that of the cells before.
        """
        column = self._fit(column)
        if column.type == "string":
            self._append_strings(column)
        else:
            self._write("values", np.ascontiguousarray(column.values))
        if column.why is not None:
            self.reasons = join_reasons(self.reasons, column.reasons)
            path = self._get_path("why")
            path.touch()
            os.truncate(path, self.rows)  # cells before, if none was missing, are zeros that take no space
            self._write("why", renumber_why(column.why, column.reasons, self.reasons))
        self.rows += len(column)

    def _append_strings(self, column: Column) -> None:
        """Append strings as positions, as long as they repeat."""
        # Only the strings that occur: a pool may be that of a larger table.
        encoded = column.compact() if self.pool is not None else column
        if self.pool is not None and REPEATS * len(encoded.strings) > len(column) > FEW_ROWS:
            self._unpack()
        if self.pool is None:
            self._append_texts(column.to_arrow())
            return
        texts = encoded.strings.strings
        positions = to_positions(pc.index_in(texts, value_set=self.pool)).copy()
        is_new = positions < 0
        positions[is_new] = np.arange(len(self.pool), len(self.pool) + int(np.count_nonzero(is_new)), dtype=np.int32)
        self.pool = pa.concat_arrays([self.pool, texts.filter(pa.array(is_new))])
        self._write("values", np.append(positions, np.int32(-1))[encoded.values].astype(np.int32))
        if len(self.pool) > MOST_DISTINCT:
            self._unpack(self.rows + len(column))

    def _append_texts(self, texts: pa.Array) -> None:
        if not len(texts):
            return
        starts, raw = get_buffers(texts)
        ends = starts[1:] - starts[0] + self.size
        self._write("starts", ends.astype(np.int64))
        self._write("values", raw[starts[0] : starts[-1]])
        self.size = int(ends[-1])

    def _unpack(self, rows: int | None = None) -> None:
        """Write the strings themselves in place of the positions written so far."""
        pool, rows = self.pool, self.rows if rows is None else rows
        positions = self._map("values", np.int32, rows)
        self._get_path("values").unlink(missing_ok=True)
        self.pool, self.size = None, 0
        self._write("starts", np.zeros(1, np.int64))
        for start in range(0, rows, BLOCK):
            some = positions[start : start + BLOCK]
            self._append_texts(pool.take(pa.array(some, mask=some < 0)))  # type: ignore[union-attr]

    def _fit(self, column: Column) -> Column:
        """Return the cells in the type of those before, or change that."""
        has_values = not column.is_without_values
        if self.type is None or (not self.is_certain and has_values and self.type != column.type):
            self._begin(column.type)
        if column.type != self.type and has_values:
            if (self.type, column.type) in (("integer", "number"), ("date", "datetime")):
                self._widen(column.type)
            elif (column.type, self.type) not in (("integer", "number"), ("date", "datetime")):
                raise PartsDifferError(f"{self.type} and {column.type}")
        self.is_certain = self.is_certain or has_values
        assert self.type is not None
        return column.widen(self.type) if has_values else column.fit_type(self.type)

    def _begin(self, type_: Type) -> None:
        """Begin with a type; cells without a value that are there already get its filler."""
        self.type, self.size = type_, 0
        for name in ("values", "starts"):
            self._get_path(name).unlink(missing_ok=True)
        self.pool = pa.array([], pa.large_string()) if type_ == "string" else None
        for start in range(0, self.rows, BLOCK):
            self._write("values", np.full(min(BLOCK, self.rows - start), FILLERS[type_], DTYPES[type_]))

    def _widen(self, type_: Type) -> None:
        """Widen the cells written so far, in their place."""
        assert self.type is not None
        before, self.type = self.type, type_
        if not self.rows:
            return
        mapped = np.memmap(self._get_path("values"), np.int64, "r+", shape=(self.rows,))
        whys = self._map_why()
        for start in range(0, self.rows, BLOCK):
            why = None if whys is None else whys[start : start + BLOCK]
            column = Column.of(before, np.array(mapped[start : start + BLOCK]).view(DTYPES[before]), why, self.reasons)
            # Without values in a block there is nothing to be widened but fillers.
            mapped[start : start + BLOCK] = column.fit_type(type_).widen(type_).values.view(np.int64)

    def _map_why(self) -> Array | None:
        if not self.reasons:
            return None
        os.truncate(self._get_path("why"), self.rows)  # the last cells, if none of them is missing
        return self._map("why", np.uint8, self.rows)

    def finish(self) -> Column:
        """Return the column, mapped from disk."""
        why = self._map_why()
        assert self.type is not None
        if self.type != "string":
            return Column(self.type, self._map("values", DTYPES[self.type], self.rows), why, self.reasons)
        if self.pool is not None:
            positions = self._map("values", DTYPES["string"], self.rows)
            pool = receive(send(self.pool, self._get_path("pool")))
            return Column("string", positions, why, self.reasons, Pool(pool, is_distinct=True))
        valid = None if why is None else pa.py_buffer(np.packbits(why == 0, bitorder="little"))
        starts = pa.py_buffer(self._map("starts", np.int64, self.rows + 1))
        data = pa.py_buffer(self._map("values", np.uint8, self.size))
        strings = pa.Array.from_buffers(pa.large_string(), self.rows, [valid, starts, data])
        return Column("string", None, why, self.reasons, Pool(strings))

    def _map(self, name: str, dtype: Any, count: int) -> Array:
        kind = np.dtype(dtype)
        return np.asarray(map_file(self._get_path(name))).view(kind)[:count] if count else np.zeros(0, kind)

    def _write(self, name: str, cells: np.ndarray[Any, Any]) -> None:
        with writing_to(self.path.parent.parent):
            append_bytes(self._get_path(name), np.ascontiguousarray(cells).view(np.uint8))

    def _get_path(self, name: str) -> Path:
        return self.path.with_name(f"{self.path.name}.{name}")


def append_bytes(path: Path, content: np.ndarray[Any, Any]) -> None:
    """Append bytes to a file, which is open for this only: there are many columns of many partitions."""
    rest = memoryview(content.data)
    with path.open("ab", buffering=0) as file:
        while rest:
            rest = rest[file.write(rest) :]


def require_folder(folder: Path) -> None:
    """Stop if a folder does not exist.

    Raises FileError with the command that makes it.
    """
    if not folder.is_dir():
        raise FileError(f"The folder {folder} does not exist.", todo=f"Make it first: mkdir -p {folder}")


def is_alive(process: int) -> bool:
    """Return whether a process exists."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True
