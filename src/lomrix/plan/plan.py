"""The plan: steps that are checked as a whole before the first byte is read."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, get_args

from lomrix.core.errors import UsageError
from lomrix.core.nearest import advise
from lomrix.core.steps.registry import ENTRIES, find_entry
from lomrix.core.steps.step import Step
from lomrix.core.table.header import natural_key
from lomrix.core.wording import to_utf8
from lomrix.files.database.reference import Reference, is_database, is_url, strip_password
from lomrix.files.folder import list_files
from lomrix.files.missing import InCells
from lomrix.files.object_store import is_object
from lomrix.files.reading import ReadingOptions
from lomrix.files.registry import FORMATS, is_folder, list_worksheets, split_sheet
from lomrix.job.budget import RunningOptions
from lomrix.job.lineage import STEP_PREFIX
from lomrix.job.task import TABLE, Task
from lomrix.plan.document import NAME, PLAN_NAMES, RUNNING, Document
from lomrix.plan.expectations import EXPECTATIONS, Expectations

# Keys that every step has.
COMMON_KEYS = ("name", "do", "from", "missing", TABLE)
STREAM_NAME = "-"


@dataclass(frozen=True)
class PlannedStep:
    """One step of a plan."""

    name: str
    number: int
    task: Task
    expects: Expectations
    needs: tuple[str, ...] = ()
    raw: tuple[str, ...] = ()


@dataclass(frozen=True)
class Plan:
    """Steps, each after those it needs."""

    document: Document
    steps: Mapping[str, PlannedStep] = field(default_factory=dict)

    @property
    def raw_files(self) -> list[str]:
        """Every file that the plan reads and does not make."""
        return list(dict.fromkeys(path for step in self.steps.values() for path in step.raw))

    def select(self, until: str = "", from_step: str = "") -> Plan:
        """Select the steps that lead to one, or those that follow from one with what they need."""
        for name in filter(None, (until, from_step)):
            if name not in self.steps:
                raise unknown_step_error(name, list(self.steps))
        selected = set(self.steps)
        if until:
            selected = self._list_needed({until})
        if from_step:
            following = {from_step}
            for name, step in self.steps.items():
                following |= {name} if set(step.needs) & following else set()
            selected &= self._list_needed(following)
        return Plan(self.document, {name: step for name, step in self.steps.items() if name in selected})

    def _list_needed(self, names: set[str]) -> set[str]:
        needed = set(names)
        for name in reversed(list(self.steps)):
            if name in needed:
                needed |= set(self.steps[name].needs)
        return needed


def unknown_step_error(name: str, names: Sequence[str]) -> UsageError:
    """The error for an unknown step, with the nearest names."""
    return UsageError(f"The plan has no step {name}.", todo=advise(name, names, f"Its steps are {', '.join(names)}."))


def check_plan(document: Document) -> Plan:
    """Check a whole plan without reading any data."""
    drafts = [make_draft(document, number, keys) for number, keys in enumerate(document.steps)]
    numbers: dict[str, int] = {}
    for draft in drafts:
        if draft.name in numbers:
            raise document.error(draft.number, "name", f"Two steps are called {draft.name}.", "Rename one of them.")
        numbers[draft.name] = draft.number
    outputs = map_outputs(document, drafts)
    steps = {draft.name: link_step(draft, outputs, numbers) for draft in drafts}
    return Plan(document, sort_steps(document, steps))


def map_outputs(document: Document, drafts: Sequence[Draft]) -> dict[str, str]:
    """Map the path of each table that the plan writes to its step; two on one path are refused."""
    step_by_path: dict[str, str] = {}
    owner: dict[str, str] = {}
    for draft in drafts:
        for role, reference in draft.outputs.items():
            path = normalize(reference)
            if path in owner:
                what = f"{reference} would be written by {owner[path]} and by {draft.name}."
                raise document.error(draft.number, role, what, "Use a different file for each.")
            owner[path] = draft.name
            step_by_path |= {path: draft.name} if role == TABLE else {}
    return step_by_path


def normalize(reference: str) -> str:
    """Make references comparable: the real path, relative to the current folder."""
    return reference if is_url(reference) else os.path.relpath(os.path.realpath(reference))


def sort_steps(document: Document, steps: Mapping[str, PlannedStep]) -> dict[str, PlannedStep]:
    """Sort the steps so that each comes after those it needs, otherwise as they were written."""
    done: dict[str, PlannedStep] = {}
    waiting = dict(steps)
    while waiting:
        ready = next((step for step in waiting.values() if all(need in done for need in step.needs)), None)
        if ready is None:
            first = next(iter(waiting.values()))
            what = f"These steps need each other in a circle: {', '.join(waiting)}."
            raise document.error(first.number, "", what, "Let one of them read a file that none of them makes.")
        done[ready.name] = waiting.pop(ready.name)
    return done


# ---------------------------------------------------------------------- drafts


@dataclass(frozen=True)
class Draft:
    """A step whose keys are checked, and whose inputs are not linked yet."""

    document: Document
    number: int
    name: str
    step: Step
    inputs: Mapping[str, tuple[str, ...]]  # references by role
    reading: ReadingOptions
    outputs: Mapping[str, str]
    missing: InCells
    running: RunningOptions
    expects: Expectations

    def error(self, key: str, what: str, todo: str) -> UsageError:
        """Make an error about the step."""
        return self.document.error(self.number, key, what, todo)

    def find_key(self, reference: str) -> str:
        """Find the key that a reference is in."""
        for key, value in self.document.steps[self.number].items():
            if reference in (value if isinstance(value, list) else [value]):
                return key
        return ""


def make_draft(document: Document, number: int, keys: Mapping[str, Any]) -> Draft:
    """Check the keys of a step."""
    step_class = _find_step(document, number, keys)
    name = str(keys.get("name") or keys["do"])
    if not NAME.fullmatch(name):
        raise document.error(number, "name", f'"{name}" cannot be a name.', "Use letters, digits, - and _.")
    roles = [role.name for role in step_class.roles]
    outputs = [TABLE, *(extra.name for extra in step_class.gives)]
    settings = {PLAN_NAMES.get(field, field): field for field in (*step_class.model_fields, *step_class.former_names)}
    known = {*COMMON_KEYS, *roles, *outputs, *settings, *ReadingOptions.model_fields, *RUNNING, *EXPECTATIONS}
    _require_known_keys(document, number, keys, known, {"from", "missing", "dictionary", *roles, *outputs})
    with document.locating(number):
        step = step_class(**{settings[key]: value for key, value in keys.items() if key in settings})
        reading = ReadingOptions(**{key: keys[key] for key in ReadingOptions.model_fields if key in keys})
        running = RunningOptions(**{key: keys[key] for key in RUNNING if key in keys})
        expects = Expectations.from_keys(keys)
    inputs = {role: list_references(keys[role]) for role in roles if role in keys}
    if "from" in keys:
        inputs[roles[0]] = list_references(keys["from"])
    written = {role: strip_password(str(keys[role])) for role in outputs if keys.get(role)}
    if STREAM_NAME in written.values():
        raise document.error(number, TABLE, "A plan cannot write to standard output.", "Use a file.")
    missing = keys.get("missing", "empty")
    draft = Draft(document, number, name, step, inputs, reading, written, missing, running, expects)
    for role, references in inputs.items():
        _require_single(draft, role, "from" if "from" in keys and role == roles[0] else role, references)
    return draft


def _find_step(document: Document, number: int, keys: Mapping[str, Any]) -> type[Step]:
    word = keys.get("do")
    entry = find_entry(str(word))
    if entry is None:
        todo = advise(str(word), [entry.word for entry in ENTRIES], "`lomrix --help` shows the steps.")
        what = f"Unknown step {word}." if word else 'The step has no do = "…".'
        raise document.error(number, "do", what, todo)
    return entry.load()


def _require_known_keys(
    document: Document, number: int, keys: Mapping[str, Any], known: set[str], references: set[str]
) -> None:
    for key, value in keys.items():
        if key not in known:
            todo = advise(key, sorted(known), f"Use one of {', '.join(sorted(known))}.")
            raise document.error(number, key, f"{keys['do']} has no setting {key}.", todo)
        if key in references and any("\0" in text for text in list_references(value)):
            raise document.error(number, key, f"{key} holds a character that no name has.", "Write it again.")
    choices = get_args(InCells)
    if keys.get("missing", "empty") not in choices:
        what = f'missing cannot be "{keys["missing"]}".'
        raise document.error(number, "missing", what, f"Use {' or '.join(choices)}.")


def _require_single(draft: Draft, role: str, key: str, references: Sequence[str]) -> None:
    """Refuse several tables for a role that takes one."""
    takes_many = next(one.many for one in draft.step.roles if one.name == role)
    if len(references) > 1 and not takes_many:
        what = f"{draft.step.word} takes one table here, not {len(references)}."
        raise draft.error(key, what, "Use one, or stack them first.")


# --------------------------------------------------------------------- linking


def link_step(draft: Draft, result: Mapping[str, str], names: Collection[str]) -> PlannedStep:
    """Link the inputs with the steps that make them, and check the other files.

    `made` gives the step of each path that the plan writes; `names` are the names of the steps.
    """
    needs: list[str] = []
    raw: list[str] = []
    linked: dict[str, tuple[str, ...]] = {}
    secrets = [role.name for role in draft.step.roles if role.content == "secret"]
    for role, references in draft.inputs.items():
        paths = [path for reference in references for path in _expand(draft, role, reference, result, names)]
        linked[role] = tuple(f"{STEP_PREFIX}{path}" if path in names else path for path in paths)
        for path in paths:
            needed = path if path in names else result.get(normalize(path))
            if needed is not None:
                needs.append(needed)
            elif role not in secrets:
                raw.append(path)
    raw += [draft.reading.dictionary] if draft.reading.dictionary else []
    _require_inside(
        draft, [*raw, *(path for role in secrets for path in linked.get(role, ())), *draft.outputs.values()]
    )
    inputs = {normalize(path) for path in (*raw, draft.document.path.name)}
    for role, reference in draft.outputs.items():
        if normalize(reference) in inputs:
            raise draft.error(role, f"{reference} is an input; inputs are never changed.", "Use another file.")
    if draft.name in needs:
        raise draft.error("", f"{draft.name} needs itself.", "Let it read another file.")
    for path in raw:
        _require_exists(draft, path)
    with draft.document.locating(draft.number):
        task = Task(draft.step, linked, draft.reading, draft.outputs, False, False, draft.missing, draft.running)
    unique = tuple(dict.fromkeys(needs)), tuple(dict.fromkeys(raw))
    return PlannedStep(draft.name, draft.number, task, draft.expects, *unique)


def _expand(draft: Draft, role: str, reference: str, result: Mapping[str, str], names: Collection[str]) -> list[str]:
    """Expand a pattern to existing files and those that the plan makes, month 3 before month 12."""
    if reference in names:
        return [reference]
    reference = strip_password(reference)
    if is_url(reference):
        return [reference]
    reference = os.path.normpath(reference)
    if split_sheet(reference)[1]:
        return list(list_worksheets(reference))
    if "*" not in reference or Path(reference).exists():
        return [reference]
    if not any(one.many for one in draft.step.roles if one.name == role) and not any(
        map(has_pattern(reference), result)
    ):
        return [reference]  # one table of all its files
    paths = [] if Path(reference).is_absolute() else [str(path) for path in Path().glob(reference)]
    paths += [path for path in result if Path(path).match(reference) and path not in paths]
    if not paths:
        key = role if role in draft.document.steps[draft.number] else "from"
        raise draft.error(key, f"No files matched {reference}.", "Check the folder and the pattern.")
    _require_single(draft, role, draft.find_key(reference), paths)
    return sorted(paths, key=natural_key)


def has_pattern(pattern: str) -> Callable[[str], bool]:
    """Return a test of whether a path fits a pattern."""
    return lambda path: Path(path).match(pattern)


def _require_inside(draft: Draft, references: Sequence[str]) -> None:
    """Refuse paths outside the plan's folder."""
    for reference in references if not draft.document.allow_outside else ():
        if is_object(reference):
            continue
        path = Reference.parse(reference).path if is_database(reference) else Path(os.path.normpath(reference))
        if path is None:
            continue
        resolved = Path(os.path.realpath(split_sheet(str(path))[0]))
        if path.is_absolute() or not resolved.is_relative_to(os.path.realpath(".")):
            todo = "Copy the file into it, or write allow_outside = true at the top."
            raise draft.error(draft.find_key(reference), f"{reference} leaves the plan's folder.", todo)


def _require_exists(draft: Draft, reference: str) -> None:
    """Stop if a file does not exist, naming the nearest."""
    if is_url(reference):
        return
    path, _ = split_sheet(reference)
    if is_folder(reference):
        list_files(reference, FORMATS)
        return
    if to_utf8(str(path)) != str(path):
        what = f"The name of {to_utf8(str(path))} is not UTF-8, and a plan records the names of its files."
        raise draft.error(draft.find_key(reference), what, "Rename the file.")
    if not path.exists():
        files = [str(path.parent / file.name) for file in path.parent.iterdir()] if path.parent.is_dir() else []
        steps = [str(keys.get("name") or keys.get("do")) for keys in draft.document.steps]
        todo = advise(str(path), [*files, *steps], "It is neither a file nor the name of a step.")
        raise draft.error(draft.find_key(reference), f"The file {reference} does not exist.", todo)


def list_references(value: Any) -> tuple[str, ...]:
    """Return one or several references as a tuple."""
    return tuple(map(str, value)) if isinstance(value, list) else (str(value),)
