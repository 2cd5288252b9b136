"""Worker processes: the parts of a step are shared out among them, and come back in their order."""

from __future__ import annotations

import multiprocessing
import os
import secrets
import signal
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from multiprocessing.process import BaseProcess
from pathlib import Path
from types import TracebackType
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
        pending: deque[tuple[Path, Future[bytes]]] = deque()
        for values in arguments:
            path = self.scratch.make_path()
            pending.append((path, self.executor.submit(work, send((function, values), path), path)))
            if len(pending) > self.count:
                yield self.receive_result(*pending.popleft(), keeps=keeps)
        while pending:
            yield self.receive_result(*pending.popleft(), keeps=keeps)

    def receive_result(self, path: Path, result: Future[bytes], *, keeps: bool) -> Any:
        """Return what a worker sent; unless it is kept, its files are removed, and readable where they are mapped."""
        try:
            value = receive(result.result())
        except BrokenProcessPool as error:
            raise OutOfMemoryError(
                "A worker process was ended by the system, probably since memory ran out. Nothing was written.",
                todo="Use fewer ‹workers›, or less ‹memory›.",
            ) from error
        for file in path.parent.glob(f"{path.name}*") if not keeps else ():
            file.unlink(missing_ok=True)
        return value

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        workers = list(self.processes.values())
        self.executor.shutdown(wait=kind is None, cancel_futures=True)
        for worker in workers if kind is not None else ():
            worker.kill()
            worker.join()


def begin_worker(count: int) -> None:
    """Prepare a process to work beside others, and to end with the one that began it."""
    import pyarrow as pa

    end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    pa.set_cpu_count(max((os.cpu_count() or 1) // count, 1))


def work(content: bytes, path: Path) -> bytes:
    """Apply a function that another process sent; each try writes to a file of its own beside the path."""
    function, values = receive(content)
    result = send(function(*values), path.with_name(f"{path.name}-{secrets.token_hex(4)}"))
    del values
    release_memory()
    return result
