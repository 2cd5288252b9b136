"""A process that watches over the one at work: what libraries of machine code do to it is told in plain words.

A library that gets no memory, or meets a damaged file, may end the whole process, where no `except` helps.
"""

from __future__ import annotations

import os
import re
import resource
import signal
import sys
from collections.abc import Callable

MEMORY = re.compile(rb"emory|thread|failed to map|must be installed for unwinding")
FATAL = {signal.SIGABRT, signal.SIGSEGV, signal.SIGBUS, signal.SIGILL, signal.SIGFPE, signal.SIGKILL}
PARENT_DIED = 1  # PR_SET_PDEATHSIG
LONGEST = 1000
# A file that the watching process reads; -1 where nobody watches.
_doing = -1


def supervised(work: Callable[[], int]) -> int:
    """Do some work in a process of its own.

    Parameters
    ----------
    work
        Returns an exit status.

    Returns
    -------
    That status; 3 where the process could not end by itself.
    """
    # Machine code writes its last words to this file, a person reads ours.
    global _doing
    last_words, _doing = os.memfd_create("last words"), os.memfd_create("what is done")
    child = os.fork()
    if child == 0:
        end_with_parent()
        sys.stderr = os.fdopen(os.dup(2), "w", encoding=sys.stderr.encoding, errors=sys.stderr.errors, buffering=1)
        os.dup2(last_words, 2)
        os._exit(work())
    if any("://" in word and "@" in word for word in sys.argv):
        # The list of processes would show other users a password.
        from setproctitle import setproctitle

        setproctitle("lomrix")
    # A key press reaches both; a request to end reaches this one only.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda number, frame: os.kill(child, number))
    _, ended = os.waitpid(child, 0)
    status = os.waitstatus_to_exitcode(ended)
    said = os.pread(last_words, 10_000, 0)
    if status == 127 or -status in FATAL or (status == 1 and MEMORY.search(said)):
        tell_end(status, said, os.pread(_doing, LONGEST, 0).decode(errors="replace").strip())
        return 3
    return status if status >= 0 else 128 - status


def tell_watcher(words: str) -> None:
    """Say what is being done, for the case that this process does not end by itself."""
    if _doing >= 0:
        os.pwrite(_doing, words.encode(errors="replace")[:LONGEST].ljust(LONGEST), 0)


def end_with_parent() -> None:
    """Let the system end this process where the one that watches it is killed."""
    import ctypes

    ctypes.CDLL(None).prctl(PARENT_DIED, signal.SIGKILL)


def tell_end(status: int, said: bytes, doing: str) -> None:
    """Say why the process is gone, and what it was doing."""
    words = said.decode(errors="replace").strip().splitlines()
    name = signal.strsignal(-status) if status < 0 else ""
    how = " ".join(filter(None, [f"{name}:" if name and words else name, words[-1] if words else ""]))
    where = "; ".join(filter(None, [doing, how]))
    is_limited = resource.getrlimit(resource.RLIMIT_AS)[0] != resource.RLIM_INFINITY
    if status in (1, 127, -signal.SIGKILL) or MEMORY.search(said) or is_limited:
        what = "There is not enough memory. What was not finished was not written."
        todo = "Close other programs, allow more memory, or work on a smaller file."
    else:
        what = "A library that reads files ended the program. What was not finished was not written."
        todo = "An input may be damaged: check that each was copied whole. Or memory ran out: then allow more."
    for label, text in (("error", what), ("where", where), ("next", todo)):
        if text:
            print(f"{label:<6} {text}", file=sys.stderr)
