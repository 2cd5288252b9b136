"""The outputs of a task: checked together before any work, staged together and committed together."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.errors import FileError, SettingError, UsageError
from lomrix.core.steps.delivery import Delivery
from lomrix.core.steps.export.coding import fill_codes
from lomrix.core.steps.step import Extra
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list
from lomrix.files.interface import Location, Sink, StoredOutput
from lomrix.files.object_store import WRITTEN, Upload, get_copy, get_reference, is_object, require_absent, upload
from lomrix.files.read_back import REPORT, require_row_count
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_sink, open_source
from lomrix.files.staging import HISTORY, FileSink, guard
from lomrix.job.sinks import FigureSink
from lomrix.job.streams import STREAM, Streams, StreamSink
from lomrix.job.task import TABLE, Task


@dataclass(frozen=True)
class WrittenFile:
    """An output that was written; sizes are None where they do not apply."""

    role: str
    description: str
    rows: int | None = None
    columns: int | None = None
    size: int | None = None


@dataclass
class Outputs:
    """The sinks of a task by role, in the order of their commits: linkage files, then the table, then the rest."""

    sinks: dict[str, Sink] = field(default_factory=dict)
    staged: dict[str, object] = field(default_factory=dict)
    uploads: list[Upload] = field(default_factory=list)

    @classmethod
    def plan(cls, task: Task, inputs: Sequence[Location], streams: Streams, folder: Path) -> Outputs:
        """Find the sinks of a task and check all of them."""
        outputs = cls()
        if task.is_rehearsal:
            outputs.require_separate_folders(task)
            return outputs
        extras = {extra.name: extra for extra in task.step.gives}
        needed = [name for name, extra in extras.items() if extra.needed]
        order = [*needed, TABLE, *(name for name in extras if name not in needed)]
        for role in [role for role in order if task.outputs.get(role)]:
            outputs.sinks[role] = make_task_sink(task, role, extras.get(role), streams, folder)
        outputs.require_separate_folders(task)
        outputs.require_different(inputs)
        for sink in outputs.sinks.values():
            sink.check()
            require_absent(list_paths(sink.locations), overwrite=task.overwrite)
        return outputs

    def require_different(self, inputs: Sequence[Location]) -> None:
        """Refuse two outputs at one location, and an output that is an input."""
        seen: dict[Location, str] = {}
        input_paths = {resolve(path) for path in inputs}
        folders = {folder for path in input_paths if isinstance(path, Path) for folder in path.parents}
        for role, sink in self.sinks.items():
            for location in sink.locations:
                path = resolve(location)
                if path in input_paths or path in folders or any(is_same_file(location, other) for other in inputs):
                    raise SettingError(
                        role,
                        f"{name_location(location)} is an input; inputs are never changed.",
                        todo=f"Use another path for ‹{role}›.",
                    )
                if path in seen:
                    both = f"‹{seen[path]}› and ‹{role}›" if seen[path] != role else f"‹{role}› and what goes with it"
                    raise SettingError(
                        role,
                        f"{name_location(location)} would be written twice, for {both}.",
                        todo="Use a different file for each.",
                    )
                seen[path] = role

    @staticmethod
    def require_separate_folders(task: Task) -> None:
        """Refuse a linkage file beside the data, or data and linkage file in one stream."""
        table_path = task.outputs.get(TABLE, "")
        for extra in task.step.gives:
            if extra.needed and table_path == STREAM:
                raise UsageError("De-identified data cannot go to standard output.", todo="Use ‹out=FILE›.")
            if not extra.apart_unless or not table_path or getattr(task.step, extra.apart_unless):
                continue
            if Path(table_path).resolve().parent == Path(task.outputs[extra.name]).resolve().parent:
                raise SettingError(
                    extra.name,
                    f"The data and the {extra.name} file would be in one folder, where both can be lost together.",
                    todo=f"Use another folder for ‹{extra.name}›, or add ‹{extra.apart_unless}›.",
                )

    def stage(self, contents: Mapping[str, object]) -> None:
        """Write everything to temporary files; if one fails, all are removed."""
        try:
            for role, sink in self.sinks.items():
                if role in contents:
                    sink.stage(contents[role])
                    self.staged[role] = contents[role]
        except BaseException:
            self.discard()
            raise

    def compute_hashes(self, secrets: Collection[str]) -> dict[str, str]:
        """Compute the hash of each staged file but those of secrets."""
        return {role: self.sinks[role].compute_staged_hash() for role in self.staged if role not in secrets}

    def verify(self, role: str, table: Table) -> int:
        """Read back what was staged for a role and return the number of cells compared."""
        sink = self.sinks[role]
        try:
            cell_count = sink.verify(table)
            if cell_count is None and isinstance(sink, FileSink):
                return compare_with_staged(sink, table)
            return cell_count or 0
        except BaseException:
            self.discard()
            raise

    def list_notes(self) -> list[tuple[str, Note]]:
        """List notes of writing with the names of their outputs."""
        return [(sink.name, note) for sink in self.sinks.values() for note in sink.notes]

    def list_losses(self, table: Table) -> list[tuple[str, Note]]:
        """List what the outputs cannot hold of a table."""
        losses = [(sink.name, sink.list_losses(table)) for sink in self.sinks.values()]
        # No foreign format holds the history; anything else deserves a look.
        return [
            (name, Note(f"cannot hold: {', '.join(lost)}.", kind="cannot-hold", done=lost == [HISTORY]))
            for name, lost in losses
            if lost
        ]

    def commit(self) -> list[WrittenFile]:
        """Move everything into place, or leave everything as it was."""
        committed: list[Sink] = []
        stored_by_role: dict[str, tuple[StoredOutput, ...]] = {}
        try:
            # A database cannot undo a commit, so it comes last.
            for role in sorted(self.staged, key=lambda role: not isinstance(self.sinks[role], FileSink)):
                stored_by_role[role] = self.sinks[role].commit()
                committed.append(self.sinks[role])
                upload(reversed(list_paths(self.sinks[role].locations)), self.uploads)
        except BaseException:
            for sent in reversed(self.uploads):
                sent.undo()
            for sink in reversed(committed):
                sink.undo()
            self.discard()
            raise
        for sink in committed:
            sink.settle()
        written = []
        for role, content in self.staged.items():
            for index, stored in enumerate(stored_by_role[role]):
                table = stored.table or (content if isinstance(content, Table) and index == 0 else None)
                size = (None, None) if table is None else (len(table), len(table.names))
                reference = get_reference(Path(stored.description))
                description = reference if is_object(reference) else stored.description
                written.append(WrittenFile(role, description, size[0], size[1], stored.size))
        # The table is reported first.
        return sorted(written, key=lambda output: output.role != TABLE)

    def discard(self) -> None:
        """Remove everything that was staged."""
        for sink in self.sinks.values():
            sink.discard()


def list_locations(task: Task, streams: Streams) -> list[Location]:
    """List every location that a task would write to."""
    extras = {extra.name: extra for extra in task.step.gives}
    sinks = (make_task_sink(task, role, extras.get(role), streams, Path()) for role in task.outputs)
    return [location for sink in sinks for location in sink.locations]


def locate_output(reference: str, delivery: Delivery) -> str:
    """Return the reference of an output on this machine; that of an object is its copy.

    Raises UsageError for a folder in an object store.
    """
    if not is_object(reference):
        return reference
    if reference.endswith("/") or delivery.form == "package":
        raise UsageError("A folder cannot be written to an object store.", todo="Name one file: s3://bucket/a.parquet")
    return str(get_copy(reference, WRITTEN))


def make_task_sink(task: Task, role: str, extra: Extra | None, streams: Streams, folder: Path) -> Sink:
    """Make the sink of one output."""
    delivery = task.step.delivery
    reference = locate_output(task.outputs[role], delivery)
    if extra is not None and extra.content == "figure":
        return FigureSink(Path(reference), task.overwrite)
    if extra is not None and extra.content in ("companion", "codebook"):
        from lomrix.files.companions.sink import make_sink

        return make_sink(extra.content, reference, task.outputs.get(TABLE, ""), delivery, task.overwrite)
    if extra is not None:
        from lomrix.files.delimited import PlainWriter

        path = Path(reference)
        if path.suffix.lower() != ".csv":
            name = role if reference == STREAM else path.stem
            raise SettingError(role, f"{path.name} is not a .csv file.", todo=f"Use ‹{role}={name}.csv›.")
        return PlainWriter(path, task.overwrite, extra.owner_only)
    if task.step.result == "page":
        from lomrix.job.sinks import PageSink

        return PageSink(Path(reference), task.overwrite)
    if reference == STREAM:
        return StreamSink(folder / "stream.csv", stream=streams.stdout, delivery=delivery, in_cells=task.missing)
    sink = open_sink(reference, delivery=delivery, overwrite=task.overwrite, in_cells=task.missing)
    if getattr(sink, "in_cells", "empty") != task.missing:
        what = f"‹missing={task.missing}› does not apply to {sink.name}, which has no words in cells."
        raise SettingError("missing", what, todo="Leave it out, or name a .csv or .xlsx file.")
    return sink


def resolve(location: Location) -> Location:
    """Resolve links in a path, or what a copy is of; tables of databases are returned as they are."""
    return Path(get_reference(location)).resolve() if isinstance(location, Path) else location


def name_location(location: Location) -> str:
    """Return the reference that a location had."""
    return get_reference(location) if isinstance(location, Path) else str(location)


def list_paths(locations: Sequence[Location]) -> list[Path]:
    """List the files among some locations that are paths."""
    return [location for location in locations if isinstance(location, Path)]


def is_same_file(first: Location, second: Location) -> bool:
    """Do two paths lead to one file?"""
    if not isinstance(first, Path) or not isinstance(second, Path):
        return False
    try:
        return first.samefile(second)
    except OSError:
        return False


def compare_with_staged(sink: FileSink, table: Table) -> int:
    """Read what was staged, under its final name, and compare it with the table that was written."""
    with tempfile.TemporaryDirectory(dir=sink.staged.parent, prefix=".") as folder:
        for path, part in sink.parts.items():
            guard(path, "read", lambda path=path, part=part: link_or_copy(part, Path(folder) / path.name))  # type: ignore[misc]
        staged = Path(folder) / next(iter(sink.parts)).name if sink.parts else sink.staged
        source = open_source(str(staged), ReadSettings())
        if list(source.names) != table.names:
            text = f"{sink.path} was not written: its columns differ after reading back."
            raise FileError(text, where=shorten_list(source.names), todo=REPORT)
        rows = 0
        for read in source.iterate():
            written = table.slice(rows, rows + len(read.table))
            rows += len(read.table)
            for name, column in written.columns.items():
                back = restore_codes(read.table[name], name, sink)
                if not back.same_as(column.fit_type(back.type)):
                    raise FileError(
                        f"{sink.path} was not written: the column {name} differs after reading back.", todo=REPORT
                    )
    require_row_count(len(table), rows, sink.path)
    return len(table) * len(table.names)


def link_or_copy(part: Path, path: Path) -> None:
    """Give a file another name, without copying where the disk allows."""
    try:
        os.link(part, path)
    except OSError:
        shutil.copyfile(part, path)


def restore_codes(column: Column, name: str, sink: FileSink) -> Column:
    """Restore the missing codes that the file holds in a column that was read back."""
    if sink.prepared is None:
        return column
    codes = {reason: code for code, reason in sink.prepared.codes.get(name, {}).items()}
    return fill_codes(column, codes, sink.delivery.text)
