"""Files of fixed width: each column at its position, which a layout file beside it names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import FIRST_ROW, Note, pluralize
from lomrix.core.table.table import Table
from lomrix.core.table.texts import read_text_rows
from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import read_text_column
from lomrix.files import delimited, descriptor
from lomrix.files.bare import companion_path
from lomrix.files.companions.plain import make_companion
from lomrix.files.delivered import find_positions, layout_path, list_codes, make_csv, make_names_file, names_path
from lomrix.files.file_source import Cells, FileSource, shift_note
from lomrix.files.interface import Location
from lomrix.files.lines import ColumnPosition, format_records
from lomrix.files.read_back import compare_records
from lomrix.files.reading import TYPED_OPTIONS, ReadSettings
from lomrix.files.staging import FileSink, describe_losses
from lomrix.files.text_layout import decode_head
from lomrix.files.text_writer import require_writable, write_parts

MOST_SHOWN = 5
LAYOUT_HEADS = ("name", "line", "start", "width", "decimals", "label")


class Reader(FileSource):
    """A file of fixed width, read by its layout."""

    options_used = TYPED_OPTIONS | {"decimal", "thousands", "encoding"}

    @property
    def locations(self) -> tuple[Location, ...]:
        """The file, its layout, and what describes it."""
        return (*super().locations, layout_path(self.path))

    @cached_property
    def layout(self) -> Table:
        """The layout, each cell as text."""
        path = layout_path(self.path)
        if not path.is_file():
            raise FileError(
                f"{self.path.name} is read by its layout, and {path.name} does not exist.",
                todo="Write that file, with name, start and width of each column; or, if a delimiter separates the "
                "cells, copy the data to a name with .txt.",
            )
        return delimited.Reader(path, ReadSettings(all_text=True)).read().table

    @cached_property
    def positions(self) -> list[ColumnPosition]:
        """The positions of the columns."""
        name = layout_path(self.path).name
        for head in ("name", "start"):
            if head not in self.layout.columns:
                raise FileError(f"{name} has no column {head}.", todo=f"Its columns are {', '.join(LAYOUT_HEADS)}.")
        result: list[ColumnPosition] = []
        for row, cells in enumerate(read_text_rows(self.layout), start=FIRST_ROW):
            try:
                line, start = int(cells.get("line") or 1), int(cells["start"])
                width = int(cells["width"]) if cells.get("width") else int(cells.get("end", "")) - start + 1
            except ValueError:
                line = start = width = 0
            if min(line, start, width) < 1 or not cells["name"] or cells["name"] in {known.name for known in result}:
                raise FileError(
                    f"A row of {name} does not give a name of its own, a start, and a width or an end.",
                    where=f"row {row}: {', '.join(cells.values())}",
                    todo="Characters are counted from 1.",
                )
            result.append(ColumnPosition(cells["name"], line, start, width, 0, is_text=True))
        if not result:
            raise FileError(f"{name} names no column.", todo="Add a row for each: name, start and width.")
        return result

    def read_header(self) -> tuple[list[str], descriptor.Resource | None]:
        """Return the names of the layout."""
        return [position.name for position in self.positions], None

    def read_labels(self) -> Dictionary:
        """Return the labels of the layout."""
        rows = read_text_rows(self.layout)
        return Dictionary({row["name"]: Variable(label=row["label"]) for row in rows if row.get("label")})

    @cached_property
    def lines(self) -> list[pa.Array]:
        """The lines of all records: the first of each, the second of each, and so on."""
        _, _, encoding = decode_head(self.path, self.settings.encoding, "")
        try:
            text = self.path.read_bytes().decode(encoding)
        except UnicodeDecodeError as error:
            raise FileError(
                f"{self.path.name} has bytes that are not {encoding}.",
                where=delimited.find_undecodable(self.path, encoding),
                todo="Correct the byte in a copy; if the whole file has another encoding, add ‹encoding=cp1252›.",
            ) from error
        text = text.removeprefix("\ufeff").rstrip("\x1a").replace("\r\n", "\n").replace("\r", "\n").removesuffix("\n")
        lines = pc.list_flatten(pc.split_pattern(pa.array([text], pa.large_string()), "\n"))
        each = max(position.line for position in self.positions)
        if len(lines) % each:
            raise FileError(
                f"{self.path.name} has {pluralize(len(lines), 'line')}, which {each} lines for each row do not divide.",
                todo="Check the lines in its layout, and that the file is complete.",
            )
        return [lines.take(pa.array(range(number, len(lines), each))) for number in range(each)]

    def read_cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Cut the cells out of their lines, typed column by column."""
        columns, notes = dict[str, Column](), list(self.note_rests())
        lines = self.lines if rows is None else [part.slice(rows.start, len(rows)) for part in self.lines]
        for position in self.positions:
            if position.name not in names:
                continue
            name = position.name
            cells = pc.utf8_slice_codeunits(lines[position.line - 1], position.start - 1, position.end)
            cells = pc.utf8_trim_whitespace(cells)
            cells = pc.if_else(pc.equal(pc.utf8_length(cells), 0), pa.scalar(None, pa.large_string()), cells)
            variable = self.settings.get_variable(name, self.described.dictionary)
            columns[name], more = read_text_column(
                name, cells, variable, self.find_date_form(name), self.find_decimal(name), self.settings.thousands
            )
            notes += [shift_note(note, 1 - FIRST_ROW) for note in more]
        return Cells({name: columns[name] for name in names}, tuple(notes), 1)

    def note_rests(self) -> list[Note]:
        """Note lines that go on behind the last column of the layout."""
        notes = []
        for number, lines in enumerate(self.lines, start=1):
            last = max((position.end for position in self.positions if position.line == number), default=0)
            lengths = pc.utf8_length(pc.utf8_rtrim(lines, " ")).to_numpy(zero_copy_only=False)
            rows = (lengths > last).nonzero()[0]
            if len(rows):
                lines_go = pluralize(len(rows), "line goes", "lines go")
                text = f"{lines_go} on behind character {last}, the last of the layout."
                examples = tuple((int(row) + 1, None) for row in rows[:MOST_SHOWN])
                notes.append(Note(text, "", examples, "behind-layout", len(rows)))
        return notes


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
