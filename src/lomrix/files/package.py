"""A Data Package: a folder with one file per table and a `datapackage.json` that describes them.

References
----------
Data Package standard, version 2 (2024): https://datapackage.org
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from lomrix.core.rows.keys import encode_key_pairs
from lomrix.core.rows.occurrences import is_unique
from lomrix.core.steps.account import Listing
from lomrix.core.steps.export.prepared import Prepared
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.table import Table
from lomrix.files.delimited import Writer
from lomrix.files.folder_sink import FolderSink, make_resource_name

# Rows whose keys are looked at together.
MOST_ROWS = 1 << 22


@dataclass(frozen=True)
class ForeignKey:
    """Columns of one table whose values are keys of another; `without` counts rows whose value is not a key there."""

    table: str
    columns: tuple[str, ...]
    to: str
    without: int


@dataclass
class PackageSink(FolderSink):
    """A folder with a file of each table."""

    tables: tuple[Prepared, ...] = ()

    def set_prepared(self, prepared: Sequence[Any]) -> None:
        """Take all tables."""
        self.tables = tuple(prepared)
        super().set_prepared(prepared)

    @property
    def resources(self) -> dict[str, Prepared]:
        """The tables by their names in the standard: small letters, digits, and a few other characters."""
        result: dict[str, Prepared] = {}
        for prepared in self.tables:
            base = make_resource_name(prepared.made.name, "table")
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
        self.describe(folder, resources)

    def find_key(self, table: Table) -> tuple[str, ...]:
        """Return the primary key of a table: the stated one, if the table has it and it uniquely identifies rows."""
        key = self.delivery.primary_key
        if not key or not set(key) <= set(table.names):
            return ()
        return key if is_unique(table, key, MOST_ROWS if len(table) > MOST_ROWS else None) else ()

    def compute_staged_hash(self) -> str:
        """Return an empty text: each file has its own hash in the description."""
        return ""

    def verify(self, table: Table) -> int:
        """Return the number of cells; each file was read back when it was written."""
        return sum(len(prepared.made) * len(prepared.made.names) for prepared in self.tables)

    def list_stored(self) -> Mapping[str, Table]:
        """List the tables of the files."""
        return {f"{name}.csv": prepared.made for name, prepared in self.resources.items()}


def find_foreign_keys(tables: Mapping[str, Prepared], keys: Mapping[str, tuple[str, ...]]) -> list[ForeignKey]:
    """Return columns of other tables named like a primary key, with the number of rows whose value is not a key."""
    result = []
    for target, key in keys.items():
        for name, prepared in tables.items():
            table = prepared.made
            if name == target or not key or not set(key) <= set(table.names):
                continue
            without = sum(count_strangers(block, tables[target].made, key) for block in table.split(MOST_ROWS))
            result.append(ForeignKey(name, key, target, without))
    return result


def count_strangers(table: Table, target: Table, key: tuple[str, ...]) -> int:
    """Count the rows whose value is not a key of another table."""
    codes = encode_key_pairs(table, target, tuple((column, column) for column in key))
    is_key = np.zeros(codes.size + 1, np.bool_)
    is_key[codes.added[codes.added >= 0]] = True
    return int(np.count_nonzero((codes.base >= 0) & ~is_key[codes.base]))


def note_broken_key(link: ForeignKey) -> Note:
    """Note that columns are not a foreign key."""
    rows = pluralize(link.without, "row has", "rows have")
    text = f"{rows} no match in {link.to}, so {' and '.join(link.columns)} is not a foreign key to it."
    return Note(text, kind="no-foreign-key", count=link.without)
