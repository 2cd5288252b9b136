"""History: the tasks that a table comes from, as a graph in which each task stands once."""

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
    """Tasks by their id, each naming the ids of the tasks that made its inputs.

    Parameters
    ----------
    tasks
        Entries as plain values, earlier ones first.
    last
        Id of the task that made the table; empty where nothing is known.
    """

    tasks: Mapping[str, Entry] = field(default_factory=dict)
    last: str = ""

    def __len__(self) -> int:
        return len(self.tasks)

    def to_json(self) -> dict[str, object]:
        """The history as plain values."""
        return {"last": self.last, "tasks": {name: dict(entry) for name, entry in self.tasks.items()}}

    @classmethod
    def from_json(cls, found: object) -> History:
        """A history from plain values, as far as they are one; steps in a row, as they once were kept, become tasks."""
        if isinstance(found, list):
            history = cls()
            for entry in found:
                if isinstance(entry, dict):
                    history = extended([history], entry)
            return history
        if not isinstance(found, dict) or not isinstance(found.get("tasks"), dict):
            return cls()
        tasks = {str(name): entry for name, entry in found["tasks"].items() if isinstance(entry, dict)}
        last = found.get("last", "")
        return cls(tasks, last if last in tasks else "")


NO_HISTORY = History()


def extended(histories: Sequence[History], entry: Entry) -> History:
    """The histories of some tables with the task that made one of them all.

    Parameters
    ----------
    histories
        Of the tables that went in; tasks that several share are kept once.
    entry
        The task as plain values. Its id is a hash of it, so that one task has one id in every file.
    """
    tasks = {name: one for history in histories for name, one in history.tasks.items()}
    text = json.dumps(entry, sort_keys=True, ensure_ascii=False, default=str)
    own = hashlib.blake2b(text.encode(), digest_size=ID_LETTERS // 2).hexdigest()
    tasks.pop(own, None)
    return History({**tasks, own: entry}, own)
