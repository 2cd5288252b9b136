"""Run a plan: independent steps in parallel, unchanged steps not at all."""

from __future__ import annotations

import io
import os
import queue
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Literal

import lomrix
from lomrix.core.arrays.threads import Part
from lomrix.core.errors import DataError, LomrixError
from lomrix.core.steps.account import Account
from lomrix.core.table.table import Table
from lomrix.files.database.reference import Reference, get_folder, is_database, is_url
from lomrix.files.hashing import hash_file
from lomrix.files.object_store import is_object
from lomrix.files.registry import hash_reference, split_sheet
from lomrix.job.inputs import list_files_read
from lomrix.job.lineage import STEP_PREFIX
from lomrix.job.outputs import list_locations
from lomrix.job.run import Outcome, run
from lomrix.job.streams import Streams
from lomrix.job.task import TABLE, Task
from lomrix.plan.memory import Memory, Record, compute_key
from lomrix.plan.plan import Plan, PlannedStep

Fate = Literal["done", "unchanged", "failed", "not run"]
# Seconds in which a thread has begun.
PATIENCE = 1.0
# A plan neither reads standard input nor writes standard output.
NO_STREAMS = Streams(io.BytesIO(), io.BytesIO())


@dataclass(frozen=True)
class StepOutcome:
    """What happened to one step."""

    name: str
    word: str
    fate: Fate
    rows_in: int = 0
    rows_out: int = 0
    left_out: int = 0
    seconds: float = 0.0
    outcome: Outcome | None = None
    error: LomrixError | None = None


