"""Outputs: all that a task writes is checked together before any work, staged together and committed together."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.errors import SettingError, UsageError
from lomrix.core.steps.step import Extra
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.holding import HISTORY
from lomrix.files.interface import Place, Placed, Sink
from lomrix.files.registry import sink_of
from lomrix.files.staging import FileSink
from lomrix.job.figure import FigureSink
from lomrix.job.streams import STREAM, Streams, StreamSink
from lomrix.job.task import TABLE, Task


@dataclass(frozen=True)
class Written:
    """A file that was written.

    Parameters
    ----------
    role
        Which output it is of.
    told
        Where it stands, as a person is told.
    rows, columns
        Size of its table; None where it is none.
    size
        Its bytes; None where it is no file.
    """

    role: str
    told: str
    rows: int | None = None
    columns: int | None = None
    size: int | None = None


@dataclass
class Outputs:
    """The sinks of a task by role, in the order in which they are committed.

    Parameters
    ----------
    sinks
        What is written: whatever leads back to the data before the data, the table, and the rest.
    folder
        Where a stream is made ready.
    """

    sinks: dict[str, Sink] = field(default_factory=dict)
    staged: dict[str, object] = field(default_factory=dict)

    @classmethod
    def planned(cls, task: Task, inputs: Sequence[Place], streams: Streams, folder: Path) -> Outputs:
        """Find the sinks of a task and check all of them.

        Parameters
        ----------
        task
            The task.
        inputs
            Everything that it reads, none of which may be replaced.
        streams, folder
            Standard output, and a folder in which it is made ready.

        Raises
        ------
        UsageError
            Where two outputs are one file, or an output is an input.
        FileError
            Where one of them could not be written.
        """
        made = cls()
        if task.is_rehearsal:
            made.require_apart(task)
            return made
        extras = {extra.name: extra for extra in task.step.gives}
        first = [name for name, extra in extras.items() if extra.needed]
        order = [*first, TABLE, *(name for name in extras if name not in first)]
        for role in [role for role in order if task.outputs.get(role)]:
            made.sinks[role] = sink_for(task, role, extras.get(role), streams, folder)
        made.require_apart(task)
        made.require_different(inputs)
        for sink in made.sinks.values():
            sink.check()
        return made

    def require_different(self, inputs: Sequence[Place]) -> None:
        """Stop where two outputs are one place, or an output is an input, under whatever name."""
        seen: dict[Place, str] = {}
        read = {real(place) for place in inputs}
        folders = {folder for place in read if isinstance(place, Path) for folder in place.parents}
        for role, sink in self.sinks.items():
            for one in sink.places:
                place = real(one)
                if place in read or place in folders or any(same_file(one, other) for other in inputs):
                    raise SettingError(
                        role, f"{one} is an input; inputs are never changed.", todo=f"Name another one for ‹{role}›."
                    )
                if place in seen:
                    both = f"‹{seen[place]}› and ‹{role}›" if seen[place] != role else f"‹{role}› and what goes with it"
                    raise SettingError(
                        role, f"{one} would be written twice, for {both}.", todo="Name a different file for each."
                    )
                seen[place] = role

    @staticmethod
    def require_apart(task: Task) -> None:
        """Stop where what leads back to people would stand beside the data, or go with them into a stream."""
        out = task.outputs.get(TABLE, "")
        for extra in task.step.gives:
            if extra.needed and out == STREAM:
                raise UsageError("Data without names go to a file.", todo="Say ‹out=FILE›.")
            if not extra.apart_unless or not out or getattr(task.step, extra.apart_unless):
                continue
            if Path(out).resolve().parent == Path(task.outputs[extra.name]).resolve().parent:
                raise SettingError(
                    extra.name,
                    f"Data and {extra.name} would stand in one folder, where both go astray together.",
                    todo=f"Name another folder for ‹{extra.name}›, or add ‹{extra.apart_unless}›.",
                )

    def stage(self, contents: Mapping[str, object]) -> None:
        """Make everything ready; nothing stays behind where one of them fails."""
        try:
            for role, sink in self.sinks.items():
                if role in contents:
                    sink.stage(contents[role])
                    self.staged[role] = contents[role]
        except BaseException:
            self.discard()
            raise

    def hashes(self, secrets: Collection[str]) -> dict[str, str]:
        """By role, the hash of what was staged, secrets left out."""
        return {role: self.sinks[role].staged_hash() for role in self.staged if role not in secrets}

    def verify(self, role: str, table: Table) -> int:
        """Read back what was staged for a role; returns the number of cells compared."""
        sink = self.sinks[role]
        try:
            compared = sink.verify(table)
            if compared is None and isinstance(sink, FileSink):
                from lomrix.job.read_again import compared_with_staged

                return compared_with_staged(sink, table)
            return compared or 0
        except BaseException:
            self.discard()
            raise

    def notes(self) -> list[tuple[str, Note]]:
        """What the writing wants a person to look at, with the name of what is written."""
        return [(sink.name, note) for sink in self.sinks.values() for note in sink.notes]

    def losses(self, table: Table) -> list[tuple[str, Note]]:
        """What the places cannot hold of a table, with the name of what is written."""
        found = [(sink.name, sink.cannot_hold(table)) for sink in self.sinks.values()]
        # That a foreign form holds no history is as it must be; anything else deserves a look.
        return [
            (name, Note(f"cannot hold: {', '.join(lost)}.", kind="cannot-hold", done=lost == [HISTORY]))
            for name, lost in found
            if lost
        ]

    def commit(self) -> list[Written]:
        """Put everything in its place, or leave everything as it was."""
        done: list[Sink] = []
        placed_by: dict[str, tuple[Placed, ...]] = {}
        try:
            # A database cannot take back what it has taken, so it comes last.
            for role in sorted(self.staged, key=lambda role: not isinstance(self.sinks[role], FileSink)):
                placed_by[role] = self.sinks[role].commit()
                done.append(self.sinks[role])
        except BaseException:
            for sink in reversed(done):
                sink.undo()
            self.discard()
            raise
        for sink in done:
            sink.settle()
        written = []
        for role, content in self.staged.items():
            for at, placed in enumerate(placed_by[role]):
                table = placed.table or (content if isinstance(content, Table) and at == 0 else None)
                size = (None, None) if table is None else (len(table), len(table.names))
                written.append(Written(role, placed.told, size[0], size[1], placed.size))
        # What a person asked for first is told first.
        return sorted(written, key=lambda one: one.role != TABLE)

    def discard(self) -> None:
        """Take away what was staged."""
        for sink in self.sinks.values():
            sink.discard()


def places_of(task: Task, streams: Streams) -> list[Place]:
    """Everything that a task would write or replace; nothing is checked yet."""
    extras = {extra.name: extra for extra in task.step.gives}
    sinks = (sink_for(task, role, extras.get(role), streams, Path()) for role in task.outputs)
    return [place for sink in sinks for place in sink.places]


def sink_for(task: Task, role: str, extra: Extra | None, streams: Streams, folder: Path) -> Sink:
    """The sink of one output."""
    reference = task.outputs[role]
    delivery = task.step.delivery
    if extra is not None and extra.content == "figure":
        return FigureSink(Path(reference), task.overwrite)
    if extra is not None and extra.content in ("companion", "codebook"):
        from lomrix.files.companions.sink import text_sink

        return text_sink(extra.content, reference, task.outputs.get(TABLE, ""), delivery, task.overwrite)
    if extra is not None:
        from lomrix.files.delimited import PlainWriter

        if Path(reference).suffix.lower() != ".csv":
            raise SettingError(
                role, f"{Path(reference).name} is no .csv file.", todo=f"Say ‹{role}={Path(reference).stem}.csv›."
            )
        return PlainWriter(Path(reference), task.overwrite, extra.owner_only)
    if task.step.result == "page":
        from lomrix.job.page import PageSink

        return PageSink(Path(reference), task.overwrite)
    if reference == STREAM:
        return StreamSink(folder / "stream.csv", stream=streams.stdout, delivery=delivery, in_cells=task.missing)
    return sink_of(reference, delivery=delivery, overwrite=task.overwrite, in_cells=task.missing)


def real(place: Place) -> Place:
    """The file that a path leads to, links followed, whether it is there or not; a table is what it is."""
    return place.resolve() if isinstance(place, Path) else place


def same_file(one: Place, two: Place) -> bool:
    """True where two paths lead to one file, be it by another link to it."""
    if not isinstance(one, Path) or not isinstance(two, Path):
        return False
    try:
        return one.samefile(two)
    except OSError:
        return False
