"""Execution: a step is applied at once or in parts, in this process, by worker processes, or on a cluster."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from lomrix.core.combining import Run
from lomrix.core.errors import AllRowsNeededError
from lomrix.core.steps.parts import apply_in_parts
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.notes import Note, pluralize
from lomrix.files.interface import Location
from lomrix.files.scratch import Scratch
from lomrix.job.budget import (
    DEFAULT_SHARE,
    Input,
    Way,
    choose_rows,
    choose_way,
    find_allowed_memory,
    parse_memory,
    shortage,
)
from lomrix.job.memory import ReportStage, format_bytes, release_memory
from lomrix.job.outputs import list_paths
from lomrix.job.task import Task

if TYPE_CHECKING:
    from lomrix.job.workers import Workers


@dataclass
class Execution:
    """How the step of a task is applied."""

    task: Task
    way: Way
    scratch: Scratch | None = None  # where tables are kept, unless they are in memory
    pool: Workers | None = None  # who works on the parts, unless this process does
    workers: str = ""  # how the account names them
    notes: list[Note] = field(default_factory=list)
    known: Sequence[Input] = ()  # the inputs

    @classmethod
    def choose(cls, task: Task, known: Sequence[Input], stage: ReportStage, stack: contextlib.ExitStack) -> Execution:
        """Choose by what is known of the inputs; the stack ends and removes what is made for it.

        Raises OutOfMemoryError if nothing fits the memory budget. Raises FileError if there is too little
        space on disk, or the cluster cannot be used.
        """
        options, given = task.running, {role: len(files) for role, files in task.inputs.items()}
        divides = task.step.can_divide(task.requested_extras, given)
        has_secret = any(role.content == "secret" for role in task.step.roles)
        if options.cluster and divides and known and not has_secret:
            return cls._on_cluster(task, known, stage, stack)
        execution = cls(task, choose_way(options, known, task.step, divides=divides), known=known)
        if execution.way.on_disk:
            execution._use_disk(known, stack)
        is_whole = execution.way.rows_at_once is None
        if execution.scratch is not None and is_whole:
            execution.notes.append(
                Note("read to disk first to stay within the memory limit.", kind="on-disk", done=True)
            )
        if options.cluster and has_secret:
            text = "‹cluster› had no effect: the secret stays on this machine."
            execution.notes.append(Note(text, kind="here", done=True))
        elif is_whole and (options.workers > 1 or options.cluster):
            text = f"there is only one part, so ‹{'cluster' if options.cluster else 'workers'}› had no effect."
            if execution.scratch is not None and not options.cluster:
                text = "there is only one part; ‹workers› helped to read the files."
            execution.notes.append(Note(text, kind="one-part", done=True))
        if execution.scratch is not None and options.workers > 1:
            from lomrix.job.workers import Workers

            execution.pool = stack.enter_context(Workers(options.workers, execution.scratch))
            execution.workers = f" by {options.workers} workers"
        return execution

    @classmethod
    def _on_cluster(
        cls, task: Task, known: Sequence[Input], stage: ReportStage, stack: contextlib.ExitStack
    ) -> Execution:
        """Divide for the workers of a cluster, whatever the memory here."""
        from lomrix.job.cluster import Cluster

        execution = cls(task, Way(True), known=known)
        scratch = execution._use_disk(known, stack)
        stage(f"connecting to {task.running.cluster}")
        cluster = stack.enter_context(Cluster(0, scratch, task.running.cluster, task.running.cluster_tls))
        memory = parse_memory(task.running.memory) if task.running.memory else cluster.memory
        execution.way = Way(True, choose_rows(known, int(memory * DEFAULT_SHARE), cluster.count), fits=True)
        execution.pool = cluster
        execution.workers = f" by {pluralize(cluster.count, 'worker')} of {task.running.cluster}"
        return execution

    def share(self, inputs: Sequence[Location], outputs: Sequence[Location]) -> Run | None:
        """Return what reads pieces of the inputs and writes those of the outputs: the workers, if there are any and
        they see the same files.
        """
        if self.pool is None:
            return None
        files, folders = list_paths(inputs), {path.parent for path in list_paths(outputs)}
        unseen = self.pool.find_unseen(files, sorted(folders))
        if unseen is None:
            return self.pool.run
        text = f"the workers do not see {unseen} as it is here, so files were read and written on this machine."
        self.notes.append(Note(text, kind="unseen", done=True))
        return None

    def _use_disk(self, known: Sequence[Input], stack: contextlib.ExitStack) -> Scratch:
        """Make the scratch folder."""
        self.scratch = Scratch.make(self.task.running.scratch)
        stack.callback(self.scratch.remove)
        # Partitions are on disk beside the table they are made of.
        division = self.task.step.division
        copies = 2 if division.is_by_key or division.kind == "by order" else 1
        self.scratch.require_space(copies * sum(part.size for part in known))
        return self.scratch

    def apply(self, tables: Inputs, stage: ReportStage) -> Result:
        """Apply the step; in parts, its table is on disk."""
        task, word, size = self.task, self.task.step.word, self.way.rows_at_once
        stage(word)
        scratch = self.scratch
        if size is None or scratch is None:
            return task.step.apply(tables, task.requested_extras)
        count = -(-sum(map(len, tables.get_all(task.step.roles[0].name))) // size)

        def begin_part(part: int) -> None:
            release_memory()
            done = f"part {part:,} of {max(part, count):,}{self.workers}" if part else "joining parts"
            stage(f"{word}, {done}, {format_bytes(scratch.size)} on disk", min(part / (count + 1), 1.0) or 1.0)

        release_memory()
        run = self.pool.run if self.pool is not None else scratch.run
        try:
            result = apply_in_parts(task.step, tables, task.requested_extras, size, scratch.make_store, begin_part, run)
        except AllRowsNeededError as error:
            need, allowed = sum(known.size for known in self.known), find_allowed_memory(task.running)
            if need > allowed:
                raise shortage(self.known, task.step, need, allowed) from error
            return task.step.apply(tables, task.requested_extras)
        release_memory()
        reason = "" if self.way.fits else " to stay within the memory limit"
        text = f"processed in {max(count, 1):,} {'part' if count <= 1 else 'parts'}{self.workers}{reason}."
        self.notes.append(Note(text, kind="parts", count=count, done=True))
        return result
