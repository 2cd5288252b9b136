"""Transliterate non-ASCII letters, and list what was changed."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.labelled import encode_distinct
from lomrix.core.table.pool import Pool
from lomrix.core.table.renaming import rename_columns
from lomrix.core.table.table import Table


@dataclass
class PlainLetters:
    """Transliterates text and counts each changed character with its replacement and cells."""

    changes: Counter[tuple[str, str]] = field(default_factory=Counter)
    collisions: list[str] = field(default_factory=list)

    def convert_text(self, text: str, cells: int = 1) -> str:
        """Convert one text that occurs in this many cells."""
        if text.isascii():
            return text
        from anyascii import anyascii

        for character in set(text):
            if not character.isascii():
                self.changes[character, anyascii(character)] += cells
        return anyascii(text)

    def convert_column(self, column: Column) -> Column:
        """Convert the texts of a column; two that become equal are listed in `collisions`."""
        if column.type != "string":
            return column
        texts, positions = encode_distinct(column)
        if all(map(str.isascii, texts)):
            return column
        counts = np.bincount(positions[positions >= 0], minlength=len(texts)).tolist()
        converted = [self.convert_text(text, cells) for text, cells in zip(texts, counts, strict=True)]
        first: dict[str, str] = {}
        for old, new in zip(texts, converted, strict=True):
            if first.setdefault(new, old) != old:
                self.collisions.append(f'"{first[new]}" and "{old}"')
        return Column.of_strings(
            positions.astype(np.int32), Pool(pa.array(converted, pa.large_string())), column.why, column.reasons
        )

    def convert_dictionary(self, dictionary: Dictionary) -> Dictionary:
        """Convert labels, descriptions and codes."""
        variables = {
            name: entry.with_parts(
                label=self.convert_text(entry.label),
                description=self.convert_text(entry.description),
                unit=self.convert_text(entry.unit),
            )
            for name, entry in dictionary.variables.items()
        }
        codes = {
            name: {self.convert_text(code): self.convert_text(label) for code, label in entries.items()}
            for name, entries in dictionary.codes.items()
        }
        return Dictionary(
            variables, codes, dictionary.rules, dictionary.other_layout, dictionary.coded, dictionary.scales
        )

    def convert_table(self, table: Table) -> Table:
        """Convert names, texts and the dictionary."""
        names = {name: self.convert_text(name) for name in table.names if not name.isascii()}
        table = rename_columns(table, names)
        columns = {name: self.convert_column(column) for name, column in table.columns.items()}
        result = table.with_columns(columns)
        return Table(columns, self.convert_dictionary(result.dictionary), table.history, table.name, table.first_row)
