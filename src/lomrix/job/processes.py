"""Processes that belong together."""

import ctypes
import signal

PARENT_DIED = 1  # PR_SET_PDEATHSIG


def end_with_parent() -> None:
    """Let the system end this process if the one that began it ends."""
    ctypes.CDLL(None).prctl(PARENT_DIED, signal.SIGKILL)
