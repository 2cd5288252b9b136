"""Letters outside ASCII written with plain ones, and a list of what was changed."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.labelled import distinct_texts
from lomrix.core.table.pool import Pool
from lomrix.core.table.renaming import renamed_table
from lomrix.core.table.table import Table


@dataclass
class PlainLetters:
    """Writes texts with plain letters and remembers what it changed.

    Parameters
    ----------
    signs
        Each sign that was changed, with what stands for it and the number of cells and labels that held it.
    """

    signs: Counter[tuple[str, str]] = field(default_factory=Counter)
    met: list[str] = field(default_factory=list)

    def text(self, text: str, cells: int = 1) -> str:
        """One text; `cells` of them are alike."""
        if text.isascii():
            return text
        from anyascii import anyascii

        for sign in set(text):
            if not sign.isascii():
                self.signs[sign, anyascii(sign)] += cells
        return anyascii(text)

    def column(self, column: Column) -> Column:
        """The texts of a column; two that become one are told apart no more, and named in `met`."""
        if column.type != "string":
            return column
        texts, places = distinct_texts(column)
        if all(map(str.isascii, texts)):
            return column
        counts = np.bincount(places[places >= 0], minlength=len(texts)).tolist()
        made = [self.text(text, cells) for text, cells in zip(texts, counts, strict=True)]
        first: dict[str, str] = {}
        for old, new in zip(texts, made, strict=True):
            if first.setdefault(new, old) != old:
                self.met.append(f'"{first[new]}" and "{old}"')
        return Column.of_strings(
            places.astype(np.int32), Pool(pa.array(made, pa.large_string())), column.why, column.reasons
        )

    def dictionary(self, dictionary: Dictionary) -> Dictionary:
        """Labels, descriptions and codes."""
        variables = {
            name: entry.with_(
                label=self.text(entry.label), description=self.text(entry.description), unit=self.text(entry.unit)
            )
            for name, entry in dictionary.variables.items()
        }
        codes = {
            name: {self.text(code): self.text(label) for code, label in entries.items()}
            for name, entries in dictionary.codes.items()
        }
        return Dictionary(
            variables, codes, dictionary.rules, dictionary.other_layout, dictionary.coded, dictionary.scales
        )

    def table(self, table: Table) -> Table:
        """Names, texts and what the dictionary says."""
        names = {name: self.text(name) for name in table.names if not name.isascii()}
        table = renamed_table(table, names)
        columns = {name: self.column(column) for name, column in table.columns.items()}
        made = table.with_columns(columns)
        return Table(columns, self.dictionary(made.dictionary), table.history, table.name, table.first_row)
