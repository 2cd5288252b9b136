"""History: the tasks that made a table, as a graph in which each task occurs once."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

Entry = Mapping[str, Any]
ID_LETTERS = 16


@dataclass(frozen=True)
class History:
    """Tasks by id, earlier ones first, each naming the ids of the tasks that made its inputs.

    `last` is the id of the task that made the table; empty if unknown.
    """

    tasks: Mapping[str, Entry] = field(default_factory=dict)
    last: str = ""

    def __len__(self) -> int:
        return len(self.tasks)

    def to_json(self) -> dict[str, object]:
        """Return the history as plain values."""
        return {"last": self.last, "tasks": {name: dict(entry) for name, entry in self.tasks.items()}}

    @classmethod
    def from_json(cls, content: object) -> History:
        """Return a history from plain values, as far as they are valid; an old list of steps becomes tasks."""
        if isinstance(content, list):
            history = cls()
            for entry in content:
                if isinstance(entry, dict):
                    history = extend_history([history], entry)
            return history
        if not isinstance(content, dict) or not isinstance(content.get("tasks"), dict):
            return cls()
        tasks = {str(name): entry for name, entry in content["tasks"].items() if isinstance(entry, dict)}
        last = content.get("last", "")
        return cls(tasks, last if isinstance(last, str) and last in tasks else "")


NO_HISTORY = History()


def extend_history(histories: Sequence[History], entry: Entry) -> History:
    """Join the histories of the input tables and add the task that used them.

    Its id is a hash of it, so that one task has the same id in every file.
    """
    tasks = {name: entry_of_task for history in histories for name, entry_of_task in history.tasks.items()}
    text = json.dumps(entry, sort_keys=True, ensure_ascii=False, default=str)
    task_id = hashlib.blake2b(text.encode(), digest_size=ID_LETTERS // 2).hexdigest()
    tasks.pop(task_id, None)
    return History({**tasks, task_id: entry}, task_id)
