"""A folder, or a pattern of files, read as one table: the files of a device, a month or a site each."""

from __future__ import annotations

import itertools
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from lomrix.core.combining import Run, combine_lists, run_in_memory
from lomrix.core.errors import FileError
from lomrix.core.table.column import Column, is_exact
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import natural_key
from lomrix.core.table.history import History
from lomrix.core.table.notes import Note
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list
from lomrix.files.file_source import shift_note
from lomrix.files.hashing import hash_files
from lomrix.files.interface import Location, ReadResult, Source
from lomrix.files.reading import ReadSettings
from lomrix.files.scratch import TableStore

MOST_SHOWN = 4
# Files of more cells are read in parts themselves.
LARGE = 1 << 23
# Whole numbers that would lose digits as decimals.
LONG, EXACT = "integer of many digits", 2**53
GO_TOGETHER: tuple[set[str], ...] = ({"integer", "number"}, {"integer", LONG}, {"date", "datetime"})


def list_files(reference: str, suffixes: Collection[str]) -> list[Path]:
    """Return the files that a folder or pattern names, file 3 before file 12; hidden ones and descriptors are not read.

    Raises FileError if there is none, or they are of several formats.
    """
    path = Path(reference)
    found = path.iterdir() if path.is_dir() else path.parent.glob(path.name)
    files = [
        file for file in found if file.is_file() and not file.name.startswith(".") and file.suffix.lower() in suffixes
    ]
    if not files:
        shown = " ".join(sorted(suffixes))
        raise FileError(f"No files matched {reference}.", todo=f"Check the path; files end in one of {shown}.")
    kinds = sorted({file.suffix.lower() for file in files})
    if len(kinds) > 1:
        pattern = (path if path.is_dir() else path.parent) / f"*{kinds[0]}"
        todo = f'Name those of one format: "{pattern}"'
        raise FileError(f"{reference} has files of several formats: {', '.join(kinds)}.", todo=todo)
    return sorted(files, key=lambda file: natural_key(file.name))


@dataclass
class KindsSeen:
    """By column, the kinds of values in the files so far, each with the first file that has it."""

    by_column: dict[str, dict[str, str]] = field(default_factory=dict)

    def require_same(self, table: Table) -> None:
        """Stop if a column of a file has another type than in one before; one without values goes with any.

        Raises FileError with both files.
        """
        for name, column in table.columns.items():
            if column.is_without_values:
                continue
            kind, seen = find_kind(column), self.by_column.setdefault(name, {})
            for other, file in seen.items():
                if kind != other and {kind, other} not in GO_TOGETHER:
                    raise FileError(
                        f"{name} is {other} in {file} and {kind} in {table.name}.",
                        todo=f"Correct the cells that differ (`lomrix check`), or use ‹type={name}=string›.",
                    )
            seen.setdefault(kind, table.name)


def read_source(source: Source, columns: Collection[str]) -> ReadResult:
    """Read a file, as a function that can be sent to another process."""
    return source.read(columns)


def find_kind(column: Column) -> str:
    """Return the type of a column, and whether its whole numbers would lose digits as decimals."""
    is_large = column.type == "integer" and (column.values.max() > EXACT or column.values.min() < -EXACT)
    return LONG if is_large and not is_exact(column.values).all() else column.type


