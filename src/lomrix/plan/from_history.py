"""From a history back to what makes the file again: a plan, commands, and provenance in an open format."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import lomrix
from lomrix.core.errors import UsageError
from lomrix.core.steps.registry import find_entry
from lomrix.core.steps.step import Step
from lomrix.core.table.history import History
from lomrix.files.database.reference import is_url
from lomrix.files.dictionary_text import format_key, format_value
from lomrix.job.task import TABLE
from lomrix.plan.document import PLAN_NAMES

MAX_WIDTH = 100


@dataclass(frozen=True)
class TaskInput:
    """An input of a task in a history."""

    role: str
    path: str
    hash: str = ""
    task: str = ""
    rows: int | None = None


@dataclass(frozen=True)
class PastTask:
    """One task of a history, its references relative to one folder."""

    id: str
    entry: Mapping[str, Any]
    name: str
    inputs: tuple[TaskInput, ...]
    outputs: Mapping[str, str] = field(default_factory=dict)

    @property
    def step_word(self) -> str:
        """The step."""
        return str(self.entry.get("do", ""))

    @property
    def is_origin_hidden(self) -> bool:
        """True if earlier tasks are hidden."""
        return "begins" in self.entry


def list_tasks(history: History, file: str, folder: Path) -> list[PastTask]:
    """List the tasks that made a file, earlier ones first."""
    outputs_by_task: dict[str, tuple[str, str]] = {history.last: (str(Path(file).parent), file)}
    names: dict[str, str] = {}
    tasks: list[PastTask] = []
    for task_id in reversed(list(history.tasks)):
        if task_id not in outputs_by_task:
            continue
        entry = history.tasks[task_id]
        base_folder, table_path = outputs_by_task[task_id]
        inputs = []
        for part in list_entries(entry.get("inputs")):
            path = join_reference(base_folder, str(part.get("path", "")))
            source_task = str(part.get("task", ""))
            source_task = source_task if source_task in history.tasks else ""
            if source_task and source_task not in outputs_by_task:
                step_folder = (
                    join_reference(base_folder, str(part.get("seen_from", "."))) if not path else str(Path(path).parent)
                )
                outputs_by_task[source_task] = (step_folder, path)
                names[source_task] = str(part.get("step", "")) if not path else ""
            rows = part.get("rows")
            rows = rows if isinstance(rows, int) else None
            inputs.append(
                TaskInput(
                    str(part.get("role", "")),
                    make_relative_path(path, folder),
                    str(part.get("hash", "")),
                    source_task,
                    rows,
                )
            )
        outputs = {TABLE: make_relative_path(table_path, folder)} if table_path else {}
        for part in list_entries(entry.get("outputs")):
            if part.get("role") != TABLE:
                outputs[str(part.get("role"))] = make_relative_path(
                    join_reference(base_folder, str(part.get("path", ""))), folder
                )
        tasks.append(PastTask(task_id, entry, names.get(task_id, ""), tuple(inputs), outputs))
    return name_tasks(tasks[::-1])


def join_reference(folder: str, reference: str) -> str:
    """Make a reference that is relative to a folder relative to the current folder."""
    return (
        reference
        if not reference or is_url(reference) or reference == "-"
        else os.path.normpath(Path(folder) / reference)
    )


def list_entries(value: object) -> list[dict[str, Any]]:
    """Return the entries of a list; an empty list if it is none."""
    return [entry for entry in value if isinstance(entry, dict)] if isinstance(value, list) else []


def make_relative_path(path: str, folder: Path) -> str:
    """Make a path relative to a folder."""
    if not path or is_url(path) or path == "-":
        return path
    return Path(os.path.relpath(path, folder)).as_posix()


def name_tasks(tasks: list[PastTask]) -> list[PastTask]:
    """Give tasks short distinct names from the names of their files."""
    used: set[str] = set()
    result = []
    for task in tasks:
        stem = Path(task.outputs.get(TABLE, "").rpartition("#")[2] or task.outputs.get(TABLE, "")).name.split(".")[0]
        base = re.sub(r"[^A-Za-z0-9_-]+", "_", task.name or stem).strip("_") or task.step_word
        base = base if base[0].isalpha() else f"{task.step_word}_{base}"
        name, number = base, 2
        while name in used:
            name, number = f"{base}_{number}", number + 1
        used.add(name)
        result.append(PastTask(task.id, task.entry, name, task.inputs, task.outputs))
    return result


def make_step_keys(tasks: list[PastTask]) -> Iterator[tuple[PastTask, dict[str, Any]]]:
    """Yield each task with the keys of a plan's step."""
    names = {task.id: task.name for task in tasks}
    for task in tasks:
        entry = find_entry(task.step_word)
        if entry is None:
            raise UsageError(f"The history has a step {task.step_word}, which this version does not know.",
                             todo="Use the version that wrote it.")  # fmt: skip
        if task.is_origin_hidden:
            raise UsageError(
                f"The origin of {task.outputs.get(TABLE, 'the table')} is hidden because it identifies people.",
                todo="Make a plan from the file it was made from, and add the step deidentify.",
            )
        if any(entered.path == "-" for entered in task.inputs):
            raise UsageError(
                f"The step {task.name} read standard input, which a plan cannot.",
                todo="Write the input to a file first.",
            )
        keys: dict[str, Any] = {"name": task.name, "do": task.step_word}
        step = entry.load()
        for role in step.roles:
            references = [entered.path or names[entered.task] for entered in task.inputs if entered.role == role.name]
            if references:
                keys[role.name] = references if role.many and len(references) > 1 else references[0]
        dictionary = next((entered.path for entered in task.inputs if entered.role == "dictionary"), "")
        if dictionary:
            keys["dictionary"] = dictionary
        keys |= dict(task.entry.get("reading", {}))
        keys |= shorten_settings(step, dict(task.entry.get("settings", {})))
        if task.entry.get("missing"):
            keys["missing"] = task.entry["missing"]
        keys |= task.outputs
        yield task, keys


