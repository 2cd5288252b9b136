"""What all files have in common as sources: the joining of what was read with the descriptor, under one rule."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Collection, Mapping, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.nearest import advice
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.history import NO_HISTORY, History
from lomrix.core.table.label_conflicts import notes_on_labels
from lomrix.core.table.notes import FIRST_ROW, Note
from lomrix.core.table.table import Table
from lomrix.core.wording import in_utf8
from lomrix.files import descriptor
from lomrix.files.hashing import ALGORITHM, begin_hash
from lomrix.files.interface import Place, Read, Source
from lomrix.files.missing import Missing, with_reasons
from lomrix.files.reading import ReadSettings
from lomrix.files.staging import guarded


@dataclass(frozen=True)
class Cells:
    """The columns of a file as its format gives them: what is missing for want of a text is `blank`.

    Parameters
    ----------
    columns
        By name, in the order of the file.
    notes
        What a person should look at.
    first_row
        Number of the first row as its sheet counts it.
    name
        How messages speak of the table.
    """

    columns: Mapping[str, Column]
    notes: Sequence[Note] = ()
    first_row: int = FIRST_ROW
    name: str = ""


@dataclass(frozen=True)
class Described:
    """What a descriptor says of a file, as far as it counts."""

    dictionary: Dictionary = field(default_factory=Dictionary)
    missing: Mapping[str, Missing] = field(default_factory=dict)
    history: History = NO_HISTORY
    rows: int = 0
    decimals: Mapping[str, str] = field(default_factory=dict)
    notes: tuple[Note, ...] = ()


class FileSource(Source):
    """A file. Formats say which names it has and how its cells become columns.

    Parameters
    ----------
    path
        The file.
    settings
        What was said about it; what is not said is found.
    sheet
        Sheet of a workbook; the first one that holds something where empty.
    """

    def __init__(self, path: Path, settings: ReadSettings, sheet: str = "") -> None:
        self.path, self.settings, self.sheet = path, settings, sheet
        self._hash: Future[str] | None = None

    @property
    def name(self) -> str:
        """The name of its file, without what follows the last dot."""
        return self.path.stem

    @property
    def places(self) -> tuple[Place, ...]:
        """The file, and what describes it."""
        return (self.path, *descriptor.files_beside(self.path))

    # ------------------------------------------------------- what formats say

    @abstractmethod
    def look(self) -> tuple[list[str], descriptor.Resource | None]:
        """The names in the file, and the descriptor inside it, where the format holds one."""

    @abstractmethod
    def cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Some columns, and some rows or all; each column typed by `self.variable`."""

    # ---------------------------------------------------------------- the rest

    @cached_property
    def _looked(self) -> tuple[list[str], descriptor.Resource | None]:
        return guarded(self.path, "read", self.look)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""
        return tuple(self._looked[0])

    @cached_property
    def described(self) -> Described:
        """What the descriptor says, inside the file or beside it.

        One rule where the two disagree: a descriptor that names other columns is not used at all; one whose file has
        changed since still says what its variables are, and no more why cells are missing. Both are told.
        """
        inside = self._looked[1]
        if inside is not None:
            return Described(inside.dictionary(), inside.missing, inside.history, inside.rows)
        beside = descriptor.find_beside(self.path)
        if beside is None or self.settings.all_text:
            return Described()
        notes = (beside.note,) if beside.note else ()
        if not beside.fits:
            return Described(notes=notes)
        resource, name = beside.resource, beside.name
        if resource.names != list(self.names):
            text = f"{name} names other columns than the file; it is not used."
            return Described(notes=(Note(text, kind="descriptor"),))
        if self._changed_since(resource):
            text = f"the file has changed since {name} was written: its labels and codes are used, "
            text += "but why cells are missing is not known any more."
            note = Note(text, kind="changed")
            return Described(resource.dictionary(), {}, resource.history, decimals=resource.decimals, notes=(note,))
        return Described(
            resource.dictionary(), resource.missing, resource.history, resource.rows, resource.decimals, notes
        )

    def _changed_since(self, resource: descriptor.Resource) -> bool:
        if resource.bytes is not None and resource.bytes != self.path.stat().st_size:
            return True
        return bool(resource.hash.startswith(ALGORITHM)) and resource.hash != self.fingerprint()

    @property
    def dictionary(self) -> Dictionary:
        """What is known of its variables: what was said goes before what stands beside or inside the file."""
        known = self.settings.dictionary.for_reading(self.names)
        known = known.joined(self.described.dictionary, extends_codes=False).without_tokens()
        for name, (type_, form) in self.settings.types.items():
            if name in self.names and not self.settings.all_text:
                known = known.with_variable(name, known.of(name).with_(type=type_, form=form))
        return known

    def date_form(self, name: str) -> str:
        """How a column's dates are written: as was said, else as the descriptor says; empty where nothing is."""
        return self.settings.date_format(name) or (
            "" if self.settings.all_text else self.described.dictionary.of(name).form
        )

    def decimal(self, name: str) -> str:
        """The sign before the decimal places of a column: as was said, else as the descriptor says."""
        said = self.settings.decimal
        return said if said != "." else self.described.decimals.get(name, said)

    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> Read:
        """Read the file."""
        asked = set(self.names if columns is None else columns)
        wanted = [name for name in self.names if name in asked]
        cells = guarded(self.path, "read", lambda: self.cells(wanted, rows))
        missing = self.described.missing
        made = {
            name: with_reasons(column, missing[name], rows, self.row_count(rows)) if name in missing else column
            for name, column in cells.columns.items()
        }
        dictionary = self.dictionary
        for name, column in made.items():
            if dictionary.of(name).form and column.type != "string":
                dictionary = dictionary.with_variable(name, dictionary.of(name).with_(form=""))
        table = Table(
            made, dictionary, self.described.history, cells.name or in_utf8(self.path.stem), cells.first_row,
            self.names if len(wanted) < len(self.names) else (),
        )  # fmt: skip
        labels = notes_on_labels(self.settings.dictionary, self.described.dictionary, wanted)
        notes = (*self.described.notes, *labels, *cells.notes)
        return Read(table, notes if not self.settings.all_text else ())

    def row_count(self, rows: range | None) -> int | None:
        """Number of rows that runs of a descriptor may name where only some are read; None where all are."""
        return None if rows is None else 2**62

    def fingerprint(self) -> str:
        """The file's hash, computed once."""
        return self.begin_fingerprint().result()

    def begin_fingerprint(self) -> Future[str]:
        """Begin to compute the hash, while other work goes on."""
        if self._hash is None:
            self._hash = begin_hash(self.path)
        return self._hash


def shifted(note: Note, rows: int) -> Note:
    """A note whose rows are counted as the sheet counts them, title lines among them."""
    return replace(note, examples=tuple((row + rows, value) for row, value in note.examples))


def require_file(path: Path) -> None:
    """Stop where there is no such file, naming the nearest ones that are there.

    Raises
    ------
    FileError
        Where it is not there, or is no file.
    """
    if path.is_dir():
        raise FileError(f"{path} is a directory, not a file.", todo="Name a file in it.")
    if path.is_file():
        return
    if path.exists():
        raise FileError(f"{path} is no plain file.", todo="Write it into a file first, or give it as standard input: -")
    try:
        names = [str(path.parent / one.name) for one in path.parent.iterdir()]
    except OSError:
        names = []
    raise FileError(f"There is no file {path}.", todo=advice(str(path), sorted(names), "Check the path."))
