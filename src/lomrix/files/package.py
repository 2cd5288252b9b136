"""A Data Package: a folder with one file for each table and a `datapackage.json` that describes all of them.

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
from lomrix.core.rows.keys import paired_keys, row_codes
from lomrix.core.steps.account import Listing
from lomrix.core.steps.export.prepared import Prepared
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of
from lomrix.files.delimited import Writer
from lomrix.files.descriptor import PACKAGE
from lomrix.files.interface import Placed
from lomrix.files.staging import FileSink, clear_up, current_umask, flushed, guarded, name_beside, part_of

PROFILE = "https://datapackage.org/profiles/2.0/datapackage.json"


@dataclass(frozen=True)
class ForeignKey:
    """Columns of one table whose values are keys of another.

    Parameters
    ----------
    table, columns
        Where they stand.
    to
        The table whose primary key they are.
    without
        Rows whose value is no key there; a foreign key has none.
    """

    table: str
    columns: tuple[str, ...]
    to: str
    without: int


@dataclass
class PackageSink(FileSink):
    """A folder, made whole beside its place and renamed."""

    every: tuple[Prepared, ...] = ()
    folder: Path | None = None

    def understand(self, ready: Sequence[Any]) -> None:
        """Take up all tables."""
        self.every = tuple(ready)
        super().understand(ready)

    @property
    def place(self) -> Path:
        """The folder itself, links followed: under any other name it could not be moved away."""
        return self.path.resolve()

    def check(self) -> None:
        """Stop where its folder could not be made, or what stands there is no package that may be replaced."""
        clear_up(self.place)
        if not self.path.parent.is_dir():
            raise FileError(
                f"There is no folder {self.path.parent}.", todo=f"Make it first: mkdir -p {self.path.parent}"
            )
        if not self.path.exists():
            return
        if not self.path.is_dir():
            raise FileError(f"{self.path} is a file.", todo="Name a folder for a package.")
        there = {one.name for one in self.path.iterdir()}
        if there and not self.overwrite:
            raise FileError(
                f"{self.path} is there already.", todo="Add ‹overwrite› to replace it, or name another folder."
            )
        strange = sorted(there - files_of(self.path))
        if strange:
            raise FileError(
                f"{self.path} holds files that are not of a package.",
                where=some_of(strange, 8),
                todo="Name another folder, or move them away.",
            )

    @property
    def resources(self) -> dict[str, Prepared]:
        """The tables by their names as the standard wants them: small letters, digits, and a few signs."""
        made: dict[str, Prepared] = {}
        for one in self.every:
            plain = re.sub(r"[^a-z0-9._-]+", "-", one.made.name.lower()).strip("-.") or "table"
            name, number = plain, 2
            while name in made:
                name, number = f"{plain}-{number}", number + 1
            made[name] = one
        return made

    def beforehand(self, table: Table) -> list[Listing]:
        """The files that would be made, and how they belong together."""
        rows = tuple((f"{name}.csv", len(one.made), len(one.made.names)) for name, one in self.resources.items())
        return [Listing("files of the package", ("file", "rows", "columns"), rows)]

    def stage(self, content: object) -> None:
        """Make the folder beside its place."""
        assert isinstance(content, Table)

        def all_files() -> None:
            self.folder = part_of(self.place)
            self.folder.unlink()
            self.folder.mkdir()
            self.folder.chmod(0o777 & ~current_umask())
            self.write_all(self.folder, content)
            for one in self.folder.iterdir():
                flushed(one)

        try:
            guarded(self.path, "write", all_files)
        except BaseException:
            self.discard()
            raise

    def write_all(self, folder: Path, content: Table) -> None:
        """Each table with its description, and the description of all."""
        keys = {name: self.key_of(one.made) for name, one in self.resources.items()}
        links = foreign_keys(self.resources, keys)
        self.notes = [note_of(link) for link in links if link.without]
        resources = []
        for name, one in self.resources.items():
            path = folder / f"{name}.csv"
            writer = Writer(path, delivery=replace(self.delivery, form="headed", primary_key=keys[name]), prepared=one)
            writer.stage(replace(one.made, history=content.history))
            writer.verify(one.made)
            writer.commit()
            beside = path.with_name(path.name + ".resource.json")
            told: dict[str, Any] = json.loads(beside.read_text(encoding="utf-8"))
            beside.unlink()
            own = [link for link in links if link.table == name and not link.without]
            if own:
                told["schema"]["foreignKeys"] = [
                    {"fields": list(link.columns), "reference": {"resource": link.to, "fields": list(link.columns)}}
                    for link in own
                ]
            resources.append({**told, "name": name, "type": "table", "mediatype": "text/csv", "title": one.made.name})
        name = re.sub(r"[^a-z0-9._-]+", "-", self.path.name.lower()).strip("-.") or "package"
        whole = {"$schema": PROFILE, "name": name, "resources": resources}
        text = json.dumps(whole, ensure_ascii=False, indent=1) + "\n"
        (folder / PACKAGE).write_text(text, encoding="utf-8")

    def key_of(self, table: Table) -> tuple[str, ...]:
        """The primary key of a table: what was said, where the table has it and it tells the rows apart."""
        key = self.delivery.primary_key
        if not key or not set(key) <= set(table.names):
            return ()
        codes, size = row_codes(table, key)
        is_key = not (codes < 0).any() and np.bincount(codes, minlength=size).max(initial=0) < 2
        return key if is_key else ()

    def staged_hash(self) -> str:
        """None: each file has its own in the description."""
        return ""

    def verify(self, table: Table) -> int:
        """Each file was read back as it was written; returns the number of cells."""
        return sum(len(one.made) * len(one.made.names) for one in self.every)

    def commit(self) -> tuple[Placed, ...]:
        """Rename the folder; an old package goes when the new one stands."""
        assert self.folder is not None
        folder = self.folder

        def rename() -> None:
            if not self.place.exists():
                folder.rename(self.place)
                self.before[self.place] = None
                return
            old = name_beside(self.place, "before")
            self.place.rename(old)
            try:
                folder.rename(self.place)
            except BaseException:
                old.rename(self.place)
                raise
            self.before[self.place] = old

        guarded(self.path, "write", rename)
        self.folder = None
        tables = {f"{name}.csv": one.made for name, one in self.resources.items()}
        return tuple(
            Placed(str(self.path / name), (self.path / name).stat().st_size, tables.get(name))
            for name in (*tables, PACKAGE)
        )

    def undo(self) -> None:
        """Put back the old package."""
        for place, old in self.before.items():
            shutil.rmtree(place, ignore_errors=True)
            if old is not None:
                old.rename(place)
        self.before = {}

    def settle(self) -> None:
        """Let go of the old package."""
        for old in self.before.values():
            if old is not None:
                shutil.rmtree(old, ignore_errors=True)
        self.before = {}

    def discard(self) -> None:
        """Take away the folder that was made."""
        if self.folder is not None:
            shutil.rmtree(self.folder, ignore_errors=True)
        self.folder = None


def files_of(folder: Path) -> set[str]:
    """The files in a folder that its own description names, itself among them; none where there is no description."""
    try:
        told = json.loads((folder / PACKAGE).read_text(encoding="utf-8"))
        return {PACKAGE, *(str(one["path"]) for one in told["resources"])}
    except (OSError, ValueError, LookupError, TypeError):
        return set()


def foreign_keys(tables: Mapping[str, Prepared], keys: Mapping[str, tuple[str, ...]]) -> list[ForeignKey]:
    """Columns of other tables that have the names of a primary key, with the number of rows whose value is none."""
    found = []
    for to, key in keys.items():
        for name, one in tables.items():
            table = one.made
            if name == to or not key or not set(key) <= set(table.names):
                continue
            paired = paired_keys(table, tables[to].made, tuple((column, column) for column in key))
            known = np.zeros(paired.size + 1, np.bool_)
            known[paired.added[paired.added >= 0]] = True
            without = int(np.count_nonzero((paired.base >= 0) & ~known[paired.base]))
            found.append(ForeignKey(name, key, to, without))
    return found


def note_of(link: ForeignKey) -> Note:
    """What is told where a foreign key is none."""
    rows = counted(link.without, "row has", "rows have")
    text = f"{rows} no partner in {link.to}, so that {' and '.join(link.columns)} is no foreign key to it."
    return Note(text, kind="no-foreign-key", count=link.without)
