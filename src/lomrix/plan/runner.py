"""The running of a plan: steps that do not need each other side by side, steps that nothing changed for not at all."""

from __future__ import annotations

import io
import os
import time
from collections.abc import Callable, Mapping
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Literal

import lomrix
from lomrix.core.errors import DataError, FileError, LomrixError
from lomrix.core.steps.account import Account
from lomrix.core.table.table import Table
from lomrix.files.database.reference import Reference, database_folder, is_database
from lomrix.files.hashing import file_hash
from lomrix.files.registry import path_and_sheet
from lomrix.job.inputs import files_read
from lomrix.job.lineage import STEP
from lomrix.job.outputs import places_of
from lomrix.job.run import Outcome, run
from lomrix.job.streams import Streams
from lomrix.job.task import TABLE, Task
from lomrix.plan.memory import Memory, Record, key_of
from lomrix.plan.plan import Plan, PlannedStep

Fate = Literal["done", "unchanged", "failed", "not run"]
# A plan takes nothing from standard input and gives nothing to standard output.
NO_STREAMS = Streams(io.BytesIO(), io.BytesIO())


@dataclass(frozen=True)
class Fact:
    """What became of one step.

    Parameters
    ----------
    name, word, fate
        The step, what it does, and how it went.
    rows_in, rows_out, left_out
        Rows of all its inputs, of its table, and those that were left out.
    seconds
        How long it took.
    outcome
        All that it gave, where it was done.
    error
        What stopped it.
    """

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
class Running:
    """One run of a plan.

    Parameters
    ----------
    plan
        What is run, in its folder.
    memory
        What earlier runs made.
    fresh
        Whether everything is done again.
    overwrite
        Whether files that no plan made may be replaced.
    rehearses
        Whether nothing is written.
    tell
        Is told what is being done.
    """

    plan: Plan
    memory: Memory
    fresh: bool = False
    overwrite: bool = False
    rehearses: bool = False
    tell: Callable[[str], None] = lambda words: None
    facts: dict[str, Fact] = field(default_factory=dict)
    keys: dict[str, str] = field(default_factory=dict)
    tables: dict[str, Table] = field(default_factory=dict)
    records: dict[str, Record] = field(default_factory=dict)
    hashes: dict[str, str] = field(default_factory=dict)
    moments: dict[str, int] = field(default_factory=dict)
    made_before: Mapping[str, set[str]] = field(default_factory=dict)

    def go(self) -> list[Fact]:
        """Run all steps; the first that fails stops those that have not begun.

        Returns
        -------
        What became of each, in their order.
        """
        self.moments = {path: moment_of(path) for path in self.plan.raw}
        self.hashes = {path: self.fingerprint(path) for path in self.plan.raw}
        self.made_before = self.memory.made()
        left = dict(self.plan.steps)
        with ThreadPoolExecutor(max(os.cpu_count() or 1, 1)) as workers:
            busy: dict[Future[Fact], str] = {}
            failed = False
            while left or busy:
                ready = (
                    [] if failed else [step for step in left.values() if all(self.is_done(one) for one in step.needs)]
                )
                for step in ready:
                    del left[step.name]
                    busy[workers.submit(self.one, step)] = step.name
                if not busy:
                    break
                for done in wait(busy, return_when=FIRST_COMPLETED).done:
                    fact = done.result()
                    self.facts[busy.pop(done)] = fact
                    failed = failed or fact.fate == "failed"
        self.remember_databases()
        for step in left.values():
            self.facts[step.name] = Fact(step.name, step.task.step.word, "not run")
        return [self.facts[name] for name in self.plan.steps]

    def is_done(self, name: str) -> bool:
        """True where a step is behind us."""
        return name in self.facts and self.facts[name].fate in ("done", "unchanged")

    def one(self, step: PlannedStep) -> Fact:
        """Do one step, or find that nothing changed for it."""
        started = time.perf_counter()
        word = step.task.step.word
        try:
            key = self.keys[step.name] = self.key(step)
            record = None if self.fresh or self.rehearses else self.memory.record(key)
            if record is not None and self.still_stands(step, record):
                self.memory.used(record)
                self.records[step.name] = record
                seconds = time.perf_counter() - started
                return Fact(step.name, word, "unchanged", record.rows_in, record.rows_out, record.left_out, seconds)
            self.tell(step.name)
            outcome = self.done(step)
            fact = self.fact(step, outcome, time.perf_counter() - started)
            self.remember(step, key, outcome, fact)
            return fact
        except LomrixError as error:
            return Fact(step.name, word, "failed", seconds=time.perf_counter() - started, error=error)

    def done(self, step: PlannedStep) -> Outcome:
        """Run its task; its table is kept where it writes none, or where nothing is written."""
        memory = {f"{STEP}{name}": self.table_of(name) for name in step.needs if self.is_in_memory(step, name)}
        task = replace(step.task, inputs=self.linked(step), overwrite=self.may_replace(step))
        if self.rehearses:
            task = replace(task, outputs={role: path for role, path in task.outputs.items() if is_needed(task, role)})
        for reference in task.outputs.values():
            path = database_folder(reference) if is_database(reference) else Path(reference).parent
            path.mkdir(parents=True, exist_ok=True)

        def require(table: Table, account: Account) -> None:
            self.require_unchanged()
            if account.facts.get("broken"):
                raise DataError(account.summary, todo=f"See `lomrix {task.step.word}` on its file.")
            step.expects.require(table)

        outcome = run(task, NO_STREAMS, memory=memory, require=require)
        if outcome.made is not None and (TABLE not in step.task.outputs or self.rehearses):
            self.tables[step.name] = outcome.made
        return outcome

    def linked(self, step: PlannedStep) -> dict[str, tuple[str, ...]]:
        """Its inputs: the files of earlier steps, or their tables where there is no file."""
        made = {one.task.outputs[TABLE]: name for name, one in self.plan.steps.items() if TABLE in one.task.outputs}

        def found(reference: str) -> str:
            name = reference.removeprefix(STEP) if reference.startswith(STEP) else ""
            if name and TABLE in self.plan.steps[name].task.outputs and not self.rehearses:
                return self.plan.steps[name].task.outputs[TABLE]
            if self.rehearses and reference in made:
                return STEP + made[reference]
            return reference

        return {role: tuple(map(found, references)) for role, references in step.task.inputs.items()}

    def is_in_memory(self, step: PlannedStep, name: str) -> bool:
        """True where a step takes the table of another and not its file."""
        return any(f"{STEP}{name}" in references for references in self.linked(step).values())

    def table_of(self, name: str) -> Table:
        """The table of a step that wrote none: as it was made, from the memory, or made again."""
        if name not in self.tables:
            record = self.records.get(name)
            table = self.memory.table(record) if record is not None else None
            if table is None:
                self.done(self.plan.steps[name])
            else:
                self.tables[name] = table
        return self.tables[name]

    # -------------------------------------------------------- what changed

    def fingerprint(self, reference: str) -> str:
        """The hash of a file now; empty for a table of a database."""
        if is_database(reference):
            return ""
        path, _ = path_and_sheet(reference)
        try:
            return file_hash(path)
        except OSError as error:
            raise FileError(f"{path} cannot be read.", where=str(error.strerror or error)) from error

    def key(self, step: PlannedStep) -> str:
        """What a step is made of, as one hash."""
        task = step.task
        return key_of({
            "version": lomrix.__version__,
            "do": task.step.word,
            "settings": task.step.said(),
            "reading": task.reading.model_dump(mode="json", exclude_defaults=True),
            "missing": task.missing,
            "inputs": {role: list(references) for role, references in task.inputs.items()},
            "outputs": dict(task.outputs),
            "expects": repr(step.expects),
            "files": {
                path: self.hashes.get(path) or self.fingerprint(path) for path in map(str, files_read(task, step.raw))
            },
            "needs": {name: self.keys[name] for name in step.needs},
        })  # fmt: skip

    def still_stands(self, step: PlannedStep, record: Record) -> bool:
        """True where all that the step wrote is there as it was written."""
        references = [*step.task.outputs.values(), *(one for many in step.task.inputs.values() for one in many)]
        files = [database_file(one) for one in references if is_database(one)]
        # A server does not tell what has changed; a file does.
        return None not in files and set(files) <= set(record.files) and self.memory.stands(record)

    def require_unchanged(self) -> None:
        """Stop where a raw file changed while the plan ran: steps before and after would have read different ones."""
        for path, moment in self.moments.items():
            if moment_of(path) != moment and self.fingerprint(path) != self.hashes[path]:
                raise DataError(f"{path} changed while the plan ran.", todo="Run the plan again.")

    def may_replace(self, step: PlannedStep) -> bool:
        """True where the files it would replace were made by a plan and nobody touched them since, or it was said."""
        if self.overwrite:
            return True
        every = places_of(step.task, NO_STREAMS)
        # Of a table nobody can tell whether it was touched since.
        if any(not isinstance(place, Path) and str(place) not in self.made_before for place in every):
            return False
        places = [place for place in every if isinstance(place, Path)]
        there = [one for place in places for one in (sorted(place.rglob("*")) if place.is_dir() else [place])]
        files = [path for path in there if path.is_file()]
        known = all(file_hash(path) in self.made_before.get(str(path), set()) for path in files)
        return known and (bool(files) or len(places) < len(every))

    def fact(self, step: PlannedStep, outcome: Outcome, seconds: float) -> Fact:
        """What became of a step."""
        roles = {role.name: role for role in step.task.step.roles}
        read = [role for role in roles for _ in step.task.inputs.get(role, ()) if roles[role].content != "secret"]
        pairs = zip(read, outcome.sources, strict=True)
        rows = sum(len(table) for role, (_, table) in pairs if roles[role].content == "table")
        made = len(outcome.result.table)
        return Fact(
            step.name, step.task.step.word, "done", rows, made, outcome.result.account.left_out, seconds, outcome
        )

    def remember_databases(self) -> None:
        """Files of databases are known by what they are once all steps have written to them."""
        if self.rehearses:
            return
        for name, record in self.records.items():
            files = [database_file(one) for one in self.plan.steps[name].task.outputs.values() if is_database(one)]
            hashes = {one: file_hash(Path(one)) for one in files if one is not None and Path(one).is_file()}
            if hashes and dict(record.files) | hashes != record.files:
                self.memory.keep(replace(record, files={**record.files, **hashes}), None)

    def remember(self, step: PlannedStep, key: str, outcome: Outcome, fact: Fact) -> None:
        """Keep what was made for the next run."""
        if self.rehearses:
            return
        files = {one.told: file_hash(Path(one.told)) for one in outcome.written if Path(one.told).is_file()}
        places = [str(one) for one in places_of(step.task, NO_STREAMS) if not isinstance(one, Path)]
        record = Record(step.name, key, files, "", fact.rows_in, fact.rows_out, fact.left_out, places)
        self.records[step.name] = record
        self.memory.keep(record, None if step.name in self.naming_people else self.tables.get(step.name))

    @cached_property
    def naming_people(self) -> set[str]:
        """Steps from whose tables a later step takes away what names people: of them nothing is kept."""
        found: set[str] = set()
        for step in reversed(list(self.plan.steps.values())):
            if step.task.step.hides_origin or step.name in found:
                found |= set(step.needs)
        return found


def database_file(reference: str) -> str | None:
    """The file of a database; None where it is on a server."""
    path = Reference.of(reference).path
    return None if path is None else str(path)


def is_needed(task: Task, role: str) -> bool:
    """True for outputs without which a step has no sense."""
    return any(extra.name == role and extra.needed for extra in task.step.gives)


def moment_of(reference: str) -> int:
    """When a file was last written; 0 where it is none."""
    path = Path() if is_database(reference) else path_and_sheet(reference)[0]
    return path.stat().st_mtime_ns if path.is_file() else 0