@dataclass
class PlanRun:
    """One run of a plan."""

    plan: Plan
    memory: Memory
    fresh: bool = False
    overwrite: bool = False
    rehearses: bool = False
    report: Callable[[str], None] = lambda words: None
    outcomes: dict[str, StepOutcome] = field(default_factory=dict)
    keys: dict[str, str] = field(default_factory=dict)
    tables: dict[str, Table] = field(default_factory=dict)
    records: dict[str, Record] = field(default_factory=dict)
    hashes: dict[str, str] = field(default_factory=dict)
    modified_at: dict[str, int] = field(default_factory=dict)
    written_hashes: Mapping[str, set[str]] = field(default_factory=dict)

    def run(self) -> list[StepOutcome]:
        """Run all steps; after a failure, no further step begins."""
        self.modified_at = {path: get_modified_time(path) for path in self.plan.raw_files}
        self.hashes = {path: hash_reference(path) for path in self.plan.raw_files}
        self.written_hashes = self.memory.list_written_hashes()
        waiting = dict(self.plan.steps)
        busy: dict[str, Part[StepOutcome]] = {}
        ended: queue.SimpleQueue[str] = queue.SimpleQueue()

        def run_step(step: PlannedStep) -> StepOutcome:
            try:
                return self.run_step(step)
            finally:
                ended.put(step.name)

        try:
            while waiting or busy:
                has_failed = any(outcome.fate == "failed" for outcome in self.outcomes.values())
                for step in () if has_failed else list(waiting.values()):
                    if len(busy) < (os.cpu_count() or 1) and all(map(self.is_done, step.needs)):
                        busy[step.name] = Part(run_step, (waiting.pop(step.name),))
                if not busy:
                    break
                name = wait_for_any(busy, ended)
                self.outcomes[name] = busy.pop(name).get()
        finally:
            for part in busy.values():
                part.cancel()
        self.remember_databases()
        for step in waiting.values():
            self.outcomes[step.name] = StepOutcome(step.name, step.task.step.word, "not run")
        return [self.outcomes[name] for name in self.plan.steps]

    def is_done(self, name: str) -> bool:
        """Is a step finished?"""
        return name in self.outcomes and self.outcomes[name].fate in ("done", "unchanged")

    def run_step(self, step: PlannedStep) -> StepOutcome:
        """Run one step, unless nothing has changed for it."""
        started = time.perf_counter()
        word = step.task.step.word
        try:
            key = self.keys[step.name] = self.compute_step_key(step)
            record = None if self.fresh or self.rehearses else self.memory.find_record(key)
            if record is not None and self.is_unchanged(step, record):
                self.memory.mark_used(record)
                self.records[step.name] = record
                seconds = time.perf_counter() - started
                return StepOutcome(
                    step.name, word, "unchanged", record.rows_in, record.rows_out, record.left_out, seconds
                )
            self.report(step.name)
            outcome = self.apply(step)
            result = self.make_outcome(step, outcome, time.perf_counter() - started)
            self.remember(step, key, outcome, result)
            return result
        except LomrixError as error:
            return StepOutcome(step.name, word, "failed", seconds=time.perf_counter() - started, error=error)

    def apply(self, step: PlannedStep) -> Outcome:
        """Run the task of a step; its table is kept if it writes none."""
        tables = {f"{STEP_PREFIX}{name}": self.get_table(name) for name in step.needs if self.takes_table(step, name)}
        task = replace(step.task, inputs=self.resolve_inputs(step), overwrite=self.may_replace(step))
        if self.rehearses:
            task = replace(
                task, outputs={role: path for role, path in task.outputs.items() if is_required_output(task, role)}
            )
        for reference in task.outputs.values():
            if not is_object(reference):
                path = get_folder(reference) if is_database(reference) else Path(reference).parent
                path.mkdir(parents=True, exist_ok=True)

        def require(table: Table, account: Account) -> None:
            self.require_unchanged()
            if account.is_broken:
                raise DataError(account.summary, todo=f"See `lomrix {task.step.word}` on its file.")
            step.expects.require(table)

        outcome = run(task, NO_STREAMS, memory=tables, require=require)
        if outcome.table is not None and (TABLE not in step.task.outputs or self.rehearses):
            self.tables[step.name] = outcome.table
        return outcome

    def resolve_inputs(self, step: PlannedStep) -> dict[str, tuple[str, ...]]:
        """Resolve the inputs of a step: files of earlier steps, or their tables where there is no file."""
        step_by_path = {
            step_.task.outputs[TABLE]: name for name, step_ in self.plan.steps.items() if TABLE in step_.task.outputs
        }

        def resolve_input(reference: str) -> str:
            name = reference.removeprefix(STEP_PREFIX) if reference.startswith(STEP_PREFIX) else ""
            if name and TABLE in self.plan.steps[name].task.outputs and not self.rehearses:
                return self.plan.steps[name].task.outputs[TABLE]
            if self.rehearses and reference in step_by_path:
                return STEP_PREFIX + step_by_path[reference]
            return reference

        return {role: tuple(map(resolve_input, references)) for role, references in step.task.inputs.items()}

    def takes_table(self, step: PlannedStep, name: str) -> bool:
        """Does a step take the table of another and not its file?"""
        return any(f"{STEP_PREFIX}{name}" in references for references in self.resolve_inputs(step).values())

    def get_table(self, name: str) -> Table:
        """Get the table of a step that wrote no file, running it again if needed."""
        if name not in self.tables:
            record = self.records.get(name)
            table = self.memory.read_table(record) if record is not None else None
            if table is None:
                self.apply(self.plan.steps[name])
            else:
                self.tables[name] = table
        return self.tables[name]

    # -------------------------------------------------------- what changed

    def compute_step_key(self, step: PlannedStep) -> str:
        """Compute the hash of all that a step depends on."""
        task = step.task
        return compute_key({
            "version": lomrix.__version__,
            "do": task.step.word,
            "settings": task.step.to_dict(),
            "reading": task.reading.model_dump(mode="json", exclude_defaults=True),
            "missing": task.missing,
            "inputs": {role: list(references) for role, references in task.inputs.items()},
            "outputs": dict(task.outputs),
            "expects": repr(step.expects),
            "files": {
                path: self.hashes.get(path) or hash_reference(path)
                for path in map(str, list_files_read(task, step.raw))
            },
            "needs": {name: self.keys[name] for name in step.needs},
        })  # fmt: skip

    def is_unchanged(self, step: PlannedStep, record: Record) -> bool:
        """Is everything that the step wrote still there as it was written?"""
        references = [
            *step.task.outputs.values(),
            *(reference for references in step.task.inputs.values() for reference in references),
        ]
        files = [get_database_file(reference) for reference in references if is_url(reference)]
        # Changes of a file can be detected, those on a server cannot.
        return None not in files and set(files) <= set(record.files) and self.memory.is_current(record)

    def require_unchanged(self) -> None:
        """Stop if a raw file changed while the plan ran."""
        for path, before in self.modified_at.items():
            if get_modified_time(path) != before and hash_reference(path) != self.hashes[path]:
                raise DataError(f"{path} changed while the plan ran.", todo="Run the plan again.")

    def may_replace(self, step: PlannedStep) -> bool:
        """May existing outputs be replaced? Only if a plan wrote them and nobody changed them since."""
        if self.overwrite:
            return True
        locations = list_locations(step.task, NO_STREAMS)
        # Changes to a table of a database cannot be detected.
        if any(not isinstance(location, Path) and str(location) not in self.written_hashes for location in locations):
            return False
        paths = [location for location in locations if isinstance(location, Path)]
        existing = [
            path_ for location in paths for path_ in (sorted(location.rglob("*")) if location.is_dir() else [location])
        ]
        files = [path for path in existing if path.is_file()]
        is_ours = all(hash_file(path) in self.written_hashes.get(str(path), set()) for path in files)
        return is_ours and (bool(files) or len(paths) < len(locations))

    def make_outcome(self, step: PlannedStep, outcome: Outcome, seconds: float) -> StepOutcome:
        """Make the outcome of a step that was run."""
        roles = {role.name: role for role in step.task.step.roles}
        roles_read = [role for role in roles for _ in step.task.inputs.get(role, ()) if roles[role].content != "secret"]
        pairs = zip(roles_read, outcome.sources, strict=True)
        rows = sum(len(table) for role, (_, table) in pairs if roles[role].content == "table")
        row_count = len(outcome.result.table)
        return StepOutcome(
            step.name, step.task.step.word, "done", rows, row_count, outcome.result.account.left_out, seconds, outcome
        )

    def remember_databases(self) -> None:
        """Record the hashes of database files after all steps have written to them."""
        if self.rehearses:
            return
        for name, record in self.records.items():
            files = [
                get_database_file(path) for path in self.plan.steps[name].task.outputs.values() if is_database(path)
            ]
            hashes = {path: hash_file(Path(path)) for path in files if path is not None and Path(path).is_file()}
            if hashes and dict(record.files) | hashes != record.files:
                self.memory.store(replace(record, files={**record.files, **hashes}), None)

    def remember(self, step: PlannedStep, key: str, outcome: Outcome, result: StepOutcome) -> None:
        """Remember a step for the next run."""
        if self.rehearses:
            return
        files = {
            file.description: hash_file(Path(file.description))
            for file in outcome.written
            if Path(file.description).is_file()
        }
        places = [str(file) for file in list_locations(step.task, NO_STREAMS) if not isinstance(file, Path)]
        record = Record(step.name, key, files, "", result.rows_in, result.rows_out, result.left_out, places)
        self.records[step.name] = record
        self.memory.store(record, None if step.name in self.identifying_steps else self.tables.get(step.name))

    @cached_property
    def identifying_steps(self) -> set[str]:
        """Steps whose tables a later step de-identifies; their tables are not kept."""
        names: set[str] = set()
        for step in reversed(list(self.plan.steps.values())):
            if step.task.step.hides_origin or step.name in names:
                names |= set(step.needs)
        return names


def wait_for_any(busy: Mapping[str, Part[StepOutcome]], ended: queue.SimpleQueue[str]) -> str:
    """Wait until a step has ended, and return its name; one whose thread found no memory to begin is run here."""
    while True:
        try:
            return ended.get(timeout=PATIENCE)
        except queue.Empty:
            for part in busy.values():
                part.make()


def get_database_file(reference: str) -> str | None:
    """Return the file of a database; None if it is on a server, as an object is."""
    path = None if is_object(reference) else Reference.parse(reference).path
    return None if path is None else str(path)


def is_required_output(task: Task, role: str) -> bool:
    """Is an output required for its step?"""
    return any(extra.name == role and extra.needed for extra in task.step.gives)


def get_modified_time(reference: str) -> int:
    """Return when a file was last written, in nanoseconds; 0 if there is no file."""
    path = Path() if is_url(reference) else split_sheet(reference)[0]
    return path.stat().st_mtime_ns if path.is_file() else 0
