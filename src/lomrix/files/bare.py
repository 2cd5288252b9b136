"""Bare files: numbers without a header, and a companion text that says what they are."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.table.table import Table
from lomrix.files.companions.plain import MANY, codes_path, codes_table, companion
from lomrix.files.delivered import codes_in, delimiter_for, names_beside, names_path, places_in, require_distinct_signs
from lomrix.files.holding import lost
from lomrix.files.lines import records
from lomrix.files.read_back import compared_with_file, compared_with_records
from lomrix.files.staging import FileSink
from lomrix.files.text_writer import require_holding, write_columns, write_parts


def companion_path(path: Path) -> Path:
    """Where the companion text stands: `model.dat` has `model.columns.txt`."""
    return path.with_name(path.stem + ".columns.txt")


@dataclass
class Writer(FileSink):
    """A bare file with its companion text."""

    @property
    def beside(self) -> tuple[Path, ...]:
        """The companion text, the codes where they are too many for it, and the names where they were made short."""
        return companion_path(self.path), codes_path(self.path), names_path(self.path)

    def check(self) -> None:
        """Stop where its numbers could not be told apart, too."""
        require_distinct_signs(self.path, self.delivery)
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table of numbers."""
        assert isinstance(content, Table) and self.prepared is not None
        ready, form, delimiter = self.prepared, self.delivery.text, delimiter_for(self.path, self.delivery)
        places, codes = places_in(ready, self.delivery), codes_in(ready)
        if places:
            require_holding(content.columns, {}, form)
            write_parts([], records(content.columns, places, form, codes, delimiter), part, form, hashed=False)
        else:
            write_columns(content.columns, {}, part, delimiter, header=False, form=form, codes=codes, hashed=False)
        text = companion(ready, self.path, delimiter, has_header=False, form=form, places=places)
        many = {name: one.texts for name, one in ready.recodings.items() if len(one.texts) > MANY}
        beside = {companion_path(self.path): text.encode(), **names_beside(ready, self.path)}
        return beside | ({codes_path(self.path): codes_table(many)} if many else {})

    def cannot_hold(self, table: Table) -> list[str]:
        """Why cells are empty, and the history; labels and codes stand in the companion."""
        return lost(table)

    def verify(self, table: Table) -> int:
        """Read back what was staged and compare it."""
        assert self.prepared is not None
        places, codes = places_in(self.prepared, self.delivery), codes_in(self.prepared)
        delimiter, form = delimiter_for(self.path, self.delivery), self.delivery.text
        if places:
            return compared_with_records(table, self.staged, self.path, places, form, codes, delimiter)
        return compared_with_file(table, self.staged, self.path, delimiter, header=False, form=form, codes=codes)
