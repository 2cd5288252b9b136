"""Files of fixed width: each column at its position, with a layout file beside it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table
from lomrix.files.bare import companion_path
from lomrix.files.companions.plain import make_companion
from lomrix.files.delivered import find_positions, list_codes, make_csv, make_names_file, names_path
from lomrix.files.lines import ColumnPosition, format_records
from lomrix.files.read_back import compare_records
from lomrix.files.staging import FileSink, describe_losses
from lomrix.files.text_writer import require_writable, write_parts

LAYOUT_HEADS = ("name", "line", "start", "width", "decimals", "label")


def layout_path(path: Path) -> Path:
    """Return the path of the layout: `model.dat` has `model.layout.csv`."""
    return path.with_name(path.stem + ".layout.csv")


@dataclass
class Writer(FileSink):
    """A file of fixed width with its layout and its companion text."""

    @property
    def beside(self) -> tuple[Path, ...]:
        """The layout, the companion text, and the names if they were shortened."""
        return layout_path(self.path), companion_path(self.path), names_path(self.path)

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table) and self.prepared is not None
        prepared, form = self.prepared, self.delivery.text
        require_writable(content.columns, {}, form)
        positions = find_positions(prepared, self.delivery)
        write_parts(
            [], format_records(content.columns, positions, form, list_codes(prepared), None), part, form, hashed=False
        )
        if has_wide_letters(part, form.encoding):
            message = "non-ASCII letters take two bytes or more: for a program that counts bytes, use ‹ascii›."
            self.notes = [Note(message, kind="wide-letters")]
        text = make_companion(prepared, self.path, "", has_header=False, form=form, positions=positions)
        return {
            layout_path(self.path): make_layout(positions, prepared.labels),
            companion_path(self.path): text.encode(),
            **make_names_file(prepared, self.path),
        }

    def list_losses(self, table: Table) -> list[str]:
        """List reasons of empty cells and the history; labels and codes are in the companion."""
        return describe_losses(table)

    def verify(self, table: Table) -> int:
        """Read back the staged file and compare it."""
        assert self.prepared is not None
        positions, codes = find_positions(self.prepared, self.delivery), list_codes(self.prepared)
        return compare_records(table, self.staged, self.path, positions, self.delivery.text, codes, "")


def make_layout(positions: tuple[ColumnPosition, ...], known: Dictionary) -> bytes:
    """Return name, line, start, width, decimals and label of each column."""
    rows: list[tuple[object, ...]] = [
        (position.name, position.line, position.start, position.width, position.decimals, known.of(position.name).label)
        for position in positions
    ]
    return make_csv(LAYOUT_HEADS, rows)


def has_wide_letters(path: Path, encoding: str) -> bool:
    """Return whether a UTF-8 file has letters of several bytes."""
    from lomrix.files.byte_stats import count_bytes

    return encoding == "utf-8" and not count_bytes(path).is_ascii
