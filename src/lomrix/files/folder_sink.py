"""Folders as outputs: built beside their place, then renamed; a table as a folder of Parquet files."""

from __future__ import annotations

import json
import re
import secrets
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.combining import run_in_memory
from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list, to_utf8
from lomrix.files.arrow_form import ArrowForm
from lomrix.files.descriptor import PACKAGE
from lomrix.files.hashing import hash_file, hash_files
from lomrix.files.interface import StoredOutput
from lomrix.files.parquet import Writer
from lomrix.files.scratch import require_folder
from lomrix.files.staging import FileSink, flush, get_umask, guard, make_name_beside, make_part, remove_leftovers

PROFILE = "https://datapackage.org/profiles/2.0/datapackage.json"
# Rows of a file in a folder.
ROWS_IN_A_FILE = 1 << 22


@dataclass
class FolderSink(FileSink):
    """A folder, built beside its place and renamed; it has a description that names its files."""

    folder: Path | None = None

    @property
    def resolved_path(self) -> Path:
        """The folder itself, with links followed: under another name it could not be moved away."""
        return self.path.resolve()

    def check(self) -> None:
        """Stop if the folder could not be created, or an existing one was not made so that it may be replaced."""
        remove_leftovers(self.resolved_path)
        require_folder(self.path.parent)
        if not self.path.exists():
            return
        if not self.path.is_dir():
            raise FileError(f"{self.path} is a file.", todo="Name a folder.")
        names = {child.name for child in self.path.iterdir()}
        if names and not self.overwrite:
            raise FileError(
                f"{self.path} already exists.", todo="Add ‹overwrite› to replace it, or use another folder."
            )
        foreign = sorted(names - list_described_files(self.path))
        if foreign:
            raise FileError(
                f"{self.path} holds files that {PACKAGE} does not name, so it is not replaced.",
                where=shorten_list(foreign, 8),
                todo="Name another folder, or move them away.",
            )

    def stage(self, content: object) -> None:
        """Build the folder beside its place."""
        assert isinstance(content, Table)

        def write_files() -> None:
            self.folder = make_part(self.resolved_path)
            self.folder.unlink()
            self.folder.mkdir()
            self.folder.chmod(0o777 & ~get_umask())
            self.write_all(self.folder, content)
            for child in self.folder.iterdir():
                flush(child)

        try:
            guard(self.path, "write", write_files)
        except BaseException:
            self.discard()
            raise

    def write_all(self, folder: Path, content: Table) -> None:
        """Write all files, and their description."""
        raise NotImplementedError

    def describe(self, folder: Path, resources: list[dict[str, object]]) -> None:
        """Write the description of the files."""
        package = {"$schema": PROFILE, "name": make_resource_name(self.path.name, "package"), "resources": resources}
        text = json.dumps(package, ensure_ascii=False, indent=1) + "\n"
        (folder / PACKAGE).write_text(text, encoding="utf-8")

    def list_stored(self) -> Mapping[str, Table | None]:
        """List the files that were written, with the table of each."""
        raise NotImplementedError

    def commit(self) -> tuple[StoredOutput, ...]:
        """Rename the folder; the old one is removed afterwards."""
        assert self.folder is not None
        folder = self.folder

        def rename() -> None:
            if not self.resolved_path.exists():
                folder.rename(self.resolved_path)
                self.before[self.resolved_path] = None
                return
            old = make_name_beside(self.resolved_path, "before")
            self.resolved_path.rename(old)
            try:
                folder.rename(self.resolved_path)
            except BaseException:
                old.rename(self.resolved_path)
                raise
            self.before[self.resolved_path] = old

        guard(self.path, "write", rename)
        self.folder = None
        return tuple(
            StoredOutput(str(self.path / name), (self.path / name).stat().st_size, table)
            for name, table in {**self.list_stored(), PACKAGE: None}.items()
        )

    def undo(self) -> None:
        """Restore the old folder."""
        for path, old in self.before.items():
            shutil.rmtree(path, ignore_errors=True)
            if old is not None:
                old.rename(path)
        self.before = {}

    def settle(self) -> None:
        """Remove the old folder."""
        for old in self.before.values():
            if old is not None:
                shutil.rmtree(old, ignore_errors=True)
        self.before = {}

    def discard(self) -> None:
        """Remove the folder that was built."""
        if self.folder is not None:
            shutil.rmtree(self.folder, ignore_errors=True)
        self.folder = None


@dataclass
class ParquetFolder(FolderSink):
    """A table as Parquet files of some rows each, described together as one resource with several paths."""

    written: tuple[tuple[str, Table], ...] = ()

    @property
    def staged(self) -> Path:
        """The folder that was built."""
        assert self.folder is not None
        return self.folder

    def write_all(self, folder: Path, content: Table) -> None:
        """Write the files in the order of their rows."""
        starts = range(0, max(len(content), 1), ROWS_IN_A_FILE)
        digits = len(str(len(starts)))
        pieces = [content.slice(start, start + ROWS_IN_A_FILE) for start in starts]
        self.written = tuple(
            (f"{self.path.name}-{number:0{digits}}.parquet", piece) for number, piece in enumerate(pieces, start=1)
        )
        made = (self.run or run_in_memory)(write_piece, ((folder / name, piece) for name, piece in self.written))
        for (name, _), path in zip(self.written, made, strict=True):
            path.rename(folder / name)
        for leftover in folder.glob(".*"):  # of another process that ended before its piece was complete
            leftover.unlink()
        self.describe(folder, [{
            "name": make_resource_name(self.path.name, "table"), "type": "table",
            "path": [to_utf8(name) for name, _ in self.written],
            "format": "parquet", **ArrowForm.from_table(content, packs=False).make_descriptor(),
        }])  # fmt: skip

    def compute_staged_hash(self) -> str:
        """Return the hash that reading the folder gives."""
        return hash_files((Path(name).stem, hash_file(self.staged / name)) for name, _ in self.written)

    def list_stored(self) -> Mapping[str, Table]:
        """List the files."""
        return dict(self.written)


def write_piece(path: Path, table: Table) -> Path:
    """Write a file under a name that no other try has, and return that."""
    part = path.with_name(f".{path.name}-{secrets.token_hex(4)}")
    Writer(path).write(table, part)
    return part


def make_resource_name(name: str, default: str) -> str:
    """Return a name as the standard allows it: small letters, digits, and a few other characters."""
    return re.sub(r"[^a-z0-9._-]+", "-", name.lower()).strip("-.") or default


def list_described_files(folder: Path) -> set[str]:
    """Return the files of a folder that its own description names, including itself; empty if there is none."""
    try:
        content = json.loads((folder / PACKAGE).read_text(encoding="utf-8"))
        paths = [entry["path"] for entry in content["resources"]]
        return {PACKAGE, *(name for path in paths for name in ([path] if isinstance(path, str) else path))}
    except (OSError, ValueError, LookupError, TypeError):
        return set()
