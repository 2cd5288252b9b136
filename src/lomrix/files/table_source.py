"""A table in memory as a source: the result of an earlier step of a plan."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from lomrix.core.combining import Run, run_in_memory
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.entry_changes import note_overridden_labels
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.arrow_columns import apply_settings
from lomrix.files.interface import Location, ReadResult, Source
from lomrix.files.reading import ALL_OPTIONS, ReadSettings
from lomrix.files.scratch import TableStore


class TableSource(Source):
    """A table in memory, which may stand for a file of any format that is not written yet."""

    options_used = ALL_OPTIONS

    def __init__(self, table: Table, settings: ReadSettings) -> None:
        self.table, self.settings = table, settings

    @property
    def name(self) -> str:
        """The table's name."""
        return self.table.name

    @property
    def locations(self) -> tuple[Location, ...]:
        """Nothing."""
        return ()

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""
        return tuple(self.table.names)

    @property
    def dictionary(self) -> Dictionary:
        """The stated dictionary, completed by the table's own."""
        result = self.settings.dictionary.for_reading(self.names)
        return result.join(self.table.dictionary, extends_codes=False)

    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> ReadResult:
        """Return some columns and rows of it."""
        table = self.table
        if columns is not None and set(columns) < set(table.names):
            table = replace(
                table.only([name for name in table.names if name in set(columns)]), names_in_source=self.names
            )
        if rows is not None:
            table = table.take(np.arange(rows.start, min(rows.stop, len(table))))
        notes = list[Note]()
        columns = dict[str, Column]()
        for name, column in table.columns.items():
            columns[name], more = apply_settings(name, column, self.settings, Dictionary())
            notes += more
        if self.settings.all_text:
            return ReadResult(Table(columns, history=table.history, name=table.name, first_row=table.first_row))
        notes += note_overridden_labels(self.settings.dictionary, self.table.dictionary, table.names)
        return ReadResult(replace(table, columns=columns, dictionary=self.dictionary), tuple(notes))

    def read_into(self, store: TableStore, columns: Collection[str], run: Run = run_in_memory) -> ReadResult:
        """Return some columns, which are in memory or on disk already."""
        return self.read(columns)

    def estimate_rows(self) -> int:
        """Return the number of rows."""
        return len(self.table)

    def compute_fingerprint(self) -> str:
        """Return an empty text: its task identifies it."""
        return ""
