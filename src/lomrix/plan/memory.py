"""What earlier runs of a plan made: steps by what they were made of, in a folder beside the plan.

The folder `.lomrix` holds one record for each step that was done, named by a hash of its settings, of the version, and
of all that went into it; and the tables of steps that wrote no file. A record is believed only where the files it names
have the hashes it says. Everything in it can be thrown away.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any, cast

from lomrix.core.errors import LomrixError
from lomrix.core.table.history import NO_HISTORY, History
from lomrix.core.table.table import Table
from lomrix.files.hashing import file_hash
from lomrix.files.staging import FileSink

FOLDER = ".lomrix"
FORM = 1
LARGEST = 2 << 30
MOST_RECORDS = 2_000
MOST_TASKS = 20_000


@dataclass(frozen=True)
class Record:
    """What one step made.

    Parameters
    ----------
    name, key
        The step, and the hash of what it was made of.
    files
        By path, the hash of each file that it wrote.
    table
        Hash of its table in the folder; empty where it stands in a file.
    rows_in, rows_out, left_out
        Numbers for the account of the plan.
    places
        Tables of databases that it wrote.
    tasks
        Of its table in the folder, each task behind it by id, and the hash of what is known of the task.
    form
        Of the record itself.
    """

    name: str
    key: str
    files: Mapping[str, str] = field(default_factory=dict)
    table: str = ""
    rows_in: int = 0
    rows_out: int = 0
    left_out: int = 0
    places: Sequence[str] = ()
    tasks: Sequence[tuple[str, str]] = ()
    form: int = FORM


class Memory:
    """The folder.

    Parameters
    ----------
    folder
        Where the plan stands.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder / FOLDER

    def record(self, key: str) -> Record | None:
        """What is known under a key; None where nothing is, or it cannot be understood."""
        try:
            found = json.loads((self.folder / f"{key}.json").read_bytes())
            record = Record(**found)
        except (OSError, ValueError, TypeError):
            return None
        sound = record.form == FORM and record.key == key and isinstance(record.files, dict)
        return record if sound else None

    def stands(self, record: Record) -> bool:
        """True where all that a record names is there, byte for byte."""
        try:
            return all(file_hash(Path(path)) == told for path, told in record.files.items())
        except OSError:
            return False

    def table(self, record: Record) -> Table | None:
        """The table of a step that wrote no file; None where it is not there any more, or damaged."""
        from lomrix.files.reading import ReadSettings
        from lomrix.files.registry import source_of

        path = self.folder / f"{record.key}.arrow"
        try:
            if not record.table or file_hash(path) != record.table:
                return None
            table = source_of(str(path), ReadSettings()).read().table
            tasks = {name: self._task(content) for name, content in record.tasks}
            return replace(table, history=History(tasks, record.tasks[-1][0] if record.tasks else ""))
        except (OSError, ValueError, LomrixError):
            return None

    def _task(self, content: str) -> Mapping[str, Any]:
        """An entry of a history by the hash of its text.

        Raises
        ------
        ValueError
            Where the file holds something else.
        """
        text = (self.folder / f"{content}.task").read_bytes()
        if hash_of(text) != content:
            raise ValueError(f"{content} is damaged")
        entry: Mapping[str, Any] = json.loads(text)
        return entry

    def _keep_tasks(self, history: History) -> list[tuple[str, str]]:
        """Write each entry of a history, which many tables share, into one file; the last task comes last."""
        kept = []
        for name, entry in sorted(history.tasks.items(), key=lambda one: one[0] == history.last):
            text = json.dumps(entry, ensure_ascii=False, default=str).encode()
            kept.append((name, content := hash_of(text)))
            if not (self.folder / f"{content}.task").exists():
                self._write(f"{content}.task", text)
        return kept

    def keep(self, record: Record, table: Table | None) -> None:
        """Remember a step; a disk that says no costs only the time of the next run."""
        with contextlib.suppress(OSError, LomrixError):
            self.folder.mkdir(mode=0o700, exist_ok=True)
            told = asdict(record)
            if table is not None:
                from lomrix.files.registry import sink_of

                part = self.folder / f".{secrets.token_hex(8)}.arrow"
                # Raw files may be closed to others; what was made of them is no more open.
                sink = replace(cast(FileSink, sink_of(str(part))), owner_only=True)
                # A long chain of steps would else hold each of its tasks as often as it has steps.
                sink.stage(replace(table, history=NO_HISTORY))
                sink.commit()
                told["tasks"] = self._keep_tasks(table.history)
                told["table"] = file_hash(part)
                part.replace(self.folder / f"{record.key}.arrow")
            self._write(f"{record.key}.json", json.dumps(told).encode())
            self._bound()

    def _write(self, name: str, content: bytes) -> None:
        part = self.folder / f".{secrets.token_hex(8)}.part"
        part.write_bytes(content)
        part.replace(self.folder / name)

    def made(self) -> dict[str, set[str]]:
        """By path, the hashes that files had when a plan wrote them: such files may be replaced."""
        found: dict[str, set[str]] = {}
        for path in self.folder.glob("*.json") if self.folder.is_dir() else ():
            record = self.record(path.stem)
            for name, told in record.files.items() if record is not None else ():
                found.setdefault(name, set()).add(told)
            for place in record.places if record is not None else ():
                found.setdefault(place, set())
        return found

    def _bound(self) -> None:
        """Throw away the oldest tables and records where there are too many."""
        tables = sorted(self.folder.glob("*.arrow"), key=lambda path: path.stat().st_mtime, reverse=True)
        total = 0
        for path in tables:
            total += path.stat().st_size
            if total > LARGEST:
                path.unlink(missing_ok=True)
        tasks = sorted(self.folder.glob("*.task"), key=lambda path: path.stat().st_mtime, reverse=True)
        for path in tasks[MOST_TASKS:]:
            path.unlink(missing_ok=True)
        records = sorted(self.folder.glob("*.json"), key=lambda path: path.stat().st_mtime, reverse=True)
        for path in records[MOST_RECORDS:]:
            path.unlink(missing_ok=True)

    def used(self, record: Record) -> None:
        """A record that was used is not the oldest any more."""
        for suffix in (".json", ".arrow"):
            with contextlib.suppress(OSError):
                os.utime(self.folder / f"{record.key}{suffix}")


def key_of(parts: Mapping[str, Any]) -> str:
    """The hash of all that a step is made of."""
    text = json.dumps(parts, sort_keys=True, ensure_ascii=False, default=str)
    return hash_of(text.encode())


def hash_of(content: bytes) -> str:
    """The hash of some bytes."""
    return hashlib.blake2b(content, digest_size=16).hexdigest()
