"""The task: a step, what its inputs and outputs refer to, and how files are read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.errors import SettingError
from lomrix.core.steps.step import Step
from lomrix.files.database.reference import is_database
from lomrix.files.missing_words import InCells
from lomrix.files.reading import ReadingOptions
from lomrix.files.registry import path_and_sheet

# What the step's table is called among the outputs; the others have the names of the step's extras.
TABLE = "out"


@dataclass(frozen=True)
class Task:
    """One step with its files. A command line is one task; a plan is a list of them.

    Parameters
    ----------
    step
        What is done.
    inputs
        By role, references of what goes in: files, sheets, or `-` for standard input.
    reading
        How files are read.
    outputs
        References of what comes out: `out` for the table, and extras by their names. Without any the task is a
        rehearsal.
    overwrite
        Whether files that are there may be replaced.
    rehearses
        Whether outputs are checked and told of, and not written.
    missing
        What stands in the missing cells of a text file whose reason has no code.
    """

    step: Step
    inputs: Mapping[str, tuple[str, ...]]
    reading: ReadingOptions = field(default_factory=ReadingOptions)
    outputs: Mapping[str, str] = field(default_factory=dict)
    overwrite: bool = False
    rehearses: bool = False
    missing: InCells = "empty"

    def __post_init__(self) -> None:
        for role in self.step.roles:
            if role.needed and not self.inputs.get(role.name):
                raise SettingError(role.name, f"No ‹{role.name}› was given.", todo=f"Name it: {role.help}")
        for extra in self.step.gives:
            if extra.needed and not self.outputs.get(extra.name):
                raise SettingError(extra.name, f"No ‹{extra.name}› was given.", todo=f"Name it: {extra.help}")

    @property
    def wanted(self) -> frozenset[str]:
        """Names of the extras that are asked for."""
        return frozenset(name for name in self.outputs if name != TABLE)

    @property
    def files(self) -> list[Path]:
        """The files that it names as its inputs."""
        return [path_and_sheet(one)[0] for many in self.inputs.values() for one in many if not is_database(one)]

    @property
    def is_rehearsal(self) -> bool:
        """True where nothing is written: extras that make no sense without the table do not count."""
        needed = {extra.name for extra in self.step.gives if extra.needed}
        return not set(self.outputs) - needed
