"""The running of a task: check, read, do, stage, read back, commit."""

from __future__ import annotations

import contextlib
import re
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa

from lomrix.core.errors import DataError, LomrixError
from lomrix.core.steps.account import Account, Listing
from lomrix.core.steps.step import Result
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.job.inputs import OpenedInputs
from lomrix.job.lineage import with_history
from lomrix.job.memory import Doing, memory_watched
from lomrix.job.outputs import Outputs, Written
from lomrix.job.secret import SecretSink
from lomrix.job.streams import Streams
from lomrix.job.task import TABLE, Task


@dataclass(frozen=True)
class Outcome:
    """What became of a task.

    Parameters
    ----------
    task
        The task.
    result
        What its step returned.
    sources
        What was read: reference and table.
    notes
        What reading and writing want a person to look at, with the name of the table or file.
    written
        The files that were written.
    compared
        Number of cells that were read back and compared.
    not_drawn
        Figures that were asked for and had nothing to draw.
    beforehand
        What a person wants to see of what would be written, where that was rehearsed.
    made
        The table with its history, where it was kept or written.
    """

    task: Task
    result: Result
    sources: tuple[tuple[str, Table], ...]
    notes: tuple[tuple[str, Note], ...]
    written: tuple[Written, ...] = ()
    compared: int = 0
    not_drawn: tuple[str, ...] = ()
    beforehand: tuple[Listing, ...] = ()
    made: Table | None = None


class StoppedError(LomrixError):
    """A step that stopped, with what helps to mend the data.

    Parameters
    ----------
    error
        Why it stopped.
    written
        What was written all the same.
    notes
        What the reading found in the columns that the error names, with the name of the table.
    """

    def __init__(self, error: LomrixError, written: Sequence[Written], notes: Sequence[tuple[str, Note]]) -> None:
        super().__init__(error.what, where=error.where, todo=error.todo, proposal=error.proposal)
        self.exit_status, self.pointer = error.exit_status, error.pointer
        self.written, self.notes = written, notes


def run(
    task: Task,
    streams: Streams,
    stage: Callable[[str], None] = lambda words: None,
    memory: Mapping[str, Table] | None = None,
    require: Callable[[Table, Account], None] = lambda table, account: None,
) -> Outcome:
    """Run a task.

    Parameters
    ----------
    task
        What is done, with its files.
    streams
        Standard input and output.
    stage
        Is told what is being done.
    memory
        By reference, tables that earlier steps of a plan made; given, the task's own table is kept with its history.
    require
        Stops, before anything is written, where the table is not what was expected.

    Returns
    -------
    What became of it. Every output stands in its place then, or none does.

    Raises
    ------
    LomrixError
        Where it could not be done; nothing was written then, but for what a StoppedError names.
    """
    stage = doing = Doing(stage)
    with tempfile.TemporaryDirectory() as name, contextlib.ExitStack() as opened:
        folder = Path(name)
        opened.enter_context(memory_watched(doing, lambda: task.files))
        inputs = OpenedInputs.of(task, streams, folder, memory or {})
        opened.callback(inputs.close)
        outputs = Outputs.planned(task, inputs.places, streams, folder)
        opened.callback(outputs.discard)
        plan_secrets(inputs, outputs)
        tables = inputs.read(stage)
        # Memory that the reading has left over goes back, before the step asks for its own.
        pa.default_memory_pool().release_unused()
        if outputs.sinks:
            inputs.begin_fingerprints()
        stage(task.step.word)
        try:
            result = task.step.apply(tables, task.wanted)
        except LomrixError as error:
            written = write_extras(outputs, error.extras, stage) if isinstance(error, DataError) else []
            raise StoppedError(error, written, notes_of(error, inputs.notes)) from error
        require(result.table, result.account)
        inputs.forget_notes(result.settled)
        if "prepared" in result.extras:
            for sink in outputs.sinks.values():
                sink.understand(result.extras["prepared"])
        sources = tuple((one.told, one.table) for one in inputs.opened if one.source and one.table is not None)
        if task.rehearses:
            told = [listing for sink in outputs.sinks.values() for listing in sink.beforehand(result.table)]
            notes = (*inputs.notes, *outputs.losses(result.table))
            return Outcome(task, result, sources, notes, beforehand=tuple(told))
        contents, not_drawn = drawable(outputs, {**inputs.new_secrets, **result.extras, TABLE: result.table})
        outputs.stage({role: content for role, content in contents.items() if role != TABLE})
        made: Table | None = None
        if TABLE in outputs.sinks or memory is not None:
            made = with_history(result.table, task, result.account, inputs.used(), outputs.hashes(inputs.new_secrets))
        if TABLE in outputs.sinks:
            stage(f"writing {outputs.sinks[TABLE].name}")
            outputs.stage({TABLE: made})
        compared = 0
        if task.step.read_back and TABLE in outputs.staged:
            stage("reading it back")
            compared = outputs.verify(TABLE, result.table)
        notes = (*inputs.notes, *outputs.losses(result.table), *outputs.notes())
        placed = tuple(outputs.commit())
        return Outcome(task, result, sources, notes, placed, compared, tuple(not_drawn), made=made)


def notes_of(error: LomrixError, notes: Sequence[tuple[str, Note]]) -> list[tuple[str, Note]]:
    """Of what the reading found, that about columns which an error names."""
    words = set(re.findall(r"\w+", f"{error.what} {error.where}"))
    return [
        (name, note)
        for name, note in notes
        if note.column and not note.done and {*re.findall(r"\w+", note.column)} <= words
    ]


def write_extras(outputs: Outputs, extras: Mapping[str, object], stage: Callable[[str], None]) -> list[Written]:
    """Write the extras of an error that were asked for; the table is not written."""
    wanted = {role: content for role, content in extras.items() if role in outputs.sinks and content is not None}
    if not wanted:
        return []
    stage("writing")
    outputs.stage(wanted)
    return outputs.commit()


def plan_secrets(inputs: OpenedInputs, outputs: Outputs) -> None:
    """Check the places of secrets that have to be made, with all other outputs and before any work."""
    if not outputs.sinks:
        return
    made = {reference: SecretSink(Path(reference), owner_only=True) for reference in inputs.wanting_secrets}
    for sink in made.values():
        sink.check()
    outputs.sinks = {**made, **outputs.sinks}
    outputs.require_different(inputs.places)


def drawable(outputs: Outputs, contents: Mapping[str, object]) -> tuple[dict[str, object], list[str]]:
    """What is written of all that there is, and figures without anything to draw."""
    wanted = {role: content for role, content in contents.items() if role in outputs.sinks}
    empty = [role for role, content in wanted.items() if getattr(content, "is_empty", False)]
    return {role: content for role, content in wanted.items() if role not in empty}, empty
