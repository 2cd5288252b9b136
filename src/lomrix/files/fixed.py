"""Files of fixed width: every column in its place, and beside it a layout that says where."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.bare import companion_path
from lomrix.files.companions.plain import companion
from lomrix.files.delivered import codes_in, csv_bytes, names_beside, names_path, places_in
from lomrix.files.holding import lost
from lomrix.files.lines import Place, records
from lomrix.files.read_back import compared_with_records
from lomrix.files.staging import FileSink
from lomrix.files.text_writer import require_holding, write_parts

LAYOUT_HEADS = ("name", "line", "start", "width", "decimals", "label")


def layout_path(path: Path) -> Path:
    """Where the layout stands: `model.dat` has `model.layout.csv`."""
    return path.with_name(path.stem + ".layout.csv")


@dataclass
class Writer(FileSink):
    """A file of fixed width with its layout and its companion text."""

    @property
    def beside(self) -> tuple[Path, ...]:
        """The layout, the companion text, and the names where they were made short."""
        return layout_path(self.path), companion_path(self.path), names_path(self.path)

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table) and self.prepared is not None
        ready, form = self.prepared, self.delivery.text
        require_holding(content.columns, {}, form)
        places = places_in(ready, self.delivery)
        write_parts([], records(content.columns, places, form, codes_in(ready), None), part, form, hashed=False)
        if has_wide_letters(part, form.encoding):
            told = "letters outside ASCII take two bytes or more: a program that counts bytes wants ‹ascii›."
            self.notes = [Note(told, kind="wide-letters")]
        text = companion(ready, self.path, "", has_header=False, form=form, places=places)
        return {
            layout_path(self.path): layout(places, ready.labels),
            companion_path(self.path): text.encode(),
            **names_beside(ready, self.path),
        }

    def cannot_hold(self, table: Table) -> list[str]:
        """Why cells are empty, and the history; labels and codes stand in the companion."""
        return lost(table)

    def verify(self, table: Table) -> int:
        """Read back what was staged and compare it."""
        assert self.prepared is not None
        places, codes = places_in(self.prepared, self.delivery), codes_in(self.prepared)
        return compared_with_records(table, self.staged, self.path, places, self.delivery.text, codes, "")


def layout(places: tuple[Place, ...], known: Dictionary) -> bytes:
    """Name, line, first sign, width, decimal places and label of each column."""
    rows: list[tuple[object, ...]] = [
        (one.name, one.line, one.start, one.width, one.decimals, known.of(one.name).label) for one in places
    ]
    return csv_bytes(LAYOUT_HEADS, rows)


def has_wide_letters(path: Path, encoding: str) -> bool:
    """True where a file in UTF-8 holds letters of several bytes."""
    from lomrix.files.signs import signs_of

    return encoding == "utf-8" and not signs_of(path).is_ascii
