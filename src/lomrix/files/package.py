"""A Data Package: a folder with one file per table and a `datapackage.json` that describes them.

References
----------
Data Package standard, version 2 (2024): https://datapackage.org
"""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.errors import FileError
from lomrix.core.rows.keys import encode_key_pairs, encode_rows
from lomrix.core.steps.account import Listing
from lomrix.core.steps.export.prepared import Prepared
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list
from lomrix.files.delimited import Writer
from lomrix.files.descriptor import PACKAGE
from lomrix.files.interface import StoredOutput
from lomrix.files.staging import FileSink, flush, get_umask, guard, make_name_beside, make_part, remove_leftovers

PROFILE = "https://datapackage.org/profiles/2.0/datapackage.json"


@dataclass(frozen=True)
class ForeignKey:
    """Columns of one table whose values are keys of another; `without` counts rows whose value is not a key there."""

    table: str
    columns: tuple[str, ...]
    to: str
    without: int


@dataclass
class PackageSink(FileSink):
    """A folder, built beside its place and renamed."""

    tables: tuple[Prepared, ...] = ()
    folder: Path | None = None

    def set_prepared(self, prepared: Sequence[Any]) -> None:
        """Take all tables."""
        self.tables = tuple(prepared)
        super().set_prepared(prepared)

    @property
    def resolved_path(self) -> Path:
        """The folder itself, with links followed: under another name it could not be moved away."""
        return self.path.resolve()

    def check(self) -> None:
        """Stop if the folder could not be created, or an existing one is not a package that may be replaced."""
        remove_leftovers(self.resolved_path)
        if not self.path.parent.is_dir():
            raise FileError(
                f"The folder {self.path.parent} does not exist.", todo=f"Make it first: mkdir -p {self.path.parent}"
            )
        if not self.path.exists():
            return
        if not self.path.is_dir():
            raise FileError(f"{self.path} is a file.", todo="Name a folder for a package.")
        names = {child.name for child in self.path.iterdir()}
        if names and not self.overwrite:
            raise FileError(
                f"{self.path} already exists.", todo="Add ‹overwrite› to replace it, or use another folder."
            )
        foreign = sorted(names - list_package_files(self.path))
        if foreign:
            raise FileError(
                f"{self.path} holds files that do not belong to a package.",
                where=shorten_list(foreign, 8),
                todo="Name another folder, or move them away.",
            )

    @property
    def resources(self) -> dict[str, Prepared]:
        """The tables by their names in the standard: small letters, digits, and a few other characters."""
        result: dict[str, Prepared] = {}
        for prepared in self.tables:
            base = re.sub(r"[^a-z0-9._-]+", "-", prepared.made.name.lower()).strip("-.") or "table"
            name, number = base, 2
            while name in result:
                name, number = f"{base}-{number}", number + 1
            result[name] = prepared
        return result

    def preview(self, table: Table) -> list[Listing]:
        """List the files that would be created."""
        rows = tuple(
            (f"{name}.csv", len(prepared.made), len(prepared.made.names)) for name, prepared in self.resources.items()
        )
        return [Listing("files of the package", ("file", "rows", "columns"), rows)]

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
        """Write each table with its description, and the description of all."""
        keys = {name: self.find_key(prepared.made) for name, prepared in self.resources.items()}
        links = find_foreign_keys(self.resources, keys)
        self.notes = [note_broken_key(link) for link in links if link.without]
        resources = []
        for name, prepared in self.resources.items():
            path = folder / f"{name}.csv"
            writer = Writer(
                path, delivery=replace(self.delivery, form="headed", primary_key=keys[name]), prepared=prepared
            )
            writer.stage(replace(prepared.made, history=content.history))
            writer.verify(prepared.made)
            writer.commit()
            descriptor_file = path.with_name(path.name + ".resource.json")
            entry: dict[str, Any] = json.loads(descriptor_file.read_text(encoding="utf-8"))
            descriptor_file.unlink()
            foreign = [link for link in links if link.table == name and not link.without]
            if foreign:
                entry["schema"]["foreignKeys"] = [
                    {"fields": list(link.columns), "reference": {"resource": link.to, "fields": list(link.columns)}}
                    for link in foreign
                ]
            resources.append(
                {**entry, "name": name, "type": "table", "mediatype": "text/csv", "title": prepared.made.name}
            )
        name = re.sub(r"[^a-z0-9._-]+", "-", self.path.name.lower()).strip("-.") or "package"
        package = {"$schema": PROFILE, "name": name, "resources": resources}
        text = json.dumps(package, ensure_ascii=False, indent=1) + "\n"
        (folder / PACKAGE).write_text(text, encoding="utf-8")

    def find_key(self, table: Table) -> tuple[str, ...]:
        """Return the primary key of a table: the stated one, if the table has it and it uniquely identifies rows."""
        key = self.delivery.primary_key
        if not key or not set(key) <= set(table.names):
            return ()
        codes, size = encode_rows(table, key)
        is_key = not (codes < 0).any() and np.bincount(codes, minlength=size).max(initial=0) < 2
        return key if is_key else ()

    def compute_staged_hash(self) -> str:
        """Return an empty text: each file has its own hash in the description."""
        return ""

    def verify(self, table: Table) -> int:
        """Return the number of cells; each file was read back when it was written."""
        return sum(len(prepared.made) * len(prepared.made.names) for prepared in self.tables)

    def commit(self) -> tuple[StoredOutput, ...]:
        """Rename the folder; the old package is removed afterwards."""
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
        tables = {f"{name}.csv": prepared.made for name, prepared in self.resources.items()}
        return tuple(
            StoredOutput(str(self.path / name), (self.path / name).stat().st_size, tables.get(name))
            for name in (*tables, PACKAGE)
        )

    def undo(self) -> None:
        """Restore the old package."""
        for path, old in self.before.items():
            shutil.rmtree(path, ignore_errors=True)
            if old is not None:
                old.rename(path)
        self.before = {}

    def settle(self) -> None:
        """Remove the old package."""
        for old in self.before.values():
            if old is not None:
                shutil.rmtree(old, ignore_errors=True)
        self.before = {}

    def discard(self) -> None:
        """Remove the folder that was built."""
        if self.folder is not None:
            shutil.rmtree(self.folder, ignore_errors=True)
        self.folder = None


