"""Worker processes: the parts of a step are shared out among them, and come back in their order."""

from __future__ import annotations

import multiprocessing
import os
import secrets
import signal
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass, field
from multiprocessing.process import BaseProcess
from pathlib import Path
from types import ModuleType, TracebackType
from typing import Any, Self

from lomrix.files.scratch import Scratch
from lomrix.files.transport import receive, send
from lomrix.job.memory import OutOfMemoryError, release_memory
from lomrix.job.processes import end_with_parent


@dataclass
class Workers:
    """Some processes that work on parts; what they send is in the scratch folder."""

    count: int
    scratch: Scratch
    executor: Executor = field(init=False)
    processes: Mapping[int, BaseProcess] = field(default_factory=dict, init=False)  # kept, as the pool forgets them

    def __enter__(self) -> Self:
        context = multiprocessing.get_context("spawn")
        pool = ProcessPoolExecutor(self.count, context, begin_worker, (self.count,))
        self.executor, self.processes = pool, pool._processes
        return self

    def run(
        self, function: Callable[..., Any], arguments: Iterable[tuple[Any, ...]], *, keeps: bool = False
    ) -> Iterator[Any]:
        """Apply a function to the arguments of each part, to as many at once as there are workers.

        Raises OutOfMemoryError if the system ends a worker.
        """
        pending: deque[tuple[Path, Future[tuple[bytes, Path]]]] = deque()
        for values in arguments:
            path = self.scratch.make_path()
            with hide_main_module():
                pending.append((path, self.executor.submit(work, send((function, values), path), path)))
            if len(pending) > self.count:
                yield self.receive_result(*pending.popleft(), keeps=keeps)
        while pending:
            yield self.receive_result(*pending.popleft(), keeps=keeps)

    def receive_result(self, sent: Path, result: Future[tuple[bytes, Path]], *, keeps: bool) -> Any:
        """Return what a worker sent; unless it is kept, its files are removed, and readable where they are mapped."""
        try:
            content, back = result.result()
            value = receive(content)
        except BrokenProcessPool as error:
            raise OutOfMemoryError(
                "A worker process was ended by the system, probably since memory ran out. Nothing was written.",
                todo="Use fewer ‹workers›, or less ‹memory›.",
            ) from error
        for path in (sent, back) if not keeps else ():
            path.unlink(missing_ok=True)
        return value

    def find_unseen(self, files: Sequence[Path], folders: Sequence[Path]) -> Path | None:
        """Return the first file or folder that a worker cannot use as this process does; None if there is none."""
        return None

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        workers = list(self.processes.values())
        self.executor.shutdown(wait=kind is None, cancel_futures=True)
        for worker in workers if kind is not None else ():
            worker.kill()
            worker.join()


@contextmanager
def hide_main_module() -> Iterator[None]:
    """Let processes that are started meanwhile not import the script that called: it would run again in each."""
    main = sys.modules["__main__"]
    sys.modules["__main__"] = ModuleType("__main__")
    try:
        yield
    finally:
        sys.modules["__main__"] = main


def begin_worker(count: int) -> None:
    """Prepare a process to work beside others, and to end with the one that began it."""
    import pyarrow as pa

    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    pa.set_cpu_count(max((os.cpu_count() or 1) // count, 1))


def work(content: bytes, sent: Path) -> tuple[bytes, Path]:
    """Apply a function that another process sent; return the result, and the file of its arrays.

    Each try writes to a file of its own beside what was sent, so that one that is cut off spoils none.
    """
    function, values = receive(content)
    path = sent.with_name(f"{sent.name}-{secrets.token_hex(4)}")
    result = send(function(*values), path)
    del values
    release_memory()
    return result, path
