"""The inputs of a task: sources opened by role, what the step needs of them, and their tables."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from lomrix.core.combining import Run, run_in_memory
from lomrix.core.errors import UsageError
from lomrix.core.steps.step import Inputs, Role
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.selection import unknown_column_error
from lomrix.core.table.table import Table
from lomrix.files.database.reference import hide_password, is_url
from lomrix.files.delivered import TEMPLATE
from lomrix.files.descriptor import list_beside
from lomrix.files.hashing import hash_file
from lomrix.files.interface import Location, Source
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import STREAM, open_source, open_stream, refuse_unused_options, split_sheet
from lomrix.files.scratch import Scratch
from lomrix.files.table_source import TableSource
from lomrix.job.budget import Input
from lomrix.job.lineage import UsedFile
from lomrix.job.sinks import read_secret
from lomrix.job.streams import Streams
from lomrix.job.task import Task


@dataclass
class OpenedInput:
    """One reference of a task that was opened; `source` is None for a secret."""

    role: Role
    reference: str
    source: Source | None
    table: Table | None = None

    @property
    def display_name(self) -> str:
        """The reference without its password."""
        return hide_password(self.reference)


def list_files_read(task: Task, references: Iterable[str], dictionaries: Sequence[Path] | None = None) -> list[Path]:
    """List every file that a task reads, with the dictionaries and descriptors that belong to it."""
    paths = [split_sheet(reference)[0] for reference in references if not is_url(reference)]
    files = [file for path in paths for file in (path, *list_beside(path))]
    for role in task.step.roles:
        files += map(Path, task.inputs.get(role.name, ()) if role.content == "secret" else ())
    if dictionaries is None and task.reading.dictionary:
        from lomrix.files.dictionary_file import read_dictionary

        read_dictionary(task.reading.dictionary, used=files)
    files += dictionaries or ()
    files += [Path(reference) for reference in task.outputs.values() if reference.endswith(TEMPLATE)]
    return [path for path in dict.fromkeys(files) if path.is_file()]


@dataclass
class OpenedInputs:
    """All that a task reads."""

    task: Task
    settings: ReadSettings
    opened: list[OpenedInput] = field(default_factory=list)
    dictionaries: list[Path] = field(default_factory=list)
    notes: list[tuple[str, Note]] = field(default_factory=list)
    new_secrets: dict[str, Table] = field(default_factory=dict)

    @classmethod
    def open(cls, task: Task, streams: Streams, folder: Path, memory: Mapping[str, Table]) -> OpenedInputs:
        """Open the sources of a task, so that column names and dictionaries are known."""
        dictionary_files: list[Path] = []
        dictionary_notes: list[tuple[str, Note]] = []
        dictionary = Dictionary()
        if task.reading.dictionary:
            from lomrix.files.dictionary_file import Codebook, read_dictionary

            codebook = Codebook()
            dictionary = read_dictionary(task.reading.dictionary, used=dictionary_files, codebook=codebook)
            dictionary_notes = [(Path(task.reading.dictionary).name, note) for note in codebook.notes]
        settings = replace(ReadSettings.from_options(task.reading, dictionary), notes_forms=task.step.is_reversible)
        opened = cls(task, settings, dictionaries=dictionary_files, notes=dictionary_notes)
        references = [reference for references in task.inputs.values() for reference in references]
        if references.count(STREAM) > 1:
            raise UsageError("Standard input is used twice.", todo="Write one of the inputs to a file first.")
        for role in task.step.roles:
            settings = replace(opened.settings, all_text=True) if role.content == "texts" else opened.settings
            for reference in task.inputs.get(role.name, ()):
                source: Source | None = None
                if reference in memory:
                    source = TableSource(memory[reference], settings)
                elif reference == STREAM:
                    source = open_stream(streams.stdin, settings, folder)
                elif role.content != "secret":
                    source = open_source(reference, settings)
                opened.opened.append(OpenedInput(role, reference, source))
        sources = [(one.display_name, one.source) for one in opened.opened if one.source is not None]
        refuse_unused_options(task.reading, sources)
        return opened

    @property
    def locations(self) -> list[Location]:
        """Every location that is read."""
        sources = [
            location
            for opened in self.opened
            if opened.source is not None and opened.reference != STREAM
            for location in opened.source.locations
        ]
        return [*sources, *list_files_read(self.task, (), self.dictionaries)]

    @property
    def missing_secrets(self) -> list[str]:
        """References of secrets that are still to be made."""
        return [
            opened.reference for opened in self.opened if opened.source is None and not Path(opened.reference).exists()
        ]

    def estimate(self) -> list[Input]:
        """Estimate the inputs that can be read in parts, the first role's first."""
        inputs = []
        for opened in self.opened:
            source = opened.source
            rows = None if source is None else source.estimate_rows()
            if rows is not None and source is not None:
                columns = self._choose(opened)
                # While a text file is read, the texts are in memory beside the values.
                texts = source.estimate_text_size() * len(columns) // max(len(source.names), 1)
                row_size = self.task.step.memory_per_cell * len(columns) + texts // 2
                inputs.append(Input(source.name, rows, row_size, opened.role is self.task.step.roles[0]))
        return inputs

    def _choose(self, opened: OpenedInput) -> list[str]:
        """Return the columns of an input that the step needs."""
        assert opened.source is not None
        needed = self.task.step.columns_needed(opened.role.name, opened.source.names)
        if needed is not None and not {*needed} <= {*opened.source.names}:
            needed = None  # the step refuses an unknown column better if it knows all
        return list(dict.fromkeys(opened.source.names if needed is None else needed))

    def read(
        self, report_stage: Callable[[str], None], scratch: Scratch | None = None, run: Run = run_in_memory
    ) -> Inputs:
        """Read what the step needs of each source; tables to disk, if there is a scratch folder, by `run`."""
        self._require_known_types()
        others: dict[str, Table] = {}
        # References other than data come first: a links file may rename columns of the data.
        for opened in sorted(self.opened, key=lambda opened: opened.role.content == "table"):
            report_stage(f"reading {opened.source.name if opened.source is not None else opened.role.name}")
            if opened.source is None:
                opened.table, is_new = read_secret(opened.reference)
                if is_new:
                    self.new_secrets[opened.reference] = opened.table
                continue
            if opened.role.content == "table":
                opened.source.rename(self.task.step.list_renames(opened.role.name, opened.source.name, others))
            needed = self._choose(opened)
            if scratch is not None and opened.role.content == "table":
                result = opened.source.read_into(scratch.make_store(), needed, run)
            else:
                result = opened.source.read(needed)
            opened.table = result.table
            if opened.role.content != "table":
                others[opened.role.name] = result.table
            self.notes += [(result.table.name, note) for note in result.notes]
        self._rename_duplicates()
        roles: dict[str, list[Table]] = {}
        for opened in self.opened:
            if opened.table is not None:
                roles.setdefault(opened.role.name, []).append(opened.table)
        return Inputs(**roles)

    def forget_notes(self, columns: Collection[str]) -> None:
        """Drop notes on cells that kept columns from being numbers or dates, after a step corrected them."""
        self.notes = [
            (name, note) for name, note in self.notes if note.kind != "stray-text" or note.column not in columns
        ]

    def _require_known_types(self) -> None:
        sources = [
            opened.source for opened in self.opened if opened.source is not None and opened.role.content == "table"
        ]
        for name in self.settings.types:
            if sources and not any(name in source.names for source in sources):
                raise unknown_column_error(name, sources[0].names, sources[0].name)

    def _rename_duplicates(self) -> None:
        """Number tables of the same name, so that messages can distinguish two files."""
        seen: dict[str, int] = {}
        for opened in self.opened:
            if opened.table is None:
                continue
            name = opened.table.name
            seen[name] = seen.get(name, 0) + 1
            if seen[name] > 1:
                opened.table = replace(opened.table, name=f"{name}_{seen[name]}")

    def close(self) -> None:
        """Close all sources."""
        for opened in self.opened:
            if opened.source is not None:
                opened.source.close()

    def begin_fingerprints(self) -> None:
        """Begin to hash the files while the step runs."""
        for opened in self.opened:
            if opened.source is not None:
                opened.source.begin_fingerprint()

    def list_tables(self) -> tuple[tuple[str, Table], ...]:
        """List the tables that were read, with their references."""
        return tuple((one.display_name, one.table) for one in self.opened if one.source and one.table is not None)

    def list_used(self) -> list[UsedFile]:
        """List every file that was used, without secrets."""
        sources = [
            UsedFile(opened.role.name, opened.reference, opened.source.compute_fingerprint(), opened.table)
            for opened in self.opened
            if opened.source is not None
        ]
        return [
            *sources,
            *(UsedFile("dictionary", str(path), hash_file(path)) for path in self.dictionaries),
        ]
