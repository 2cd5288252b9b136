"""The study file: settings for every command in a folder, in `study.toml`."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lomrix.core.errors import FileError, UsageError
from lomrix.core.nearest import advise
from lomrix.core.steps.step import Step
from lomrix.job.budget import RunningOptions

if TYPE_CHECKING:
    from lomrix.files.interface import Source

FILE_NAME = "study.toml"
# Names of the options that it may set.
READING = ("dictionary", "missing_text", "type", "delimiter", "decimal", "encoding")
RUNNING = tuple(RunningOptions.model_fields)
SETTINGS = ("case", "occasion", "key", "missing_code", "date_form")
KEYS = (*READING, *SETTINGS, *RUNNING)
MAX_FOLDERS = 20
EXAMPLE = """# Settings for every command in this folder and below. Each line is an option; options on the command
# line take precedence. Remove the # from the lines that apply. Ignored with --no-study.
{lines}"""
LINES = {
    "dictionary": ('"dictionary.toml"', "labels, codes and missing codes of the variables"),
    "case": ('"id"', "column that identifies the case"),
    "occasion": ('"month"', "column of the occasion"),
    "missing_text": ('["n/a", "."]', "texts that mean a missing cell"),
    "type": ('["visit=date:%d/%m/%Y"]', "types and date formats, for files with such a column"),
    "decimal": ('","', "decimal separator"),
    "missing_code": ('["-9"]', "codes for deliveries"),
    "memory": ('"4GB"', "work in parts beyond this much memory"),
    "workers": ("4", "number of parts to work on at once"),
}


@dataclass(frozen=True)
class Study:
    """A study file: its path, its values, and which of them applied to a command."""

    path: Path | None = None
    values: Mapping[str, Any] = field(default_factory=dict)
    applied: tuple[str, ...] = ()

    @property
    def summary(self) -> str:
        """What of it applied, in a line; empty if nothing did."""
        if self.path is None or not self.applied:
            return ""
        values = ", ".join(f"{name} {format_value(self.values[name])}" for name in self.applied)
        return f"{os.path.relpath(self.path)}: {values}"


def format_value(value: object) -> str:
    """Format a value."""
    return " ".join(map(str, value)) if isinstance(value, list) else str(value)


def find_study(reference: str) -> Study:
    """Find the study file in the folder of a source, or in one above it."""
    path = Path(reference.partition("#")[0]) if "://" not in reference and reference != "-" else Path("x")
    folder = path.resolve().parent
    for parent in [folder, *folder.parents][:MAX_FOLDERS]:
        path_ = parent / FILE_NAME
        if path_.is_file():
            return Study(path_, read_study(path_))
    return Study()


def read_study(path: Path) -> dict[str, Any]:
    """Read and check a study file."""
    try:
        values = tomllib.loads(path.read_bytes().decode("utf-8"))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, OSError) as error:
        raise FileError(f"The study file {path} is not valid.", where=str(error), todo="Correct the line.") from error
    for key, value in values.items():
        if key not in KEYS:
            todo = advise(key, KEYS, f"Use one of {', '.join(KEYS)}.")
            raise UsageError(f"A study file has no setting {key}.", where=str(path), todo=todo)
        is_number = key in RUNNING and type(value) is int
        is_list = isinstance(value, list) and all(isinstance(item, str) for item in value)
        if not isinstance(value, str) and not is_list and not is_number:
            raise UsageError(f"{key} in the study file must be a string or a list of strings.", where=str(path))
    return values


def apply_study(step: type[Step], given: dict[str, Any], references: Sequence[str], study: Study) -> Study:
    """Fill in options that the command line leaves open; returns the study with those that applied."""
    applied = []
    sources = open_sources(references) if {*READING} & {*study.values} else []
    # Standard input may be of any format.
    of_files = {name for source in sources for name in source.options_used}
    used = of_files if "-" not in references else {*READING}
    for name, value in study.values.items():
        beside = step.in_study_beside.get(name, name)
        is_setting = (
            name in SETTINGS and name in step.model_fields and bool(given.get(beside) or beside in study.values)
        )
        if not (is_setting or name in used or name in RUNNING) or given.get(name) not in (
            None,
            "",
            [],
            get_default(step, name),
        ):
            continue
        if isinstance(value, list) and not isinstance(given.get(name), list):
            raise UsageError(f"{name} in the study file must be one value, not a list.", where=str(study.path))
        filled = value
        if name in ("dictionary", "cluster_tls") and study.path is not None:
            filled = os.path.relpath(study.path.parent / str(value))
        if name == "type":
            names = {name for source in sources for name in source.names}
            filled = [
                item for item in (value if isinstance(value, list) else [value]) if item.partition("=")[0] in names
            ]
        if filled:
            is_list = isinstance(given.get(name), list)
            given[name] = [filled] if is_list and isinstance(filled, str) else filled
            applied.append(name)
    return Study(study.path, study.values, tuple(applied))


def get_default(step: type[Step], name: str) -> object:
    """Return the default of a setting, as an option has it."""
    if name == "decimal":
        return "."
    if name in RUNNING:
        return RunningOptions.model_fields[name].default
    field_ = step.model_fields.get(name)
    default = field_.get_default() if field_ is not None else ""
    return list(default) if isinstance(default, tuple) else default


def open_sources(references: Sequence[str]) -> list[Source]:
    """Open some sources, as far as they are not standard input."""
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import open_source

    return [open_source(reference, ReadSettings()) for reference in references if reference != "-"]


def format_example(**values: str) -> str:
    """Format a study file to start from; the lines that are not given are comments."""
    lines = []
    for name, (value, comment) in LINES.items():
        line = f"{name} = {values.get(name, value)}"
        lines.append(f"{line if name in values else '# ' + line}  # {comment}")
    return EXAMPLE.format(lines="\n".join(lines) + "\n")
