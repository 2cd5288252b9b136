"""Running out of memory: one plain error, wherever it happens."""

from __future__ import annotations

import contextlib
import ctypes
import re
import resource
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from lomrix.core.errors import FileError, LomrixError

# Messages of libraries that have no exception of their own for this.
PATTERN = re.compile(r"alloc of size \d+ failed|start new thread|bad_alloc|Cannot allocate memory")
SIZE_PATTERN = re.compile(r"alloc of size (\d+)|allocate ([\d.]+) ([KMGT])iB")
UNITS = "KMGT"
USED_UP = 0.9


class OutOfMemoryError(FileError):
    """There was not enough memory."""


class ReportStage(Protocol):
    """Reports what is being done: a new stage, or how much of it is done, as a share of 1."""

    def __call__(self, words: str, share: float = 0.0) -> None:
        """Report it."""


@dataclass
class CurrentStage:
    """What is being done; calling it reports and remembers a stage."""

    report: ReportStage
    stage: str = "starting"

    def __call__(self, words: str, share: float = 0.0) -> None:
        """Report and remember it."""
        self.stage = words
        self.report(words, share)


def is_out_of_memory(error: BaseException) -> bool:
    """Is an error, or one that caused it, about memory, or raised while memory is used up?"""
    return any(
        isinstance(cause, MemoryError)
        or (not isinstance(cause, LomrixError) and (PATTERN.search(str(cause)) or is_memory_used_up()))
        for cause in list_causes(error)
    )


def is_memory_used_up() -> bool:
    """Has this process used nearly all the memory that it may?"""
    limit, _ = resource.getrlimit(resource.RLIMIT_AS)
    if limit == resource.RLIM_INFINITY:
        return False
    try:
        peak = re.search(r"VmPeak:\s*(\d+)", Path("/proc/self/status").read_text(encoding="utf-8"))
    except (OSError, MemoryError):
        return True
    return peak is not None and int(peak[1]) * 1024 > USED_UP * limit


def list_causes(error: BaseException) -> list[BaseException]:
    """List an error and those that caused it, guarding against cycles."""
    chain: list[BaseException] = []
    cause: BaseException | None = error
    while cause is not None and cause not in chain:
        chain.append(cause)
        cause = cause.__cause__
    return chain


@contextlib.contextmanager
def watch_memory(current: CurrentStage, files: Callable[[], Sequence[Path]]) -> Iterator[None]:
    """Turn errors about memory into one that names the stage and the files."""
    try:
        yield
    except Exception as error:
        if isinstance(error, OutOfMemoryError) or not is_out_of_memory(error):
            raise
        raise make_memory_error(error, current.stage, files()) from error


def make_memory_error(error: BaseException, doing: str, files: Sequence[Path] = ()) -> OutOfMemoryError:
    """Make the error: what was being done, what was needed, and what would need less."""
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    memory = [
        f"{format_bytes(peak)} of memory in use",
        *([f"{format_bytes(size)} more was needed"] if (size := find_requested_size(error)) else []),
    ]
    return OutOfMemoryError(
        f"There is not enough memory for {doing}. Nothing was written.",
        where="; ".join([*describe_sizes(files), ", ".join(memory)]),
        todo="Close other programs, allow more memory, or first write a smaller file with ‹columns› or ‹where›. "
        ".parquet and .csv files need less memory than .xlsx.",
    )


def describe_sizes(files: Sequence[Path]) -> list[str]:
    """Describe the sizes of files."""
    return [f"{path.name} has {format_bytes(path.stat().st_size)} on disk" for path in files if path.is_file()]


def find_requested_size(error: BaseException) -> int:
    """Find how many bytes were requested; 0 where the error does not say."""
    for cause in list_causes(error):
        if match := SIZE_PATTERN.search(str(cause)):
            return int(match[1]) if match[1] else int(float(match[2]) * 1024 ** (UNITS.index(match[3]) + 1))
    return 0


def release_memory() -> None:
    """Give back to the system what the libraries keep for later."""
    import pyarrow as pa

    pa.default_memory_pool().release_unused()
    with contextlib.suppress(OSError, AttributeError):  # only the C library of Linux has it
        ctypes.CDLL(None).malloc_trim(0)


def format_bytes(count: int) -> str:
    """Format a number of bytes as MB or GB."""
    return f"{count / 1e9:,.1f} GB" if count >= 1e9 else f"{max(count / 1e6, 0.1):,.1f} MB"
