"""Memory that runs out: wherever that happens, one plain error."""

from __future__ import annotations

import contextlib
import re
import resource
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import FileError, LomrixError

# What libraries say that have no error of their own for it.
WORDS = re.compile(r"alloc of size \d+ failed|start new thread|bad_alloc|Cannot allocate memory")
ASKED = re.compile(r"alloc of size (\d+)|allocate ([\d.]+) ([KMGT])iB")
UNITS = "KMGT"
USED_UP = 0.9


class OutOfMemoryError(FileError):
    """There was not enough memory."""


@dataclass
class Doing:
    """What is being done; called, it passes the words on and keeps them."""

    tell: Callable[[str], None]
    words: str = "starting"

    def __call__(self, words: str) -> None:
        """Note what begins."""
        self.words = words
        self.tell(words)


def ran_out(error: BaseException) -> bool:
    """True where an error, or one that caused it, is a want of memory, or is one of ours while memory is used up."""
    return any(
        isinstance(one, MemoryError) or (not isinstance(one, LomrixError) and (WORDS.search(str(one)) or is_used_up()))
        for one in causes(error)
    )


def is_used_up() -> bool:
    """True where this process has had nearly all the memory that it may have: anything may fail then, in any way."""
    limit, _ = resource.getrlimit(resource.RLIMIT_AS)
    if limit == resource.RLIM_INFINITY:
        return False
    try:
        found = re.search(r"VmPeak:\s*(\d+)", Path("/proc/self/status").read_text(encoding="utf-8"))
    except (OSError, MemoryError):
        return True
    return found is not None and int(found[1]) * 1024 > USED_UP * limit


def causes(error: BaseException) -> list[BaseException]:
    """An error and those that caused it; some name themselves as their cause."""
    found: list[BaseException] = []
    cause: BaseException | None = error
    while cause is not None and cause not in found:
        found.append(cause)
        cause = cause.__cause__
    return found


@contextlib.contextmanager
def memory_watched(doing: Doing, files: Callable[[], Sequence[Path]]) -> Iterator[None]:
    """Name what was being done, and with which files, where memory runs out.

    Raises
    ------
    OutOfMemoryError
        In place of whatever told that memory ran out.
    """
    try:
        yield
    except Exception as error:
        if isinstance(error, OutOfMemoryError) or not ran_out(error):
            raise
        raise out_of_memory(error, doing.words, files()) from error


def out_of_memory(error: BaseException, doing: str, files: Sequence[Path] = ()) -> OutOfMemoryError:
    """The error that tells it: what was being done, what was needed, and what would need less."""
    used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    need = [
        f"{in_bytes(used)} of memory in use",
        *([f"{in_bytes(size)} more was needed"] if (size := asked(error)) else []),
    ]
    return OutOfMemoryError(
        f"There is not enough memory for {doing}. Nothing was written.",
        where="; ".join([*sizes_of(files), ", ".join(need)]),
        todo="Close other programs, allow more memory, or first write a smaller file, with fewer columns or rows, "
        "by ‹columns› or ‹where›; .parquet and .csv need less than .xlsx.",
    )


def sizes_of(files: Sequence[Path]) -> list[str]:
    """How large some files are, in words."""
    return [f"{path.name} has {in_bytes(path.stat().st_size)} on disk" for path in files if path.is_file()]


def asked(error: BaseException) -> int:
    """How many bytes could not be had; 0 where that was not told."""
    for one in causes(error):
        if found := ASKED.search(str(one)):
            return int(found[1]) if found[1] else int(float(found[2]) * 1024 ** (UNITS.index(found[3]) + 1))
    return 0


def in_bytes(count: int) -> str:
    """A count of bytes in MB, or GB, for a person."""
    return f"{count / 1e9:,.1f} GB" if count >= 1e9 else f"{max(count / 1e6, 0.1):,.1f} MB"