def list_package_files(folder: Path) -> set[str]:
    """Return the files of a folder that its own description names, including itself; empty if there is none."""
    try:
        content = json.loads((folder / PACKAGE).read_text(encoding="utf-8"))
        return {PACKAGE, *(str(entry["path"]) for entry in content["resources"])}
    except (OSError, ValueError, LookupError, TypeError):
        return set()


def find_foreign_keys(tables: Mapping[str, Prepared], keys: Mapping[str, tuple[str, ...]]) -> list[ForeignKey]:
    """Return columns of other tables named like a primary key, with the number of rows whose value is not a key."""
    result = []
    for target, key in keys.items():
        for name, prepared in tables.items():
            table = prepared.made
            if name == target or not key or not set(key) <= set(table.names):
                continue
            codes = encode_key_pairs(table, tables[target].made, tuple((column, column) for column in key))
            is_key = np.zeros(codes.size + 1, np.bool_)
            is_key[codes.added[codes.added >= 0]] = True
            without = int(np.count_nonzero((codes.base >= 0) & ~is_key[codes.base]))
            result.append(ForeignKey(name, key, target, without))
    return result


def note_broken_key(link: ForeignKey) -> Note:
    """Note that columns are not a foreign key."""
    rows = pluralize(link.without, "row has", "rows have")
    text = f"{rows} no match in {link.to}, so {' and '.join(link.columns)} is not a foreign key to it."
    return Note(text, kind="no-foreign-key", count=link.without)