class FolderSource(Source):
    """Files with the same columns, read as one table in the order of their names."""

    def __init__(
        self, reference: str, files: Collection[Path], settings: ReadSettings, open_: Callable[..., Source]
    ) -> None:
        self.reference, self.settings = reference, settings
        self.sources = [open_(str(file), settings) for file in files]
        first = self.sources[0]
        self.options_used = first.options_used
        for source in self.sources[1:]:
            self._require_same(first, source)

    @staticmethod
    def _require_same(first: Source, other: Source) -> None:
        """Stop if a file has other columns than the first."""
        added, lost = [n for n in other.names if n not in first.names], [n for n in first.names if n not in other.names]
        if added or lost:
            parts = [f"only in {other.name}: {shorten_list(added)}"] if added else []
            parts += [f"only in {first.name}: {shorten_list(lost)}"] if lost else []
            raise FileError(
                f"{other.name} has other columns than {first.name}.",
                where="; ".join(parts),
                todo="Files that are read as one table have the same columns; use `lomrix stack` for others.",
            )

    @property
    def name(self) -> str:
        """The name of the folder."""
        path = Path(self.reference)
        return (path if path.is_dir() else path.parent).resolve().name

    @property
    def locations(self) -> tuple[Location, ...]:
        """All files."""
        return tuple(location for source in self.sources for location in source.locations)

    @property
    def names(self) -> tuple[str, ...]:
        """The names of the columns, in the order of the first file."""
        return self.sources[0].names

    @property
    def dictionary(self) -> Dictionary:
        """What is known of the variables, from the first file."""
        return self.sources[0].dictionary

    def rename(self, names: Mapping[str, str]) -> None:
        """Apply the settings for new names in every file."""
        for source in self.sources:
            source.rename(names)

    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> ReadResult:
        """Read all files; `rows` counts through them."""
        chosen = self._choose(columns)
        results = [source.read(chosen) for source in self.sources]
        notes = self._list_files()
        start = 0
        for result in results:
            shifted = [shift_note(note, start) for note in result.notes]
            notes = combine_lists(notes, shifted, lambda note: note.identity)
            start += len(result.table)
        tables = [self._arrange(result.table, chosen) for result in results]
        kinds = KindsSeen()
        for table in tables:
            kinds.require_same(table)
        table = replace(concatenate_tables(tables), history=self._join_histories(tables), name=self.name)
        if rows is not None:
            import numpy as np

            table = table.take(np.arange(rows.start, min(rows.stop, len(table))))
        return ReadResult(table, notes)

    def iterate(self, columns: Collection[str] | None = None) -> Iterator[ReadResult]:
        """Yield some rows at a time, file after file."""
        chosen = self._choose(columns)
        for source in self.sources:
            for result in source.iterate(chosen):
                yield replace(result, table=self._arrange(result.table, chosen))

    def read_into(self, store: TableStore, columns: Collection[str], run: Run = run_in_memory) -> ReadResult:
        """Read all files to disk, one after the other."""
        chosen, notes = self._choose(columns), self._list_files()
        firsts, kinds, start = list[Table](), KindsSeen(), 0
        for result in self._read_files(store.folder, chosen, run):
            shifted = [shift_note(note, start) for note in result.notes]
            notes = combine_lists(notes, shifted, lambda note: note.identity)
            start += len(result.table)
            table = self._arrange(result.table, chosen)
            kinds.require_same(table)
            for part in table.split(LARGE):
                store.append(part)
            firsts.append(table.first(0))
        table = store.finish()
        return ReadResult(replace(table, history=self._join_histories(firsts), name=self.name), notes)

    def _read_files(self, folder: Path, chosen: list[str], run: Run) -> Iterator[ReadResult]:
        """Yield the tables of the files; that of a large one is in a folder as long as it is used."""
        most, numbered = LARGE // max(len(chosen), 1), enumerate(self.sources)
        for is_large, group in itertools.groupby(numbered, lambda one: (one[1].estimate_rows() or 0) > most):
            if not is_large:
                yield from run(read_source, ((source, chosen) for _, source in group))
                continue
            for number, source in group:
                store = TableStore(folder / f"file{number}")
                store.folder.mkdir()
                yield source.read_into(store, chosen, run)
                store.remove()

    def _list_files(self) -> tuple[Note, ...]:
        """Note how many files are one table."""
        count, first, last = len(self.sources), self.sources[0].name, self.sources[-1].name
        text = f"{count:,} files read as one table, {first} to {last}; rows are numbered through all of them."
        return (Note(text if count > 1 else f"1 file read: {first}.", kind="files", count=count, done=True),)

    def _choose(self, columns: Collection[str] | None) -> list[str]:
        return [name for name in self.names if columns is None or name in set(columns)]

    def _arrange(self, table: Table, chosen: list[str]) -> Table:
        """Return the columns of a file in the order of the first."""
        names_in_source = self.names if len(chosen) < len(self.names) else ()
        return replace(table, columns={name: table[name] for name in chosen}, names_in_source=names_in_source)

    @staticmethod
    def _join_histories(tables: list[Table]) -> History:
        tasks = {name: entry for table in tables for name, entry in table.history.tasks.items()}
        return History(tasks, tables[0].history.last)

    def estimate_rows(self) -> int | None:
        """Estimate the rows of all files."""
        counts = [source.estimate_rows() for source in self.sources]
        return None if None in counts else sum(count or 0 for count in counts)

    def estimate_text_size(self) -> int:
        """Estimate the bytes of a row from the first file."""
        return self.sources[0].estimate_text_size()

    def close(self) -> None:
        """Close all files."""
        for source in self.sources:
            source.close()

    def begin_fingerprint(self) -> object:
        """Begin with all files."""
        return [source.begin_fingerprint() for source in self.sources]

    def compute_fingerprint(self) -> str:
        """Return a hash of the names and hashes of all files."""
        return self._fingerprint

    @cached_property
    def _fingerprint(self) -> str:
        return hash_files((source.name, source.compute_fingerprint()) for source in self.sources)
