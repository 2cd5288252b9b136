"""What earlier runs of a plan made."""

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
from lomrix.files.hashing import hash_file
from lomrix.files.staging import FileSink

FOLDER = ".lomrix"
FORMAT_VERSION = 1
MAX_BYTES = 2 << 30
MAX_RECORDS = 2_000
MAX_TASKS = 20_000


@dataclass(frozen=True)
class Record:
    """What one step made."""

    name: str
    key: str
    files: Mapping[str, str] = field(default_factory=dict)
    table: str = ""
    rows_in: int = 0
    rows_out: int = 0
    left_out: int = 0
    locations: Sequence[str] = ()
    tasks: Sequence[tuple[str, str]] = ()
    version: int = FORMAT_VERSION


class Memory:
    """The folder `.lomrix` beside a plan."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder / FOLDER

    def find_record(self, key: str) -> Record | None:
        """Find the record of a key; None if there is none or it is not valid."""
        try:
            content = json.loads((self.folder / f"{key}.json").read_bytes())
            record = Record(**content)
        except (OSError, ValueError, TypeError):
            return None
        is_valid = record.version == FORMAT_VERSION and record.key == key and isinstance(record.files, dict)
        return record if is_valid else None

    def is_current(self, record: Record) -> bool:
        """Do all files that a record names exist, byte for byte?"""
        try:
            return all(hash_file(Path(path)) == expected for path, expected in record.files.items())
        except OSError:
            return False

    def read_table(self, record: Record) -> Table | None:
        """Read the table of a step that wrote no file; None if it is missing or damaged."""
        from lomrix.files.reading import ReadSettings
        from lomrix.files.registry import open_source

        path = self.folder / f"{record.key}.arrow"
        try:
            if not record.table or hash_file(path) != record.table:
                return None
            table = open_source(str(path), ReadSettings()).read().table
            tasks = {name: self._read_task(content) for name, content in record.tasks}
            return replace(table, history=History(tasks, record.tasks[-1][0] if record.tasks else ""))
        except (OSError, ValueError, LomrixError):
            return None

    def _read_task(self, content: str) -> Mapping[str, Any]:
        """Read an entry of a history by the hash of its text; ValueError if the file is damaged."""
        text = (self.folder / f"{content}.task").read_bytes()
        if hash_bytes(text) != content:
            raise ValueError(f"{content} is damaged")
        entry: Mapping[str, Any] = json.loads(text)
        return entry

    def _store_tasks(self, history: History) -> list[tuple[str, str]]:
        """Write each entry of a history, which many tables share, to one file; the last task comes last."""
        stored = []
        for name, entry in sorted(history.tasks.items(), key=lambda item: item[0] == history.last):
            text = json.dumps(entry, ensure_ascii=False, default=str).encode()
            stored.append((name, content := hash_bytes(text)))
            if not (self.folder / f"{content}.task").exists():
                self._write(f"{content}.task", text)
        return stored

    def store(self, record: Record, table: Table | None) -> None:
        """Remember a step; if the disk is full, the next run only takes longer."""
        with contextlib.suppress(OSError, LomrixError):
            self.folder.mkdir(mode=0o700, exist_ok=True)
            content = asdict(record)
            if table is not None:
                from lomrix.files.registry import open_sink

                part = self.folder / f".{secrets.token_hex(8)}.arrow"
                # Raw files may be private, so tables made from them are private too.
                sink = replace(cast(FileSink, open_sink(str(part))), owner_only=True)
                # Otherwise a long chain of steps would store each of its tasks once per step.
                sink.stage(replace(table, history=NO_HISTORY))
                sink.commit()
                content["tasks"] = self._store_tasks(table.history)
                content["table"] = hash_file(part)
                part.replace(self.folder / f"{record.key}.arrow")
            self._write(f"{record.key}.json", json.dumps(content).encode())
            self._remove_oldest()

    def _write(self, name: str, content: bytes) -> None:
        part = self.folder / f".{secrets.token_hex(8)}.part"
        part.write_bytes(content)
        part.replace(self.folder / name)

    def list_written_hashes(self) -> dict[str, set[str]]:
        """By path, the hashes that files had when a plan wrote them: such files may be replaced."""
        hashes: dict[str, set[str]] = {}
        for path in self.folder.glob("*.json") if self.folder.is_dir() else ():
            record = self.find_record(path.stem)
            for name, content_hash in record.files.items() if record is not None else ():
                hashes.setdefault(name, set()).add(content_hash)
            for location in record.locations if record is not None else ():
                hashes.setdefault(location, set())
        return hashes

    def _remove_oldest(self) -> None:
        """Remove the oldest tables and records above the limits."""
        tables = sorted(self.folder.glob("*.arrow"), key=lambda path: path.stat().st_mtime, reverse=True)
        total = 0
        for path in tables:
            total += path.stat().st_size
            if total > MAX_BYTES:
                path.unlink(missing_ok=True)
        tasks = sorted(self.folder.glob("*.task"), key=lambda path: path.stat().st_mtime, reverse=True)
        for path in tasks[MAX_TASKS:]:
            path.unlink(missing_ok=True)
        records = sorted(self.folder.glob("*.json"), key=lambda path: path.stat().st_mtime, reverse=True)
        for path in records[MAX_RECORDS:]:
            path.unlink(missing_ok=True)

    def mark_used(self, record: Record) -> None:
        """Mark a record as recently used."""
        for suffix in (".json", ".arrow"):
            with contextlib.suppress(OSError):
                os.utime(self.folder / f"{record.key}{suffix}")


def compute_key(parts: Mapping[str, Any]) -> str:
    """Compute the hash of all that a step depends on."""
    text = json.dumps(parts, sort_keys=True, ensure_ascii=False, default=str)
    return hash_bytes(text.encode())


def hash_bytes(content: bytes) -> str:
    """Hash some bytes."""
    return hashlib.blake2b(content, digest_size=16).hexdigest()
