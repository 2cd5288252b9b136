"""The document of a plan: TOML with its parameters filled in, and the line of each key."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lomrix.core.errors import FileError, UsageError
from lomrix.core.wording import format_settings
from lomrix.files.file_source import require_file
from lomrix.files.staging import guard
from lomrix.job.budget import RunningOptions

STEPS, PARAMETERS, ALLOW_OUTSIDE = "steps", "parameters", "allow_outside"
# Settings for running that hold for every step without its own.
RUNNING = tuple(RunningOptions.model_fields)
TOP_KEYS = (STEPS, PARAMETERS, ALLOW_OUTSIDE, *RUNNING)
NOTHING: Mapping[str, str] = {}
HEADER = re.compile(r"^\s*\[\[?")
STEP_HEADER = re.compile(r"^\s*\[\[\s*steps\s*\]\]")
# Settings that have another name in a plan, where `name` is the name of the step.
PLAN_NAMES = {"name": "score_name"}
NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]*")


def format_plan_setting(name: str, value: str) -> str:
    """Format a setting as a plan writes it.

    >>> format_plan_setting("expect", "one-to-one"), format_plan_setting("key", "")
    ('expect = "one-to-one"', 'key')
    """
    if name == "overwrite":  # which is not a key, but an option of the run
        return "--overwrite"
    name = PLAN_NAMES.get(name, name)
    return f'{name} = "{value}"' if value else name


def format_plan_text(text: str) -> str:
    """Format the settings in a message of the core as a plan writes them."""
    return format_settings(text, format_plan_setting)


@dataclass(frozen=True)
class Document:
    """A plan as it was written."""

    path: Path
    text: str
    steps: tuple[Mapping[str, Any], ...]
    allow_outside: bool = False

    def locate(self, number: int, key: str = "") -> str:
        """Locate a step, or one of its keys: file, line and column."""
        index = -1
        for line, text in enumerate(self.text.splitlines(), start=1):
            if STEP_HEADER.match(text):
                index += 1
                if index == number and not key:
                    return f"{self.path.name}, line {line}"
            elif index == number:
                match = re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", text) if key else None
                if match:
                    return f"{self.path.name}, line {line}, column {len(text) - len(text.lstrip()) + 1}"
                if HEADER.match(text):
                    break
        return self.locate(number) if key else self.path.name

    def error(self, number: int, key: str, what: str, todo: str = "") -> UsageError:
        """Make an error about a step."""
        return UsageError(format_plan_text(what), where=self.locate(number, key), todo=format_plan_text(todo))

    @contextmanager
    def locating(self, number: int) -> Iterator[None]:
        """Add the location to errors about a step's settings."""
        try:
            yield
        except UsageError as error:
            located = self.error(number, PLAN_NAMES.get(error.setting, error.setting), error.what, error.todo)
            located.where = "; ".join(part for part in (located.where, error.where) if part)
            raise located from error


def read_document(path: Path, given: Mapping[str, str], running: Mapping[str, str] = NOTHING) -> Document:
    """Read a plan's file and fill in its parameters; `running` takes precedence over its own memory and scratch."""
    require_file(path)
    raw: bytes = guard(path, "read", path.read_bytes)
    try:
        text = raw.decode("utf-8-sig")
        content = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise FileError(
            f"The plan {path.name} is not valid TOML.", where=str(error), todo="Correct the line."
        ) from error
    unknown = [key for key in content if key not in TOP_KEYS]
    if unknown:
        raise UsageError(
            f"A plan has no key {unknown[0]}.",
            where=path.name,
            todo=f"Its top-level keys are [[steps]], [parameters], {', '.join((ALLOW_OUTSIDE, *RUNNING))}.",
        )
    steps = content.get(STEPS, [])
    if not isinstance(steps, list) or not steps or not all(isinstance(step, dict) for step in steps):
        raise UsageError(
            f"The plan {path.name} has no steps.", todo='Begin each step with [[steps]], name = "…" and do = "…".'
        )
    values = merge_parameters(path, content.get(PARAMETERS, {}), given)
    for_all = {key: content[key] for key in RUNNING if key in content}
    steps_filled = tuple(
        {key: fill_in(value, values) for key, value in {**for_all, **step, **running}.items()} for step in steps
    )
    if not isinstance(content.get(ALLOW_OUTSIDE, False), bool):
        raise UsageError(f"{ALLOW_OUTSIDE} must be true or false, without quotation marks.", where=path.name)
    return Document(path, text, steps_filled, bool(content.get(ALLOW_OUTSIDE, False)))


def merge_parameters(path: Path, declared: object, given: Mapping[str, str]) -> dict[str, str]:
    """Merge the parameters of the file with those given."""
    if not isinstance(declared, dict):
        raise UsageError("[parameters] must be a table of names and values.", where=path.name)
    for name in given:
        if name not in declared:
            known = ", ".join(declared) or "none"
            raise UsageError(
                f"The plan has no parameter {name}.", where=path.name, todo=f"Use one of its parameters: {known}."
            )
    for name in declared:
        if name == "measure" or not NAME.fullmatch(name):
            raise UsageError(f"A parameter cannot be called {name}.", where=path.name, todo="Rename it.")
    return {name: given.get(name, str(value)) for name, value in declared.items()}


def fill_in(value: Any, values: Mapping[str, str]) -> Any:
    """Fill the parameters into a value; other braces are kept.

    >>> fill_in(["raw/sleep_{wave}.csv", "{measure}_m{month}"], {"wave": "12"})
    ['raw/sleep_12.csv', '{measure}_m{month}']
    """
    if isinstance(value, str):
        for name, text in values.items():
            value = value.replace("{" + name + "}", text)
        return value
    if isinstance(value, list):
        return [fill_in(item, values) for item in value]
    return value