def shorten_settings(step: type[Step], settings: dict[str, Any]) -> dict[str, Any]:
    """Write settings as a person would: lists of one as the item."""
    result = {}
    for name, value in settings.items():
        short = value[0] if isinstance(value, list) and len(value) == 1 else value
        result[PLAN_NAMES.get(name, name)] = short
    return result


HEADING = """# The plan that makes {file} again from its raw files, made from its history.
# Run it with:  lomrix run {plan}
"""


def format_plan(tasks: list[PastTask], file: str, plan: str, *, outside: bool) -> str:
    """Format the plan that makes a file again."""
    parts = [HEADING.format(file=file, plan=plan)]
    if outside:
        parts.append("allow_outside = true\n")
    for _, keys in make_step_keys(tasks):
        lines = [f"{format_key(key)} = {format_plan_value(value)}" for key, value in keys.items()]
        parts.append("[[steps]]\n" + "\n".join(lines) + "\n")
    return "\n".join(parts)


def format_plan_value(value: Any) -> str:
    """Format a value as TOML; a long list has one item per line."""
    text = format_value(value)
    if isinstance(value, list) and len(text) > MAX_WIDTH:
        return "[\n" + "".join(f"    {format_value(item)},\n" for item in value) + "]"
    return text


def has_outside_paths(tasks: list[PastTask]) -> bool:
    """Does any path leave the folder it is relative to?"""
    paths = [
        *(path.path for task in tasks for path in task.inputs),
        *(path for task in tasks for path in task.outputs.values()),
    ]
    return any(path.startswith("../") or path.startswith("/") for path in paths if not is_url(path))


# ------------------------------------------------------------------ provenance


def make_provenance(tasks: list[PastTask], file: str) -> dict[str, Any]:
    """Convert the history to the W3C's PROV-JSON.

    References
    ----------
    W3C Member Submission, The PROV-JSON Serialization (2013).
    """
    entity: dict[str, Any] = {}
    activity: dict[str, Any] = {}
    used: dict[str, Any] = {}
    generated: dict[str, Any] = {}
    associated: dict[str, Any] = {}

    def get_entity(path: str, task: str) -> str:
        key = f"file:{path}" if path else f"table:{task}"
        entity.setdefault(key, {"prov:label": path or task, **({"prov:location": path} if path else {})})
        return key

    for task in tasks:
        number = f"task:{task.id}"
        activity[number] = {"prov:label": task.step_word, "prov:type": f"lomrix:{task.step_word}",
                            "lomrix:summary": str(task.entry.get("summary", ""))}  # fmt: skip
        associated[f"_:a{len(associated)}"] = {"prov:activity": number, "prov:agent": "lomrix:program"}
        for entered in task.inputs:
            key = get_entity(entered.path, entered.task)
            if entered.hash:
                entity[key]["lomrix:hash"] = entered.hash
            used[f"_:u{len(used)}"] = {"prov:activity": number, "prov:entity": key, "prov:role": entered.role}
        for role, path in (task.outputs or {TABLE: ""}).items():
            key = get_entity(path, task.id)
            generated[f"_:g{len(generated)}"] = {"prov:entity": key, "prov:activity": number, "prov:role": role}
    agent = {"lomrix:program": {"prov:type": "prov:SoftwareAgent", "prov:label": f"Lomrix {lomrix.__version__}"}}
    prefix = {
        "lomrix": "urn:lomrix:",
        "file": "urn:lomrix:file:",
        "task": "urn:lomrix:task:",
        "table": "urn:lomrix:table:",
    }
    return {
        "prefix": prefix, "entity": entity, "activity": activity, "agent": agent, "used": used,
        "wasGeneratedBy": generated, "wasAssociatedWith": associated,
    }  # fmt: skip
