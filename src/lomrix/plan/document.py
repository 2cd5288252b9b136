"""The document of a plan: TOML, its parameters filled in, and where in it each thing stands."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lomrix.core.errors import FileError, SettingError, UsageError
from lomrix.core.wording import worded
from lomrix.files.file_source import require_file
from lomrix.files.staging import guarded

STEPS, PARAMETERS, OUTSIDE = "steps", "parameters", "allow_outside"
TOP = (STEPS, PARAMETERS, OUTSIDE)
HEADER = re.compile(r"^\s*\[\[?")
STEP_HEADER = re.compile(r"^\s*\[\[\s*steps\s*\]\]")
# Settings that are called otherwise in a plan, since a step's own name has that key.
OTHERWISE = {"name": "score_name"}
NAME = re.compile(r"[A-Za-z][A-Za-z0-9_-]*")


def said_in_plan(name: str, value: str) -> str:
    """A setting in a message, as a plan has it.

    Examples
    --------
    >>> said_in_plan("expect", "one-to-one"), said_in_plan("key", "")
    ('expect = "one-to-one"', 'key')
    """
    name = OTHERWISE.get(name, name)
    return f'{name} = "{value}"' if value else name


def in_words(text: str) -> str:
    """A message of the core in the words of a plan."""
    return worded(text, said_in_plan)


@dataclass(frozen=True)
class Document:
    """A plan as it was written.

    Parameters
    ----------
    path
        Its file.
    text
        Its text.
    steps
        Each step's keys and values, parameters filled in.
    allow_outside
        Whether paths may leave the plan's folder.
    """

    path: Path
    text: str
    steps: tuple[Mapping[str, Any], ...]
    allow_outside: bool = False

    def place(self, number: int, key: str = "") -> str:
        """Where a step, or one of its keys, stands: file, line and column.

        Parameters
        ----------
        number
            Which step, counted from 0.
        key
            One of its keys; the step itself where empty.
        """
        at = -1
        for line, text in enumerate(self.text.splitlines(), start=1):
            if STEP_HEADER.match(text):
                at += 1
                if at == number and not key:
                    return f"{self.path.name}, line {line}"
            elif at == number:
                found = re.match(rf"\s*\"?{re.escape(key)}\"?\s*=", text) if key else None
                if found:
                    return f"{self.path.name}, line {line}, column {len(text) - len(text.lstrip()) + 1}"
                if HEADER.match(text):
                    break
        return self.place(number) if key else self.path.name

    def error(self, number: int, key: str, what: str, todo: str = "") -> UsageError:
        """An error of one step."""
        return UsageError(in_words(what), where=self.place(number, key), todo=in_words(todo))

    def setting_error(self, number: int, error: UsageError) -> UsageError:
        """A step's own error, with its place."""
        key = OTHERWISE.get(error.name, error.name) if isinstance(error, SettingError) else ""
        told = self.error(number, key, error.what, error.todo)
        told.where = "; ".join(part for part in (told.where, error.where) if part)
        return told


def read_document(path: Path, said: Mapping[str, str]) -> Document:
    """Read a plan's file and fill in its parameters.

    Parameters
    ----------
    path
        A .toml file.
    said
        Values of parameters that go before those in the file.

    Raises
    ------
    FileError
        Where it is not there or no TOML; the line is named.
    UsageError
        Where it has no steps, unknown parts, or a parameter that was not declared.
    """
    require_file(path)
    raw: bytes = guarded(path, "read", path.read_bytes)
    try:
        text = raw.decode("utf-8-sig")
        content = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise FileError(f"The plan {path.name} is no TOML.", where=str(error), todo="Mend the line.") from error
    strange = [key for key in content if key not in TOP]
    if strange:
        raise UsageError(
            f"A plan has no part {strange[0]}.",
            where=path.name,
            todo=f"Its parts are [[steps]], [parameters] and {OUTSIDE}.",
        )
    steps = content.get(STEPS, [])
    if not isinstance(steps, list) or not steps or not all(isinstance(step, dict) for step in steps):
        raise UsageError(
            f"The plan {path.name} has no steps.", todo='A step begins with [[steps]] and says name and do = "…".'
        )
    values = parameters(path, content.get(PARAMETERS, {}), said)
    filled = tuple({key: filled_in(value, values) for key, value in step.items()} for step in steps)
    if not isinstance(content.get(OUTSIDE, False), bool):
        raise UsageError(f"{OUTSIDE} is true or false, without quotation marks.", where=path.name)
    return Document(path, text, filled, bool(content.get(OUTSIDE, False)))


def parameters(path: Path, declared: object, said: Mapping[str, str]) -> dict[str, str]:
    """The parameters' values: as they were said, else as the plan has them."""
    if not isinstance(declared, dict):
        raise UsageError("[parameters] is a table of names and values.", where=path.name)
    for name in said:
        if name not in declared:
            known = ", ".join(declared) or "none"
            raise UsageError(f"The plan has no parameter {name}.", where=path.name, todo=f"Its parameters are {known}.")
    for name in declared:
        if name == "measure" or not NAME.fullmatch(name):
            raise UsageError(f"A parameter cannot be called {name}.", where=path.name, todo="Give it another name.")
    return {name: said.get(name, str(value)) for name, value in declared.items()}


def filled_in(value: Any, values: Mapping[str, str]) -> Any:
    """A value with the parameters in it; other braces, as headers have them, are left alone.

    Examples
    --------
    >>> filled_in(["raw/sleep_{wave}.csv", "{measure}_m{month}"], {"wave": "12"})
    ['raw/sleep_12.csv', '{measure}_m{month}']
    """
    if isinstance(value, str):
        for name, text in values.items():
            value = value.replace("{" + name + "}", text)
        return value
    if isinstance(value, list):
        return [filled_in(one, values) for one in value]
    return value
