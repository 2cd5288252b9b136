"""Threads: columns are worked on at once, by as many threads as this process may have."""

from __future__ import annotations

import _thread
import contextlib
import itertools
import queue
import threading
from collections import deque
from collections.abc import Callable, Generator, Iterable
from typing import Any, Generic, TypeVar

import pyarrow as pa

T = TypeVar("T")
# Threads beside those that wait for work to be done; work within work shares them.
_helpers = threading.Semaphore(max(pa.cpu_count() - 1, 0))


class Work(Generic[T]):
    """A function being applied to some values, by whoever takes the next one."""

    def __init__(self, function: Callable[..., T], values: list[tuple[Any, ...]]) -> None:
        self.function, self.values = function, values
        self.results: list[Any] = [None] * len(values)
        self.errors: dict[int, BaseException] = {}
        self.numbers = itertools.count()
        self.finished: queue.SimpleQueue[None] = queue.SimpleQueue()

    def do_next(self) -> bool:
        """Do what comes next, unless something failed; return False if nothing is left."""
        index = next(self.numbers)
        if index >= len(self.values):
            return False
        try:
            if not self.errors:
                self.results[index] = self.function(*self.values[index])
        except BaseException as error:  # raised where the work is waited for
            self.errors[index] = error
        finally:
            self.finished.put(None)
        return True

    def help(self) -> None:
        """Do what is left, in a thread of its own."""
        try:
            while self.do_next():
                pass
        finally:
            _helpers.release()

    def start_helper(self) -> bool:
        """Start a helper if one is free; without memory for a thread there is none.

        A thread of Python's own that finds no memory would be waited for without end.
        """
        if not _helpers.acquire(blocking=False):
            return False
        try:
            _thread.start_new_thread(self.help, ())
        except RuntimeError:
            _helpers.release()
            return False
        return True


def map_in_threads(function: Callable[..., T], *values: Iterable[Any], most: int = 1000) -> list[T]:
    """Apply a function to values in as many threads as PyArrow uses, at most `most`: each takes memory of its
    own. The results are in order.
    """
    count = min(pa.cpu_count(), most)
    if count == 1:
        return list(map(function, *values))
    work = Work(function, list(zip(*values, strict=False)))
    left, helpers = len(work.values) - 1, 0
    while True:
        if left > 0 and helpers < count - 1:
            helpers += work.start_helper()
        left -= 1
        if not work.do_next():
            break
    for _ in work.values:
        work.finished.get()
    if work.errors:
        raise work.errors[min(work.errors)]
    return work.results


class Part(Generic[T]):
    """One result that a thread prepares, or else whoever needs it."""

    def __init__(self, function: Callable[..., T], arguments: tuple[Any, ...]) -> None:
        self.function, self.arguments = function, arguments
        self.is_taken, self.finished = threading.Lock(), threading.Event()
        self.result: Any = None
        self.error: BaseException | None = None
        with contextlib.suppress(RuntimeError):  # no memory for a thread
            _thread.start_new_thread(self.make, ())

    def make(self) -> None:
        """Make the result, unless somebody does or did."""
        if not self.is_taken.acquire(blocking=False):
            return
        try:
            self.result = self.function(*self.arguments)
        except BaseException as error:  # raised where the result is needed
            self.error = error
        finally:
            self.finished.set()

    def cancel(self) -> None:
        """Keep it from being made, or wait until whoever does has ended."""
        if not self.is_taken.acquire(blocking=False):
            self.finished.wait()

    def get(self) -> T:
        """Return the result, or raise the error that came instead."""
        self.make()
        self.finished.wait()
        if self.error is not None:
            raise self.error
        result: T = self.result
        return result


def run_ahead(function: Callable[..., T], arguments: Iterable[tuple[Any, ...]], ahead: int) -> Generator[T, None, None]:
    """Apply a function to the arguments of parts, and yield the results in their order, while threads prepare those of
    the next ones.
    """
    waiting: deque[Part[T]] = deque()
    try:
        for values in arguments:
            waiting.append(Part(function, values))
            if len(waiting) > ahead:
                yield waiting.popleft().get()
        while waiting:
            yield waiting.popleft().get()
    finally:
        for part in waiting:
            part.cancel()
