"""Run a task: check, read, apply, stage, read back, commit."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import pyarrow as pa

from lomrix.core.combining import run_in_memory
from lomrix.core.errors import DataError, LomrixError
from lomrix.core.steps.account import Account, Listing
from lomrix.core.steps.step import Result
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.job.execution import Execution
from lomrix.job.inputs import OpenedInputs
from lomrix.job.lineage import add_history
from lomrix.job.memory import CurrentStage, ReportStage, watch_memory
from lomrix.job.outputs import Outputs, WrittenFile
from lomrix.job.sinks import SecretSink
from lomrix.job.streams import Streams
from lomrix.job.task import TABLE, Task


@dataclass(frozen=True)
class Outcome:
    """What a task did."""

    task: Task
    result: Result
    sources: tuple[tuple[str, Table], ...]
    notes: tuple[tuple[str, Note], ...]
    written: tuple[WrittenFile, ...] = ()
    compared: int = 0
    not_drawn: tuple[str, ...] = ()
    preview: tuple[Listing, ...] = ()
    table: Table | None = None


class StoppedError(LomrixError):
    """A step that stopped, with what helps to correct the data."""

    def __init__(self, error: LomrixError, written: Sequence[WrittenFile], notes: Sequence[tuple[str, Note]]) -> None:
        super().__init__(error.what)
        vars(self).update(vars(error.reword(error.what, error.where, error.todo)), proposal=error.proposal)
        self.written, self.notes = written, notes


def run(
    task: Task,
    streams: Streams,
    report_stage: ReportStage = lambda words, share=0.0: None,
    memory: Mapping[str, Table] | None = None,
    require: Callable[[Table, Account], None] = lambda table, account: None,
) -> Outcome:
    """Run a task; either every output is in its place afterwards, or none is.

    `memory` gives tables of earlier steps by reference, and keeps the task's own table; `require` may stop the task
    before anything is written. Raises LomrixError; what was written all the same is in a StoppedError.
    """
    stage = CurrentStage(report_stage)
    with tempfile.TemporaryDirectory() as folder, contextlib.ExitStack() as stack:
        stack.enter_context(watch_memory(stage, lambda: task.files))
        inputs = OpenedInputs.open(task, streams, Path(folder), memory or {})
        stack.callback(inputs.close)
        outputs = Outputs.plan(task, inputs.locations, streams, Path(folder))
        stack.callback(outputs.discard)
        plan_secrets(inputs, outputs)
        result = _apply(task, inputs, outputs, stage, stack)
        require(result.table, result.account)
        inputs.forget_notes(result.retyped)
        if task.rehearses:
            preview = [listing for sink in outputs.sinks.values() for listing in sink.preview(result.table)]
            notes = (*inputs.notes, *outputs.list_losses(result.table))
            return Outcome(task, result, inputs.list_tables(), notes, preview=tuple(preview))
        return _write(task, inputs, outputs, result, stage, keeps_table=memory is not None)


def _apply(
    task: Task, inputs: OpenedInputs, outputs: Outputs, stage: CurrentStage, stack: contextlib.ExitStack
) -> Result:
    """Read what the step needs, and apply it, in parts if it needs more than the memory budget."""
    known = inputs.estimate()
    require_room(task, outputs, sum(part.rows for part in known if part.is_first), is_estimate=True)
    execution = Execution.choose(task, known, stage, stack)
    run = execution.share(
        inputs.locations, [location for sink in outputs.sinks.values() for location in sink.locations]
    )
    tables = inputs.read(stage, execution.scratch, run or run_in_memory)
    for sink in outputs.sinks.values():
        sink.run = run
    require_room(task, outputs, sum(map(len, tables.get_all(task.step.roles[0].name))))
    # Memory that the reading has left over goes back, before the step asks for its own.
    pa.default_memory_pool().release_unused()
    if outputs.sinks:
        inputs.begin_fingerprints()
    try:
        result = execution.apply(tables, stage)
    except LomrixError as error:
        written = write_extras(outputs, error.extras, stage) if isinstance(error, DataError) else []
        raise StoppedError(error, written, filter_notes(error, inputs.notes)) from error
    inputs.notes += [(known[0].name if known else task.step.word, note) for note in execution.notes]
    if "prepared" in result.extras:
        for sink in outputs.sinks.values():
            sink.set_prepared(result.extras["prepared"])
    return result


def require_room(task: Task, outputs: Outputs, rows: int, *, is_estimate: bool = False) -> None:
    """Stop before any work if an output cannot hold the rows that the step keeps."""
    if task.step.keeps_rows and TABLE in outputs.sinks:
        outputs.sinks[TABLE].require_room(rows, is_estimate=is_estimate)


def _write(
    task: Task, inputs: OpenedInputs, outputs: Outputs, result: Result, stage: CurrentStage, *, keeps_table: bool
) -> Outcome:
    """Stage, read back and commit the outputs; the table is staged last, since its history has the other hashes."""
    contents, not_drawn = split_empty_figures(outputs, {**inputs.new_secrets, **result.extras, TABLE: result.table})
    outputs.stage({role: content for role, content in contents.items() if role != TABLE})
    table: Table | None = None
    if TABLE in outputs.sinks or keeps_table:
        hashes = outputs.compute_hashes(inputs.new_secrets)
        table = add_history(result.table, task, result.account, inputs.list_used(), hashes)
    compared = 0
    if TABLE in outputs.sinks:
        stage(f"writing {outputs.sinks[TABLE].name}")
        outputs.stage({TABLE: table})
        if task.step.read_back:
            stage("reading it back")
            compared = outputs.verify(TABLE, result.table)
    notes = (*inputs.notes, *outputs.list_losses(result.table), *outputs.list_notes())
    written = tuple(outputs.commit())
    return Outcome(task, result, inputs.list_tables(), notes, written, compared, tuple(not_drawn), table=table)


def filter_notes(error: LomrixError, notes: Sequence[tuple[str, Note]]) -> list[tuple[str, Note]]:
    """Keep the notes on columns that an error names."""
    return [(name, note) for name, note in notes if note.column in error.columns and not note.done]


def write_extras(outputs: Outputs, extras: Mapping[str, object], report_stage: ReportStage) -> list[WrittenFile]:
    """Write the requested extras of an error; the table is not written."""
    wanted = {role: content for role, content in extras.items() if role in outputs.sinks and content is not None}
    if not wanted:
        return []
    report_stage("writing")
    outputs.stage(wanted)
    return outputs.commit()


def plan_secrets(inputs: OpenedInputs, outputs: Outputs) -> None:
    """Add sinks for secrets that are still to be made."""
    if not outputs.sinks:
        return
    new_secrets = {reference: SecretSink(Path(reference), owner_only=True) for reference in inputs.missing_secrets}
    for sink in new_secrets.values():
        sink.check()
    outputs.sinks = {**new_secrets, **outputs.sinks}
    outputs.require_different(inputs.locations)


def split_empty_figures(outputs: Outputs, contents: Mapping[str, object]) -> tuple[dict[str, object], list[str]]:
    """Separate figures that have nothing to draw from what is written."""
    wanted = {role: content for role, content in contents.items() if role in outputs.sinks}
    empty = [role for role, content in wanted.items() if getattr(content, "is_empty", False)]
    return {role: content for role, content in wanted.items() if role not in empty}, empty
