"""Files as sources: the cells of a file joined with its descriptor, under one rule."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Collection, Iterator, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from lomrix.core.combining import Run, run_in_memory
from lomrix.core.errors import FileError
from lomrix.core.nearest import advise
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.entry_changes import note_overridden_labels
from lomrix.core.table.history import NO_HISTORY, History
from lomrix.core.table.notes import FIRST_ROW, Note
from lomrix.core.table.table import Table
from lomrix.core.wording import to_utf8
from lomrix.files import descriptor
from lomrix.files.hashing import ALGORITHM, begin_hash
from lomrix.files.interface import Location, ReadResult, Source
from lomrix.files.missing import MissingPlan, apply_reasons
from lomrix.files.reading import ReadSettings
from lomrix.files.scratch import Noted, TableStore
from lomrix.files.staging import guard


@dataclass(frozen=True)
class Cells:
    """The columns of a file as its format gives them; cells without text are `blank`."""

    columns: Mapping[str, Column]  # by name, in the order of the file
    notes: Sequence[Note] = ()  # what a person should look at
    first_row: int = FIRST_ROW  # number of the first row as its sheet counts it
    name: str = ""  # how messages speak of the table


@dataclass(frozen=True)
class Described:
    """What a descriptor says about a file, as far as it applies."""

    dictionary: Dictionary = field(default_factory=Dictionary)
    missing: Mapping[str, MissingPlan] = field(default_factory=dict)
    history: History = NO_HISTORY
    rows: int = 0
    decimals: Mapping[str, str] = field(default_factory=dict)
    notes: tuple[Note, ...] = ()


class FileSource(Source):
    """A file.

    Formats implement `read_header` and `read_cells`. `sheet` names a worksheet; empty for the first one that is not
    empty.
    """

    def __init__(self, path: Path, settings: ReadSettings, sheet: str = "") -> None:
        self.path, self.settings, self.sheet = path, settings, sheet
        self._hash: Future[str] | None = None

    @property
    def name(self) -> str:
        """The name of its file, without the extension."""
        return self.path.stem

    @property
    def locations(self) -> tuple[Location, ...]:
        """The file, and what describes it."""
        return (self.path, *descriptor.list_beside(self.path))

    # --------------------------------------------- implemented by each format

    @abstractmethod
    def read_header(self) -> tuple[list[str], descriptor.Resource | None]:
        """Return the names in the file, and the descriptor inside it, if the format holds one."""

    @abstractmethod
    def read_cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Return some columns, and some rows or all; each column typed by `settings.variable`."""

    def read_labels(self) -> Dictionary:
        """Return the labels and units of the variables in the rows of a header."""
        return Dictionary()

    # ------------------------------------------------------------------ common

    @cached_property
    def _header(self) -> tuple[list[str], descriptor.Resource | None]:
        return guard(self.path, "read", self.read_header)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""
        return tuple(self._header[0])

    @cached_property
    def described(self) -> Described:
        """The descriptor, inside the file or beside it.

        A descriptor with other column names is not used at all; if the file changed since, its labels and codes are
        used but not its reasons. Both are noted.
        """
        embedded = self._header[1]
        if embedded is not None:
            return Described(embedded.make_dictionary(), embedded.missing, embedded.history, embedded.rows)
        found = descriptor.find_beside(self.path)
        if found is None or self.settings.all_text:
            return Described()
        notes = (found.note,) if found.note else ()
        if not found.fits:
            return Described(notes=notes)
        resource, name = found.resource, found.name
        if resource.names != list(self.names):
            text = f"{name} has other columns than the file and is not used."
            return Described(notes=(Note(text, kind="descriptor"),))
        if self._changed_since(resource):
            text = f"the file changed after {name} was written: its labels and codes are used, "
            text += "but the reasons of missing cells are lost."
            note = Note(text, kind="changed")
            return Described(
                resource.make_dictionary(), {}, resource.history, decimals=resource.decimals, notes=(note,)
            )
        return Described(
            resource.make_dictionary(), resource.missing, resource.history, resource.rows, resource.decimals, notes
        )

    def _changed_since(self, resource: descriptor.Resource) -> bool:
        if resource.bytes is not None and resource.bytes != self.path.stat().st_size:
            return True
        return bool(resource.hash.startswith(ALGORITHM)) and resource.hash != self.compute_fingerprint()

    @property
    def dictionary(self) -> Dictionary:
        """The stated dictionary, completed by the descriptor."""
        result = self.settings.dictionary.for_reading(self.names)
        result = result.join(self.described.dictionary, extends_codes=False).join(self.read_labels()).without_tokens()
        for name, (type_, form) in self.settings.types.items():
            if name in self.names and not self.settings.all_text:
                result = result.with_variable(name, result.of(name).with_parts(type=type_, form=form))
        return result

    def find_date_form(self, name: str) -> str:
        """Return the date form of a column: as stated, else from the descriptor; empty if unknown."""
        return self.settings.get_date_format(name) or (
            "" if self.settings.all_text else self.described.dictionary.of(name).form
        )

    def find_decimal(self, name: str) -> str:
        """Return the decimal separator of a column: as stated, else from the descriptor."""
        stated = self.settings.decimal
        return stated if stated != "." else self.described.decimals.get(name, stated)

    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> ReadResult:
        """Read the file."""
        chosen = self._choose(columns)
        return self._complete(guard(self.path, "read", lambda: self.read_cells(chosen, rows)), chosen, rows)

    def __getstate__(self) -> dict[str, object]:
        """Return what another process needs to read it."""
        return {**vars(self), "path": self.path.absolute(), "_hash": None}

    def read_into(self, store: TableStore, columns: Collection[str], run: Run = run_in_memory) -> ReadResult:
        """Read the given columns to disk, some rows at a time.

        A column that is of one type in some rows and of another elsewhere, or of which there is something to note that
        only all its cells show, is read again as a whole.
        """
        chosen = self._choose(columns)
        common: tuple[Note, ...] = ()

        def read_parts() -> Iterator[Noted]:
            nonlocal common
            for cells, part in self._iterate(chosen, run):
                common = part.notes[: len(part.notes) - len(cells.notes)]
                yield part.table, part.notes[len(common) :]

        def read_again(name: str) -> Noted:
            cells = self.read_cells([name], None)
            return self._complete(cells, [name], None).table, () if self.settings.all_text else cells.notes

        notes = guard(self.path, "read", lambda: store.fill(read_parts(), read_again))
        return ReadResult(store.finish(), (*common, *notes))

    def iterate(self, columns: Collection[str] | None = None) -> Iterator[ReadResult]:
        """Yield the file some rows at a time, each time typed column by column."""
        return (part for _, part in self._iterate(self._choose(columns), run_in_memory))

    def _iterate(self, chosen: Sequence[str], run: Run) -> Iterator[tuple[Cells, ReadResult]]:
        start = 0
        for cells in self.iterate_cells(chosen, run):
            stop = start + count_rows(cells)
            yield cells, self._complete(cells, chosen, range(start, stop))
            start = stop

    def list_pieces(self) -> Sequence[range]:
        """List pieces of the file that can be read on their own, in what its format counts; none if it cannot be."""
        return ()

    def read_piece(self, piece: range, names: Sequence[str]) -> Cells:
        """Return the cells of some columns of a piece."""
        return self.read_cells(names, piece)

    def iterate_cells(self, names: Sequence[str], run: Run) -> Iterator[Cells]:
        """Yield the cells of some columns some rows at a time; at least once."""
        if pieces := self.list_pieces():
            return run(read_piece, ((self, piece, names) for piece in pieces))
        return self.read_in_sequence(names)

    def read_in_sequence(self, names: Sequence[str]) -> Iterator[Cells]:
        """Yield the cells of a file whose pieces need each other."""
        yield self.read_cells(names, None)

    def _choose(self, columns: Collection[str] | None) -> list[str]:
        requested = set(self.names if columns is None else columns)
        return [name for name in self.names if name in requested]

    def _complete(self, cells: Cells, chosen: Sequence[str], rows: range | None) -> ReadResult:
        """Complete the cells from the descriptor."""
        missing = self.described.missing
        columns_read = {
            name: apply_reasons(column, missing[name], rows, self.row_count(rows)) if name in missing else column
            for name, column in cells.columns.items()
        }
        dictionary = self.dictionary
        for name, column in columns_read.items():
            if dictionary.of(name).form and column.type != "string":
                dictionary = dictionary.with_variable(name, dictionary.of(name).with_parts(form=""))
        table = Table(
            columns_read, dictionary, self.described.history, cells.name or to_utf8(self.path.stem), cells.first_row,
            self.names if len(chosen) < len(self.names) else (),
        )  # fmt: skip
        labels = note_overridden_labels(self.settings.dictionary, self.described.dictionary, chosen)
        notes = (*self.described.notes, *labels, *cells.notes)
        return ReadResult(table, notes if not self.settings.all_text else ())

    def row_count(self, rows: range | None) -> int | None:
        """Return the number of rows for the descriptor's runs if only some rows are read; None for all."""
        return None if rows is None else 2**62

    def compute_fingerprint(self) -> str:
        """Return the file's hash, computed once."""
        return self.begin_fingerprint().result()

    def begin_fingerprint(self) -> Future[str]:
        """Start computing the hash in the background."""
        if self._hash is None:
            self._hash = begin_hash(self.path)
        return self._hash


