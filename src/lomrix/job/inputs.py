"""The inputs of a task: sources opened by role, what the step needs of them, and their tables."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from lomrix.core.errors import UsageError
from lomrix.core.steps.step import Inputs, Role
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.selection import unknown_column
from lomrix.core.table.table import Table
from lomrix.files.database.reference import is_database, shown
from lomrix.files.delivered import TEMPLATE
from lomrix.files.descriptor import files_beside
from lomrix.files.hashing import file_hash
from lomrix.files.interface import Place, Source
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import STREAM, path_and_sheet, source_of, stream_source
from lomrix.files.table_source import TableSource
from lomrix.job.lineage import Used
from lomrix.job.secret import read_secret
from lomrix.job.streams import Streams
from lomrix.job.task import Task


@dataclass
class Opened:
    """One reference that was opened.

    Parameters
    ----------
    role, reference
        What it is for, and how it was named.
    source
        Where it is read from; None for a secret.
    table
        What was read.
    """

    role: Role
    reference: str
    source: Source | None
    table: Table | None = None

    @property
    def told(self) -> str:
        """The reference as a person may see it."""
        return shown(self.reference)


def files_read(task: Task, references: Iterable[str], dictionaries: Sequence[Path] | None = None) -> list[Path]:
    """Every file that a task reads: the one place that knows them.

    Parameters
    ----------
    task
        The task.
    references
        Those of its inputs that count. Secrets always do.
    dictionaries
        Its dictionary with what that includes, where it was read already.

    Returns
    -------
    Data files with what describes them, secrets, dictionaries with what they include, templates; those that are there.
    """
    data = [path_and_sheet(one)[0] for one in references if not is_database(one)]
    found = [file for path in data for file in (path, *files_beside(path))]
    for role in task.step.roles:
        found += map(Path, task.inputs.get(role.name, ()) if role.content == "secret" else ())
    if dictionaries is None and task.reading.dictionary:
        from lomrix.files.dictionary_file import read_dictionary

        read_dictionary(task.reading.dictionary, used=found)
    found += dictionaries or ()
    found += [Path(one) for one in task.outputs.values() if one.endswith(TEMPLATE)]
    return [path for path in dict.fromkeys(found) if path.is_file()]


@dataclass
class OpenedInputs:
    """All that a task reads."""

    task: Task
    settings: ReadSettings
    opened: list[Opened] = field(default_factory=list)
    dictionaries: list[Path] = field(default_factory=list)
    notes: list[tuple[str, Note]] = field(default_factory=list)
    new_secrets: dict[str, Table] = field(default_factory=dict)

    @classmethod
    def of(cls, task: Task, streams: Streams, folder: Path, memory: Mapping[str, Table]) -> OpenedInputs:
        """Open the sources of a task; their names and dictionaries are known then.

        Parameters
        ----------
        task
            The task.
        streams, folder
            Standard input, and a folder in which it is kept.
        memory
            By reference, tables that were made already.

        Raises
        ------
        FileError
            Where one of them cannot be read.
        UsageError
            Where standard input is named twice.
        """
        read: list[Path] = []
        known = Dictionary()
        if task.reading.dictionary:
            from lomrix.files.dictionary_file import read_dictionary

            known = read_dictionary(task.reading.dictionary, used=read)
        settings = replace(ReadSettings.of(task.reading, known), tells_forms=task.step.comes_back)
        made = cls(task, settings, dictionaries=read)
        references = [one for references in task.inputs.values() for one in references]
        if references.count(STREAM) > 1:
            raise UsageError("Standard input is named twice.", todo="Write one of the two into a file first.")
        for role in task.step.roles:
            settings = replace(made.settings, all_text=True) if role.content == "texts" else made.settings
            for reference in task.inputs.get(role.name, ()):
                source: Source | None = None
                if reference in memory:
                    source = TableSource(memory[reference], settings)
                elif reference == STREAM:
                    source = stream_source(streams.stdin, settings, folder)
                elif role.content != "secret":
                    source = source_of(reference, settings)
                made.opened.append(Opened(role, reference, source))
        return made

    @property
    def places(self) -> list[Place]:
        """Everything that is read."""
        sources = [
            place
            for one in self.opened
            if one.source is not None and one.reference != STREAM
            for place in one.source.places
        ]
        return [*sources, *files_read(self.task, (), self.dictionaries)]

    @property
    def wanting_secrets(self) -> list[str]:
        """References of secrets that have to be made."""
        return [one.reference for one in self.opened if one.source is None and not Path(one.reference).exists()]

    def read(self, stage: Callable[[str], None]) -> Inputs:
        """Read what the step needs.

        Parameters
        ----------
        stage
            Is told what is being read.
        """
        self._require_known_types()
        others: dict[str, Table] = {}
        # What is no data comes first, since it may say how columns of the data are called.
        for one in sorted(self.opened, key=lambda one: one.role.content == "table"):
            stage(f"reading {one.source.name if one.source is not None else one.role.name}")
            if one.source is None:
                one.table, is_new = read_secret(one.reference)
                if is_new:
                    self.new_secrets[one.reference] = one.table
                continue
            if one.role.content == "table":
                one.source.rename(self.task.step.names_given(one.role.name, one.source.name, others))
            needed = self.task.step.columns_needed(one.role.name, one.source.names)
            found = one.source.read(needed)
            one.table = found.table
            if one.role.content != "table":
                others[one.role.name] = found.table
            self.notes += [(found.table.name, note) for note in found.notes]
        self._name_distinctly()
        roles: dict[str, list[Table]] = {}
        for one in self.opened:
            if one.table is not None:
                roles.setdefault(one.role.name, []).append(one.table)
        return Inputs(**roles)

    def forget_notes(self, columns: Collection[str]) -> None:
        """Take back what was found to keep columns from being numbers or dates, once it is mended."""
        self.notes = [
            (name, note) for name, note in self.notes if note.kind != "stray-text" or note.column not in columns
        ]

    def _require_known_types(self) -> None:
        sources = [one.source for one in self.opened if one.source is not None and one.role.content == "table"]
        for name in self.settings.types:
            if sources and not any(name in source.names for source in sources):
                raise unknown_column(name, sources[0].names, sources[0].name)

    def _name_distinctly(self) -> None:
        """Tables whose names differ, so that messages can tell two files of one name apart."""
        seen: dict[str, int] = {}
        for one in self.opened:
            if one.table is None:
                continue
            name = one.table.name
            seen[name] = seen.get(name, 0) + 1
            if seen[name] > 1:
                one.table = replace(one.table, name=f"{name}_{seen[name]}")

    def close(self) -> None:
        """Let go of all sources."""
        for one in self.opened:
            if one.source is not None:
                one.source.close()

    def begin_fingerprints(self) -> None:
        """Begin to hash the files, while the step works on what was read of them."""
        for one in self.opened:
            if one.source is not None:
                one.source.begin_fingerprint()

    def used(self) -> list[Used]:
        """Every file that went in; of a secret nothing is told."""
        found = [
            Used(one.role.name, one.reference, one.source.fingerprint(), one.table)
            for one in self.opened
            if one.source is not None
        ]
        return [
            *found,
            *(Used("dictionary", str(path), file_hash(path)) for path in self.dictionaries),
        ]
