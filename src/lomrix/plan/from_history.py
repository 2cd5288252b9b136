"""From a history back to what makes it again: a plan, commands, and provenance in an open form."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import lomrix
from lomrix.core.errors import UsageError
from lomrix.core.steps.registry import entry_of
from lomrix.core.steps.step import Step
from lomrix.core.table.history import History
from lomrix.files.database.reference import is_database
from lomrix.files.dictionary_text import toml_key, toml_value
from lomrix.job.task import TABLE
from lomrix.plan.document import OTHERWISE

WIDE = 100


@dataclass(frozen=True)
class Entered:
    """Something that went into a task.

    Parameters
    ----------
    role, path
        What it was for, and where it stands, seen from one folder; no path where it was only in memory.
    hash
        Its fingerprint then.
    task
        Id of the task that made it; empty for a raw file.
    rows
        Number of its rows; None where it is no table.
    """

    role: str
    path: str
    hash: str = ""
    task: str = ""
    rows: int | None = None


@dataclass(frozen=True)
class Done:
    """One task of a history, its references seen from one folder.

    Parameters
    ----------
    id, entry
        As the history has it.
    name
        A short name, unlike those of all other tasks.
    inputs, outputs
        What went in, and by role what came out.
    """

    id: str
    entry: Mapping[str, Any]
    name: str
    inputs: tuple[Entered, ...]
    outputs: Mapping[str, str] = field(default_factory=dict)

    @property
    def word(self) -> str:
        """What was done."""
        return str(self.entry.get("do", ""))

    @property
    def begins(self) -> bool:
        """True where what came before is not told."""
        return "begins" in self.entry


def tasks_behind(history: History, file: str, folder: Path) -> list[Done]:
    """The tasks that made a file, earlier ones first.

    Parameters
    ----------
    history
        Of the file.
    file
        Its path.
    folder
        The folder from which all references shall be seen.
    """
    stands: dict[str, tuple[str, str]] = {history.last: (str(Path(file).parent), file)}
    names: dict[str, str] = {}
    found: list[Done] = []
    for number in reversed(list(history.tasks)):
        if number not in stands:
            continue
        entry = history.tasks[number]
        own_folder, own_path = stands[number]
        inputs = []
        for one in plain_list(entry.get("inputs")):
            path = beside(own_folder, str(one.get("path", "")))
            before = str(one.get("task", ""))
            before = before if before in history.tasks else ""
            if before and before not in stands:
                own = beside(own_folder, str(one.get("seen_from", "."))) if not path else str(Path(path).parent)
                stands[before] = (own, path)
                names[before] = str(one.get("step", "")) if not path else ""
            rows = one.get("rows")
            rows = rows if isinstance(rows, int) else None
            inputs.append(
                Entered(str(one.get("role", "")), seen_from(path, folder), str(one.get("hash", "")), before, rows)
            )
        outputs = {TABLE: seen_from(own_path, folder)} if own_path else {}
        for one in plain_list(entry.get("outputs")):
            if one.get("role") != TABLE:
                outputs[str(one.get("role"))] = seen_from(beside(own_folder, str(one.get("path", ""))), folder)
        found.append(Done(number, entry, names.get(number, ""), tuple(inputs), outputs))
    return named(found[::-1])


def beside(folder: str, place: str) -> str:
    """A reference that was seen from a folder, as it is seen from here."""
    return place if not place or is_database(place) or place == "-" else os.path.normpath(Path(folder) / place)


def plain_list(value: object) -> list[dict[str, Any]]:
    """The entries of a list, as far as it is one."""
    return [one for one in value if isinstance(one, dict)] if isinstance(value, list) else []


def seen_from(path: str, folder: Path) -> str:
    """A path as it is seen from a folder."""
    if not path or is_database(path) or path == "-":
        return path
    return Path(os.path.relpath(path, folder)).as_posix()


def named(tasks: list[Done]) -> list[Done]:
    """Tasks with short names, made of the names of their files."""
    used: set[str] = set()
    made = []
    for task in tasks:
        stem = Path(task.outputs.get(TABLE, "").rpartition("#")[2] or task.outputs.get(TABLE, "")).name.split(".")[0]
        plain = re.sub(r"[^A-Za-z0-9_-]+", "_", task.name or stem).strip("_") or task.word
        plain = plain if plain[0].isalpha() else f"{task.word}_{plain}"
        name, number = plain, 2
        while name in used:
            name, number = f"{plain}_{number}", number + 1
        used.add(name)
        made.append(Done(task.id, task.entry, name, task.inputs, task.outputs))
    return made


def steps_of(tasks: list[Done]) -> Iterator[tuple[Done, dict[str, Any]]]:
    """Each task as the keys of a plan's step.

    Raises
    ------
    UsageError
        Where a task cannot be done again: its past is hidden, it came from standard input, or is not known.
    """
    names = {task.id: task.name for task in tasks}
    for task in tasks:
        entry = entry_of(task.word)
        if entry is None:
            raise UsageError(f"The history has a step {task.word}, which this version does not know.",
                             todo="Take the version that wrote it.")  # fmt: skip
        if task.begins:
            raise UsageError(
                f"What {task.outputs.get(TABLE, 'the table')} was made of is left behind, since it names people.",
                todo="Make a plan of the file that it was made of, and add the step deidentify.",
            )
        if any(one.path == "-" for one in task.inputs):
            raise UsageError(
                f"The step {task.name} read standard input, which a plan cannot.", todo="Write it to a file."
            )
        keys: dict[str, Any] = {"name": task.name, "do": task.word}
        step = entry.step()
        for role in step.roles:
            references = [one.path or names[one.task] for one in task.inputs if one.role == role.name]
            if references:
                keys[role.name] = references if role.many and len(references) > 1 else references[0]
        dictionary = next((one.path for one in task.inputs if one.role == "dictionary"), "")
        if dictionary:
            keys["dictionary"] = dictionary
        keys |= dict(task.entry.get("reading", {}))
        keys |= shorter(step, dict(task.entry.get("settings", {})))
        if task.entry.get("missing"):
            keys["missing"] = task.entry["missing"]
        keys |= task.outputs
        yield task, keys


def shorter(step: type[Step], settings: dict[str, Any]) -> dict[str, Any]:
    """Settings as a person would write them: names with commas between where that is the same."""
    made = {}
    for name, value in settings.items():
        one = value[0] if isinstance(value, list) and len(value) == 1 else value
        made[OTHERWISE.get(name, name)] = one
    return made


HEADING = """# The plan that makes {file} again from its raw files, drawn from its history.
# Run it with:  lomrix run {plan}
"""


def plan_text(tasks: list[Done], file: str, plan: str, *, outside: bool) -> str:
    """The plan that makes a file again.

    Parameters
    ----------
    tasks
        The tasks, earlier ones first.
    file, plan
        The file, and the plan's own name.
    outside
        Whether some path leaves the plan's folder.
    """
    parts = [HEADING.format(file=file, plan=plan)]
    if outside:
        parts.append("allow_outside = true\n")
    for _, keys in steps_of(tasks):
        lines = [f"{toml_key(key)} = {written(value)}" for key, value in keys.items()]
        parts.append("[[steps]]\n" + "\n".join(lines) + "\n")
    return "\n".join(parts)


def written(value: Any) -> str:
    """A value in TOML; a long list with one part in a line."""
    text = toml_value(value)
    if isinstance(value, list) and len(text) > WIDE:
        return "[\n" + "".join(f"    {toml_value(one)},\n" for one in value) + "]"
    return text


def leaves(tasks: list[Done]) -> bool:
    """True where some path leaves the folder from which it is seen."""
    paths = [
        *(one.path for task in tasks for one in task.inputs),
        *(one for task in tasks for one in task.outputs.values()),
    ]
    return any(path.startswith("../") or path.startswith("/") for path in paths if not is_database(path))


# ------------------------------------------------------------------ provenance


def provenance(tasks: list[Done], file: str) -> dict[str, Any]:
    """The history in the W3C's PROV-JSON.

    References
    ----------
    W3C Member Submission, The PROV-JSON Serialization (2013).
    """
    entity: dict[str, Any] = {}
    activity: dict[str, Any] = {}
    used: dict[str, Any] = {}
    generated: dict[str, Any] = {}
    associated: dict[str, Any] = {}

    def name_of(path: str, task: str) -> str:
        key = f"file:{path}" if path else f"table:{task}"
        entity.setdefault(key, {"prov:label": path or task, **({"prov:location": path} if path else {})})
        return key

    for task in tasks:
        number = f"task:{task.id}"
        activity[number] = {"prov:label": task.word, "prov:type": f"lomrix:{task.word}",
                            "lomrix:summary": str(task.entry.get("summary", ""))}  # fmt: skip
        associated[f"_:a{len(associated)}"] = {"prov:activity": number, "prov:agent": "lomrix:program"}
        for one in task.inputs:
            key = name_of(one.path, one.task)
            if one.hash:
                entity[key]["lomrix:hash"] = one.hash
            used[f"_:u{len(used)}"] = {"prov:activity": number, "prov:entity": key, "prov:role": one.role}
        for role, path in (task.outputs or {TABLE: ""}).items():
            key = name_of(path, task.id)
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