def read_piece(source: FileSource, piece: range, names: Sequence[str]) -> Cells:
    """Read a piece of a file, as a function that can be sent to another process."""
    cells = source.read_piece(piece, names)
    # What a store would do otherwise, in the process that waits for all pieces.
    columns = {name: column.encode_if_repetitive() for name, column in cells.columns.items()}
    return replace(cells, columns=columns)


def count_rows(cells: Cells) -> int:
    """Return the number of rows of some cells."""
    return len(next(iter(cells.columns.values()))) if cells.columns else 0


def shift_note(note: Note, rows: int) -> Note:
    """Shift the row numbers of a note, to count title lines."""
    return replace(note, examples=tuple((row + rows, value) for row, value in note.examples))


def require_file(path: Path) -> None:
    """Stop if there is no such file, suggesting the nearest names.

    Raises FileError if it does not exist, or is not a file.
    """
    if path.is_dir():
        raise FileError(f"{path} is a directory, not a file.", todo="Name a file in it.")
    if path.is_file():
        return
    if path.exists():
        raise FileError(f"{path} is not a regular file.", todo="Write it to a file first, or use standard input: -")
    try:
        names = [str(path.parent / sibling.name) for sibling in path.parent.iterdir()]
    except OSError:
        names = []
    raise FileError(f"The file {path} does not exist.", todo=advise(str(path), sorted(names), "Check the path."))
