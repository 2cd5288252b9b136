"""A table in memory as a source: what an earlier step of a plan made."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.label_conflicts import notes_on_labels
from lomrix.core.table.table import Table
from lomrix.files.interface import Place, Read, Source
from lomrix.files.reading import ReadSettings


class TableSource(Source):
    """A table that was made already.

    Parameters
    ----------
    table
        The table.
    settings
        What was said of the reading: of it only the dictionary counts, since nothing is read.
    """

    def __init__(self, table: Table, settings: ReadSettings) -> None:
        self.table, self.settings = table, settings

    @property
    def name(self) -> str:
        """The table's name."""
        return self.table.name

    @property
    def places(self) -> tuple[Place, ...]:
        """None."""
        return ()

    @property
    def names(self) -> tuple[str, ...]:
        """The names of its columns in order."""
        return tuple(self.table.names)

    @property
    def dictionary(self) -> Dictionary:
        """What was said goes before what the table knows."""
        known = self.settings.dictionary.for_reading(self.names)
        return known.joined(self.table.dictionary, extends_codes=False)

    def read(self, columns: Collection[str] | None = None, rows: range | None = None) -> Read:
        """Some columns and rows of it."""
        made = self.table
        if columns is not None and set(columns) < set(made.names):
            made = replace(made.only([name for name in made.names if name in set(columns)]), names_in_source=self.names)
        if rows is not None:
            made = made.take(np.arange(rows.start, min(rows.stop, len(made))))
        if self.settings.all_text:
            texts = {name: column.widened("string") for name, column in made.columns.items()}
            return Read(Table(texts, history=made.history, name=made.name, first_row=made.first_row))
        notes = notes_on_labels(self.settings.dictionary, self.table.dictionary, made.names)
        return Read(replace(made, dictionary=self.dictionary), tuple(notes))

    def fingerprint(self) -> str:
        """None: its task tells what it is made of."""
        return ""
