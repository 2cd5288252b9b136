"""The plan: steps that are checked as a whole before the first byte is read."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, get_args

from pydantic import ValidationError

from lomrix.core.errors import UsageError
from lomrix.core.nearest import advice
from lomrix.core.steps.registry import ENTRIES, find_entry
from lomrix.core.steps.settings import explain_validation_error
from lomrix.core.steps.step import Step
from lomrix.core.table.header import natural_key
from lomrix.core.wording import to_utf8
from lomrix.files.database.reference import Reference, is_database, strip_password
from lomrix.files.missing import InCells
from lomrix.files.reading import ReadingOptions
from lomrix.files.registry import split_sheet
from lomrix.job.lineage import STEP_PREFIX
from lomrix.job.task import TABLE, Task
from lomrix.plan.document import NAME, PLAN_NAMES, Document
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
    return UsageError(f"The plan has no step {name}.", todo=advice(name, names, f"Its steps are {', '.join(names)}."))


def check_plan(document: Document) -> Plan:
    """Check a whole plan without reading any data."""
    drafts = [Draft.of(document, number, keys) for number, keys in enumerate(document.steps)]
    numbers: dict[str, int] = {}
    for draft in drafts:
        if draft.name in numbers:
            raise document.error(draft.number, "name", f"Two steps are called {draft.name}.", "Give one another name.")
        numbers[draft.name] = draft.number
    outputs = map_outputs(document, drafts)
    steps = {draft.name: draft.step(outputs, numbers) for draft in drafts}
    return Plan(document, ordered(document, steps))


def map_outputs(document: Document, drafts: Sequence[Draft]) -> dict[str, str]:
    """Map the path of each table that the plan writes to its step; two on one path are refused."""
    step_by_path: dict[str, str] = {}
    owner: dict[str, str] = {}
    for draft in drafts:
        for role, reference in draft.outputs.items():
            path = normalize(reference)
            if path in owner:
                what = f"{reference} would be written by {owner[path]} and by {draft.name}."
                raise document.error(draft.number, role, what, "Name a different file for each.")
            owner[path] = draft.name
            step_by_path |= {path: draft.name} if role == TABLE else {}
    return step_by_path


def normalize(reference: str) -> str:
    """Make references comparable: the real path, relative to the current folder."""
    return reference if is_database(reference) else os.path.relpath(os.path.realpath(reference))


def ordered(document: Document, steps: Mapping[str, PlannedStep]) -> dict[str, PlannedStep]:
    """The steps in an order in which each comes after those it needs, else as they were written.

    Raises UsageError if steps need each other in a circle.
    """
    done: dict[str, PlannedStep] = {}
    left = dict(steps)
    while left:
        ready = next((step for step in left.values() if all(need in done for need in step.needs)), None)
        if ready is None:
            first = next(iter(left.values()))
            what = f"These steps need each other in a circle: {', '.join(left)}."
            raise document.error(first.number, "", what, "Let one of them read a file that none of them makes.")
        done[ready.name] = left.pop(ready.name)
    return done


@dataclass(frozen=True)
class Draft:
    """A step on its way: its words sorted, its inputs not linked yet."""

    document: Document
    number: int
    name: str
    made: Step
    inputs: Mapping[str, tuple[str, ...]]
    reading: ReadingOptions
    outputs: Mapping[str, str]
    missing: Any
    expects: Expectations

    @classmethod
    def of(cls, document: Document, number: int, keys: Mapping[str, Any]) -> Draft:
        """Sort the words of a step."""
        word = keys.get("do")
        entry = find_entry(str(word))
        if entry is None:
            todo = advice(str(word), [one.word for one in ENTRIES], "`lomrix --help` shows the steps.")
            raise document.error(number, "do", f"Unknown step {word}." if word else "A step says what to do.", todo)
        step = entry.load()
        name = str(keys.get("name") or word)
        if not NAME.fullmatch(name):
            raise document.error(
                number, "name", f'"{name}" cannot be a name.', "Letters, digits, - and _, a letter first."
            )
        roles = {role.name for role in step.roles}
        outputs = {TABLE, *(extra.name for extra in step.gives)}
        settings = {PLAN_NAMES.get(field, field): field for field in (*step.model_fields, *step.former_names)}
        known = {*COMMON_KEYS, *roles, *outputs, *settings, *ReadingOptions.model_fields, *EXPECTATIONS}
        for key in keys:
            if key not in known:
                todo = advice(key, sorted(known), f"It knows {', '.join(sorted(known))}.")
                raise document.error(number, key, f"{word} has no setting {key}.", todo)
        try:
            made = step(**{settings[key]: value for key, value in keys.items() if key in settings})
        except UsageError as error:
            raise document.setting_error(number, error) from error
        try:
            reading = ReadingOptions(**{key: keys[key] for key in ReadingOptions.model_fields if key in keys})
        except ValidationError as error:
            raise document.setting_error(
                number, explain_validation_error(error, ReadingOptions.model_fields)
            ) from error
        except UsageError as error:
            raise document.setting_error(number, error) from error
        try:
            expects = Expectations.from_keys(keys)
        except UsageError as error:
            raise document.setting_error(number, error) from error
        inputs = {role: (role, listed(keys[role])) for role in roles if role in keys}
        if "from" in keys:
            inputs[step.roles[0].name] = ("from", listed(keys["from"]))
        for key, value in keys.items():
            texts = listed(value) if key in {"from", "missing", *roles, *outputs} else ()
            if any("\0" in text for text in texts):
                raise document.error(number, key, f"{key} holds a sign that no name has.", "Write it again.")
        if keys.get("missing", "empty") not in get_args(InCells):
            raise document.error(
                number, "missing", f'missing cannot be "{keys["missing"]}".', f"It is {' or '.join(get_args(InCells))}."
            )
        written = {role: strip_password(str(keys[role])) for role in outputs if keys.get(role)}
        if STREAM_NAME in written.values():
            raise document.error(number, TABLE, "A plan writes nothing to standard output.", "Name a file.")
        draft = cls(
            document, number, name, made, {role: references for role, (_, references) in inputs.items()}, reading,
            written, keys.get("missing", "empty"), expects,
        )  # fmt: skip
        for role, (key, references) in inputs.items():
            draft.require_one(role, key, references)
        return draft

    def require_one(self, role: str, key: str, references: Sequence[str]) -> None:
        """Stop where several tables are named for a role that takes one."""
        many = next(one.many for one in self.made.roles if one.name == role)
        if len(references) > 1 and not many:
            what = f"{self.made.word} takes one table here, and {len(references)} are named."
            raise self.document.error(self.number, key, what, "Name one, or stack them first.")

    def step(self, made: Mapping[str, str], names: Mapping[str, int]) -> PlannedStep:
        """Link the inputs with the steps that make them, and find the files of the others."""
        needs: list[str] = []
        raw: list[str] = []
        linked: dict[str, tuple[str, ...]] = {}
        secret = {role.name for role in self.made.roles if role.content == "secret"}
        secrets = [one for name in secret for one in self.inputs.get(name, ())]
        for role, references in self.inputs.items():
            found: list[str] = []
            for reference in references:
                if reference in names:
                    needs.append(reference)
                    found.append(STEP_PREFIX + reference)
                    continue
                spread = self.spread(role, reference, made)
                self.require_one(role, self.key_of(reference), spread)
                for path in spread:
                    place = normalize(path)
                    if place in made:
                        needs.append(made[place])
                    elif role not in secret:
                        raw.append(path)
                    found.append(path)
            linked[role] = tuple(found)
        raw += [self.reading.dictionary] if self.reading.dictionary else []
        self.require_inside([*raw, *secrets, *self.outputs.values()])
        for role, reference in self.outputs.items():
            if normalize(reference) in {normalize(path) for path in (*raw, self.document.path.name)}:
                raise self.document.error(self.number, role, f"{reference} is an input; inputs are never changed.",
                                          "Name another file.")  # fmt: skip
        if self.name in needs:
            raise self.document.error(self.number, "", f"{self.name} needs itself.", "Let it read another file.")
        for path in raw:
            self.require_there(path)
        try:
            task = Task(self.made, linked, self.reading, self.outputs, False, False, self.missing)
        except UsageError as error:
            raise self.document.setting_error(self.number, error) from error
        return PlannedStep(
            self.name, self.number, task, self.expects, tuple(dict.fromkeys(needs)), tuple(dict.fromkeys(raw))
        )

    def spread(self, role: str, reference: str, made: Mapping[str, str]) -> list[str]:
        """The files that a pattern fits, month 3 before month 12, those among them that the plan makes."""
        reference = strip_password(reference)
        if is_database(reference):
            return [reference]
        reference = os.path.normpath(reference)
        if "*" not in reference or Path(reference).exists():
            return [reference]
        there = [] if Path(reference).is_absolute() else [str(path) for path in Path().glob(reference)]
        there += [path for path in made if Path(path).match(reference) and path not in there]
        if not there:
            raise self.document.error(self.number, role if role in self.document.steps[self.number] else "from",
                                      f"No file fits {reference}.", "Look at the folder and the pattern.")  # fmt: skip
        return sorted(there, key=natural_key)

    def require_inside(self, references: Sequence[str]) -> None:
        """Stop where a path leaves the plan's folder."""
        if self.document.allow_outside:
            return
        for reference in references:
            path = Reference.parse(reference).path if is_database(reference) else Path(os.path.normpath(reference))
            if path is None:
                continue
            place = Path(os.path.realpath(split_sheet(str(path))[0]))
            if path.is_absolute() or not place.is_relative_to(os.path.realpath(".")):
                raise self.document.error(self.number, self.key_of(reference), f"{reference} leaves the plan's folder.",
                                          "Bring the file in, or say allow_outside = true at the top.")  # fmt: skip

    def require_there(self, reference: str) -> None:
        """Stop where a file is not there, naming the nearest."""
        if is_database(reference):
            return
        path, _ = split_sheet(reference)
        if to_utf8(str(path)) != str(path):
            what = f"The name of {to_utf8(str(path))} is no UTF-8, and a plan keeps the names of its files."
            raise self.document.error(self.number, self.key_of(reference), what, "Give the file another name.")
        if path.exists():
            return
        names = [str(path.parent / one.name) for one in path.parent.iterdir()] if path.parent.is_dir() else []
        todo = advice(str(path), [*names, *self.names()], "It is neither a file nor the name of a step.")
        raise self.document.error(self.number, self.key_of(reference), f"The file {reference} does not exist.", todo)

    def names(self) -> list[str]:
        """The names of all steps."""
        return [str(keys.get("name") or keys.get("do")) for keys in self.document.steps]

    def key_of(self, reference: str) -> str:
        """The key in which a reference stands."""
        for key, value in self.document.steps[self.number].items():
            if reference in (value if isinstance(value, list) else [value]):
                return key
        return ""


def listed(value: Any) -> tuple[str, ...]:
    """One reference or several."""
    return tuple(map(str, value)) if isinstance(value, list) else (str(value),)
