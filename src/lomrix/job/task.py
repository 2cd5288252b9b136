"""The task: a step, what its inputs and outputs refer to, and how files are read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from lomrix.core.errors import SettingError
from lomrix.core.steps.settings import advise_to_add
from lomrix.core.steps.step import Step
from lomrix.files.database.reference import is_url
from lomrix.files.missing import InCells
from lomrix.files.reading import ReadingOptions
from lomrix.files.registry import list_worksheets, split_sheet
from lomrix.job.budget import RunningOptions

# The role of the table among the outputs; other roles have the names of the step's extras.
TABLE = "out"


@dataclass(frozen=True)
class Task:
    """One step with its files. A command line is one task; a plan is a list of them."""

    step: Step
    inputs: Mapping[str, tuple[str, ...]]
    reading: ReadingOptions = field(default_factory=ReadingOptions)
    outputs: Mapping[str, str] = field(default_factory=dict)
    overwrite: bool = False
    rehearses: bool = False
    missing: InCells = "empty"
    running: RunningOptions = field(default_factory=RunningOptions)

    def __post_init__(self) -> None:
        several = {role.name for role in self.step.roles if role.many}
        inputs = {
            name: tuple(sheet for reference in references for sheet in list_worksheets(reference))
            if name in several
            else references
            for name, references in self.inputs.items()
        }
        object.__setattr__(self, "inputs", inputs)
        for role in self.step.roles:
            if role.needed and not self.inputs.get(role.name):
                todo = advise_to_add(role.name, role.metavar, role.help)
                raise SettingError(role.name, f"‹{role.name}› is required.", todo=todo)
        for extra in self.step.gives:
            if extra.needed and not self.outputs.get(extra.name):
                todo = advise_to_add(extra.name, "FILE", extra.help)
                raise SettingError(extra.name, f"‹{extra.name}› is required.", todo=todo)

    @property
    def requested_extras(self) -> frozenset[str]:
        """Names of the extras that are requested."""
        return frozenset(name for name in self.outputs if name != TABLE)

    @property
    def files(self) -> list[Path]:
        """The files that are named as inputs."""
        return [
            split_sheet(reference)[0]
            for references in self.inputs.values()
            for reference in references
            if not is_url(reference)
        ]

    @property
    def is_rehearsal(self) -> bool:
        """True if nothing is written; extras that only make sense with the table do not count."""
        needed = {extra.name for extra in self.step.gives if extra.needed}
        return not set(self.outputs) - needed
