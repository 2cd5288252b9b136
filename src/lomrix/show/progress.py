"""Progress on standard error, if work takes over a second and a person is watching."""

from __future__ import annotations

import threading
from types import TracebackType
from typing import TYPE_CHECKING, Self, TextIO

if TYPE_CHECKING:
    from rich.progress import Progress as Bar
    from rich.progress import TaskID

PATIENCE_SECONDS = 1.0


class Progress:
    """A bar over the stages of a command; nothing is drawn for quick work or without a stream."""

    def __init__(self, stages: int, stream: TextIO | None) -> None:
        self._stages, self._done, self._words = stages, 0, "starting"
        self._stream = stream
        self._lock = threading.Lock()
        self._timer: threading.Timer | None = None
        self._bar: Bar | None = None
        self._task: TaskID | None = None

    def __enter__(self) -> Self:
        if self._stream is not None:
            self._timer = threading.Timer(PATIENCE_SECONDS, self._draw)
            self._timer.daemon = True
            self._timer.start()
        return self

    def _draw(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, TextColumn, TimeElapsedColumn
        from rich.progress import Progress as Bar

        with self._lock:
            if self._timer is None:
                return
            columns = (TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn())
            self._bar = Bar(*columns, console=Console(file=self._stream), transient=True)
            self._task = self._bar.add_task(self._words, total=self._stages, completed=self._done)
            self._bar.start()

    def stage(self, description: str, share: float = 0.0) -> None:
        """Begin the next stage, or show which share of the present one is done."""
        with self._lock:
            if self._words != "starting" and not share:
                self._done += 1
            self._words = description
            if self._bar is not None and self._task is not None:
                self._bar.update(self._task, description=description, completed=self._done + share)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        with self._lock:
            timer, self._timer = self._timer, None
            if timer is not None:
                timer.cancel()
            if self._bar is not None:
                self._bar.stop()
