"""The study file: what holds for every command in a folder, said once in `study.toml`."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lomrix.core.errors import FileError, UsageError
from lomrix.core.nearest import advice
from lomrix.core.steps.step import Step

NAME = "study.toml"
# What it may say: the names of options.
READING = ("dictionary", "missing_text", "type", "delimiter", "decimal", "encoding")
SETTINGS = ("case", "occasion", "key", "missing_code", "date_form")
KEYS = (*READING, *SETTINGS)
MOST_FOLDERS = 20
EXAMPLE = """# What holds for every command in this folder and below. Each line is an option, and the command
# line goes first. Take the sign # away where a line is right. Switched off by --no-study.
{lines}"""
LINES = {
    "dictionary": ('"dictionary.toml"', "labels, codes and missing codes of the variables"),
    "case": ('"id"', "whom a row is of"),
    "occasion": ('"month"', "when it was measured"),
    "missing_text": ('["n/a", "."]', "texts that stand for a missing cell"),
    "type": ('["visit=date:%d/%m/%Y"]', "types and forms of dates, where a file has such a column"),
    "decimal": ('","', "the sign before decimal places"),
    "missing_code": ('["-9"]', "codes for deliveries"),
}


@dataclass(frozen=True)
class Study:
    """A study file.

    Parameters
    ----------
    path
        Where it stands; None where there is none.
    said
        What it says.
    used
        Which of it counted for a command.
    """

    path: Path | None = None
    said: Mapping[str, Any] = field(default_factory=dict)
    used: tuple[str, ...] = ()

    @property
    def line(self) -> str:
        """What is told of it; empty where nothing of it counted."""
        if self.path is None or not self.used:
            return ""
        told = ", ".join(f"{name} {shown(self.said[name])}" for name in self.used)
        return f"{os.path.relpath(self.path)}: {told}"


def shown(value: object) -> str:
    """A value as it is told."""
    return " ".join(map(str, value)) if isinstance(value, list) else str(value)


def found_study(reference: str) -> Study:
    """The study file in the folder of a source, or in one above it.

    Raises
    ------
    FileError
        Where it is no TOML.
    UsageError
        Where it says what no study file can say; the nearest right word is named.
    """
    path = Path(reference.partition("#")[0]) if "://" not in reference and reference != "-" else Path("x")
    folder = path.resolve().parent
    for one in [folder, *folder.parents][:MOST_FOLDERS]:
        place = one / NAME
        if place.is_file():
            return Study(place, read(place))
    return Study()


def read(path: Path) -> dict[str, Any]:
    """What a study file says."""
    try:
        said = tomllib.loads(path.read_bytes().decode("utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError) as error:
        raise FileError(
            f"The study file {path} cannot be understood.", where=str(error), todo="Mend the line."
        ) from error
    for key, value in said.items():
        if key not in KEYS:
            todo = advice(key, KEYS, f"It can say {', '.join(KEYS)}.")
            raise UsageError(f"The study file says {key}, which it cannot.", where=str(path), todo=todo)
        if not isinstance(value, str) and not (isinstance(value, list) and all(isinstance(one, str) for one in value)):
            raise UsageError(f"{key} in the study file is no text and no list of texts.", where=str(path))
    return said


def with_study(step: type[Step], given: dict[str, Any], references: Sequence[str], study: Study) -> Study:
    """Fill in what the command line left open; returns the study with what of it counted.

    Parameters
    ----------
    step
        What is done.
    given
        Options by name; those that say nothing are filled in.
    references
        The sources, which must have a column for its type to count.
    study
        The study file.
    """
    used = []
    for name, value in study.said.items():
        is_setting = name in SETTINGS and name in step.model_fields
        if not (is_setting or name in READING) or given.get(name) not in (None, "", [], default_of(step, name)):
            continue
        if isinstance(value, list) and not isinstance(given.get(name), list):
            raise UsageError(f"{name} in the study file is one value, not a list.", where=str(study.path))
        filled = value
        if name == "dictionary" and study.path is not None:
            filled = os.path.relpath(study.path.parent / str(value))
        if name == "type":
            names = columns_of(references)
            filled = [one for one in (value if isinstance(value, list) else [value]) if one.partition("=")[0] in names]
        if filled:
            many = isinstance(given.get(name), list)
            given[name] = [filled] if many and isinstance(filled, str) else filled
            used.append(name)
    return Study(study.path, study.said, tuple(used))


def default_of(step: type[Step], name: str) -> object:
    """The default of a setting, as an option has it."""
    if name == "decimal":
        return "."
    found = step.model_fields.get(name)
    default = found.get_default() if found is not None else ""
    return list(default) if isinstance(default, tuple) else default


def columns_of(references: Sequence[str]) -> set[str]:
    """The names of the columns of some sources."""
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import source_of

    return {name for one in references if one != "-" for name in source_of(one, ReadSettings()).names}


def example(**said: str) -> str:
    """A study file to start from.

    Parameters
    ----------
    said
        What is known already, as TOML has it; the other lines are comments.
    """
    lines = []
    for name, (value, told) in LINES.items():
        line = f"{name} = {said.get(name, value)}"
        lines.append(f"{line if name in said else '# ' + line}  # {told}")
    return EXAMPLE.format(lines="\n".join(lines) + "\n")
