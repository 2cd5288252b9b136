"""A process that supervises the one at work, so that a crash inside a library is reported in plain words."""

from __future__ import annotations

import os
import re
import resource
import signal
import sys
from collections.abc import Callable

from lomrix.job.processes import end_with_parent

MEMORY_PATTERN = re.compile(rb"emory|thread|failed to map|must be installed for unwinding")
FATAL_SIGNALS = {signal.SIGABRT, signal.SIGSEGV, signal.SIGBUS, signal.SIGILL, signal.SIGFPE, signal.SIGKILL}
MAX_STAGE = 1000
# A file that the supervisor reads; -1 without one.
_stage_file = -1


def supervise(work: Callable[[], int]) -> int:
    """Run some work in a child process and return its exit status; 3 if it crashed."""
    # Libraries write their last messages to this file; a person reads ours.
    global _stage_file
    error_file, _stage_file = os.memfd_create("last words"), os.memfd_create("what is done")
    child = os.fork()
    if child == 0:
        end_with_parent()
        sys.stderr = os.fdopen(os.dup(2), "w", encoding=sys.stderr.encoding, errors=sys.stderr.errors, buffering=1)
        os.dup2(error_file, 2)
        os._exit(work())
    if any("://" in argument and "@" in argument for argument in sys.argv):
        # Otherwise the list of processes would show other users a password.
        from setproctitle import setproctitle

        setproctitle("lomrix")
    # Ctrl-C reaches both processes, a request to end only this one.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda number, frame: os.kill(child, number))
    _, wait_status = os.waitpid(child, 0)
    status = os.waitstatus_to_exitcode(wait_status)
    output = os.pread(error_file, 10_000, 0)
    if status == 127 or -status in FATAL_SIGNALS or (status == 1 and MEMORY_PATTERN.search(output)):
        report_crash(status, output, os.pread(_stage_file, MAX_STAGE, 0).decode(errors="replace").strip())
        return 3
    return status if status >= 0 else 128 - status


def report_stage(stage: str) -> None:
    """Report the current stage to the supervising process, in case this one crashes."""
    if _stage_file >= 0:
        os.pwrite(_stage_file, stage.encode(errors="replace")[:MAX_STAGE].ljust(MAX_STAGE), 0)


def report_crash(status: int, output: bytes, stage: str) -> None:
    """Report why the process ended, and at which stage."""
    lines = output.decode(errors="replace").strip().splitlines()
    name = signal.strsignal(-status) if status < 0 else ""
    cause = " ".join(filter(None, [f"{name}:" if name and lines else name, lines[-1] if lines else ""]))
    where = "; ".join(filter(None, [stage, cause]))
    is_limited = resource.getrlimit(resource.RLIMIT_AS)[0] != resource.RLIM_INFINITY
    if status in (1, 127, -signal.SIGKILL) or MEMORY_PATTERN.search(output) or is_limited:
        what = "There is not enough memory. Unfinished outputs were not written."
        todo = "Close other programs, allow more memory, or work on a smaller file."
    else:
        what = "A library that reads files crashed. Unfinished outputs were not written."
        todo = "An input may be damaged: check that each was copied completely. If memory ran out, allow more."
    for label, text in (("error", what), ("where", where), ("next", todo)):
        if text:
            print(f"{label:<6} {text}", file=sys.stderr)
