"""The memory budget: how much a task may use, how much it will need, and so whether it works in parts."""

from __future__ import annotations

import re
import resource
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field, ModelWrapValidatorHandler, ValidationError, model_validator

from lomrix.core.errors import IdleSettingError, UsageError
from lomrix.core.steps.settings import Setting, explain_validation_error, parsed_by
from lomrix.core.steps.step import Step, require
from lomrix.job.memory import OutOfMemoryError, format_bytes

UNITS = {"MB": 10**6, "GB": 10**9, "TB": 10**12}
LEAST = 50 * UNITS["MB"]
# A table that needs less is done sooner than several processes have begun.
WORTHWHILE = UNITS["GB"]
# Part of the free memory that is used where nothing is stated.
DEFAULT_SHARE = 0.5
# Part of the budget that a part may take: some partitions are larger than others.
SHARE_OF_PARTS = 0.85
# Parts that a worker of a cluster gets, so that none waits long for another.
PARTS_PER_WORKER = 2
# Memory that a worker takes before it works on anything.
WORKER_SIZE = 80 * UNITS["MB"]
# Limit and use of a container's memory, in the newer and in the older layout.
CGROUP = Path("/sys/fs/cgroup")
CGROUP_FILES = (
    ("memory.max", "memory.current"),
    ("memory/memory.limit_in_bytes", "memory/memory.usage_in_bytes"),
)


def parse_memory(text: str) -> int:
    """Parse a size such as 4GB or 500 MB as bytes.

    Raises UsageError if it is none, or too small to work with.

    >>> parse_memory("1.5 GB")
    1500000000
    """
    match = re.fullmatch(r"(\d+(?:\.\d+)?)\s*(MB|GB|TB)", text.strip(), re.IGNORECASE)
    if match is None:
        raise UsageError(f'"{text}" is not a size.', todo="Use ‹memory=4GB› or ‹memory=500MB›.")
    size = int(float(match[1]) * UNITS[match[2].upper()])
    if size < LEAST:
        raise UsageError(f"{text} is too little memory to work with.", todo=f"Use at least {format_bytes(LEAST)}.")
    return size


class RunningOptions(BaseModel):
    """How a task is run; none of it changes a result."""

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    memory: Annotated[
        str, parsed_by(parse_memory), Setting("Work in parts beyond this much memory (half of what is free).", "SIZE")
    ] = ""
    scratch: Annotated[str, Setting("Folder for tables that are larger than that (the temporary one).", "FOLDER")] = ""
    cluster: Annotated[str, Setting("Work on a Dask cluster: tcp://host:8786, or its scheduler file.", "ADDRESS")] = ""
    cluster_tls: Annotated[
        str, Setting("TOML file with ca, cert and key: the certificates for a tls:// cluster.", "FILE")
    ] = ""
    workers: Annotated[
        int, Field(ge=1, le=1000), Setting("Number of parts to work on at once, each in a process.", "N")
    ] = 1

    @model_validator(mode="wrap")
    @classmethod
    def _in_plain_words(cls, given: Any, handler: ModelWrapValidatorHandler[Any]) -> Any:
        try:
            return handler(given)
        except ValidationError as error:
            raise explain_validation_error(error, cls.model_fields) from error

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.workers == 1 or not self.cluster, "workers", "‹workers› and ‹cluster› exclude each other.",
                "A cluster has its own workers: leave ‹workers› out.", IdleSettingError)  # fmt: skip
        require(self.cluster or not self.cluster_tls, "cluster_tls", "‹cluster_tls› requires ‹cluster›.",
                "Add ‹cluster=tls://host:8786›.")  # fmt: skip
        return self


def find_free_memory() -> int:
    """Return the bytes that this process may still use: of the machine, its container, and its own limit."""
    import psutil

    free = [int(psutil.virtual_memory().available)]
    for limit, used in CGROUP_FILES:
        try:
            free.append(int((CGROUP / limit).read_text()) - int((CGROUP / used).read_text()))
        except (OSError, ValueError):  # no such file, or no limit
            continue
    own, _ = resource.getrlimit(resource.RLIMIT_AS)
    if own != resource.RLIM_INFINITY:
        free.append(own - int(psutil.Process().memory_info().vms))
    return max(min(free), 0)


def find_allowed_memory(options: RunningOptions) -> int:
    """Return the bytes that may be used."""
    return parse_memory(options.memory) if options.memory else find_free_memory()


@dataclass(frozen=True)
class Input:
    """An input as far as it is known before it is read: name, rows, bytes that a row takes in memory, and whether it is
    one of those that are divided.
    """

    name: str
    rows: int
    row_size: int
    is_first: bool = True

    @property
    def size(self) -> int:
        """Bytes that it takes."""
        return self.rows * self.row_size


@dataclass(frozen=True)
class Way:
    """How a task is run: with its tables on disk or in memory, all rows at once or some of the first input; `fits` is
    True if it would have enough memory for all.
    """

    on_disk: bool = False
    rows_at_once: int | None = None
    fits: bool = False


def choose_rows(inputs: Sequence[Input], memory: int, workers: int = 0) -> int:
    """Return how many rows of the inputs are a part, given the bytes that it may use (0: any), and how many workers
    share the parts.
    """
    divided = [known for known in inputs if known.is_first]
    rows = sum(known.rows for known in divided)
    even = -(-rows // (PARTS_PER_WORKER * workers)) if workers else rows
    row_size = max((known.row_size for known in divided), default=1)
    return max(min(even, int(memory * SHARE_OF_PARTS) // row_size if memory else even), 1000)


def choose_way(options: RunningOptions, inputs: Sequence[Input], step: Step, *, divides: bool) -> Way:
    """Choose the way that stays within the memory budget.

    Raises OutOfMemoryError if there is none.
    """
    need = sum(known.size for known in inputs)
    if need < LEAST and not options.memory:
        return Way()
    free = find_allowed_memory(options)
    budget = int(free * DEFAULT_SHARE) if not options.memory else free
    fits = need <= (budget if divides or options.memory else free)
    has_workers = divides and options.workers > 1 and (need >= WORTHWHILE or not fits)
    if fits and not has_workers:
        return Way()
    if divides:
        # What the other inputs take stays in memory beside each part.
        others = sum(known.size for known in inputs if not known.is_first)
        others += WORKER_SIZE * options.workers if has_workers else 0
        for_parts = max(budget - others, budget // 4) // options.workers
        return Way(True, choose_rows(inputs, for_parts, options.workers if has_workers else 0), fits)
    if step.row_size_on_disk:
        need = sum(known.rows for known in inputs) * step.row_size_on_disk
        if need <= free:
            return Way(True)
    raise shortage(inputs, step, need, free)


def shortage(inputs: Sequence[Input], step: Step, need: int, free: int) -> OutOfMemoryError:
    """Return the error that a step needs more memory than it may use."""
    largest = max(inputs, key=lambda known: known.size)
    return OutOfMemoryError(
        f"There is not enough memory for {step.word} with these settings, which needs all rows at once. "
        "Nothing was written.",
        where=f"about {format_bytes(need)} are needed, {format_bytes(free)} may be used; "
        f"{largest.name} has about {largest.rows:,} rows",
        todo="Allow more with ‹memory=SIZE›, or first write a smaller file: `lomrix subset` works in parts with "
        "‹columns› and ‹where›.",
    )
