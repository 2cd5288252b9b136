"""Delimited text: .csv .tsv .txt, read as text by PyArrow and typed by our rules."""

from __future__ import annotations

import csv
import os
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW, Note, counted
from lomrix.core.table.table import Table
from lomrix.core.text.reading import FEW_ROWS, Each, typed_chunks
from lomrix.core.text.values import shortened_numbers
from lomrix.files import descriptor
from lomrix.files.delivered import codes_in, delimiter_for, names_beside, names_path, require_distinct_signs
from lomrix.files.described_sink import DescribedSink
from lomrix.files.file_source import Cells, FileSource, shifted
from lomrix.files.header_rows import FOOTER_ROWS
from lomrix.files.missing import missing_of
from lomrix.files.staging import FileSink
from lomrix.files.text_layout import Layout, found_layout
from lomrix.files.text_lines import Body, body_without_footer, notes_of_lines, require_closed_quotes
from lomrix.files.text_writer import write_columns

# Bytes that are parsed at once; a row has to have room in them.
BLOCK = 1 << 23


class Reader(FileSource):
    """A file of delimited text."""

    @cached_property
    def layout(self) -> Layout:
        """How it is laid out."""
        return found_layout(self.path, self.settings)

    def look(self) -> tuple[list[str], descriptor.Resource | None]:
        """The header."""
        return self.layout.names, None

    def cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """The cells, typed column by column."""
        layout = self.layout
        body = body_without_footer(self.path, layout, self.settings.skip_last) if self.settings.skip_last else None
        arrays = cells_as_text(self.path, layout, names, rows, body)
        about = [body.note] if body else []
        if rows is None and body is None and arrays and not layout.is_empty_below:
            about += notes_of_lines(self.path, layout, len(next(iter(arrays.values()))))
        beside = self.described.dictionary

        def typed(name: str, each: Each = map) -> tuple[Column, list[Note]]:
            variable, form = self.settings.variable(name, beside), self.date_form(name)
            # The text of a column is given back as soon as it is typed.
            separators = self.decimal(name), self.settings.thousands
            texts = arrays.pop(name)
            found = typed_chunks(name, texts, variable, form, *separators, each)
            if self.settings.tells_forms and (note := shortened_numbers(name, found[0], texts)) is not None:
                found = (found[0], [*found[1], note])
            del texts
            if len(found[0]) > FEW_ROWS:
                pa.default_memory_pool().release_unused()
            return found

        if any(len(chunks) > FEW_ROWS for chunks in arrays.values()):
            # Columns side by side, and within them the parts of each, so that all processors are busy to the end.
            with ThreadPoolExecutor() as workers, ThreadPoolExecutor(os.cpu_count()) as inner:
                found = list(workers.map(lambda name: typed(name, inner.map), names))
        else:  # many short columns would only wait for each other
            found = list(map(typed, names))
        columns = {name: column for name, (column, _) in zip(names, found, strict=True)}
        told = [shifted(note, layout.rows_above - 1) for _, notes in found for note in notes]
        return Cells(columns, (*layout.notes, *about, *told), FIRST_ROW + layout.rows_above - 1)


def part_of_stream(reader: pacsv.CSVStreamingReader, rows: range) -> pa.Table:
    """The rows of a range from a stream of batches, which is not read further than that."""
    parts, at = [], 0
    for batch in reader:
        start, stop = max(rows.start - at, 0), min(rows.stop - at, len(batch))
        if start < stop:
            parts.append(batch.slice(start, stop - start))
        at += len(batch)
        if at >= rows.stop:
            break
    return pa.Table.from_batches(parts, reader.schema)


def cells_as_text(
    path: Path, layout: Layout, needed: Sequence[str], rows: range | None = None, body: Body | None = None
) -> dict[str, pa.ChunkedArray]:
    """The cells of some columns as chunked Arrow arrays of text; blank cells are nulls.

    Parameters
    ----------
    path, layout
        The file.
    needed
        The columns.
    rows
        Which rows, counted from 0; all where None.
    body
        The text up to its footer; the whole file where None.
    """
    if layout.is_empty_below:
        return {name: pa.chunked_array([pa.array([], pa.large_string())]) for name in needed}
    if layout.has_quotes:
        require_closed_quotes(path, layout)
    ragged: list[tuple[int, int, str]] = []

    def remember(row: pacsv.InvalidRow) -> str:
        ragged.append((row.actual_columns, row.number or 0, row.text))
        return "error"

    parse = pacsv.ParseOptions(
        delimiter=layout.delimiter,
        newlines_in_values=layout.has_quotes,
        # In a file of one column an empty line is a blank cell.
        ignore_empty_lines=len(layout.names) > 1,
        invalid_row_handler=remember,
    )
    read = pacsv.ReadOptions(
        column_names=layout.names, skip_rows=layout.lines_above, encoding=body.encoding if body else layout.encoding,
        block_size=BLOCK,
    )  # fmt: skip
    # Plain ASCII is valid UTF-8, so that not every cell need be examined.
    plain = layout.encoding == "utf-8" and layout.signs.is_ascii
    content = body.content if body is not None else None if is_plain_name(path) else path.read_bytes()
    source = path if content is None else pa.BufferReader(content)
    convert = pacsv.ConvertOptions(
        column_types={name: pa.binary() if plain else pa.string() for name in needed},
        include_columns=list(needed),
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=True,
    )
    try:
        if rows is None:
            table = pacsv.read_csv(source, read, parse, convert)
        else:
            with pacsv.open_csv(source, read, parse, convert) as reader:
                table = part_of_stream(reader, rows)
        columns = dict(zip(table.column_names, table.columns, strict=True))
        return {name: as_texts(column) for name, column in columns.items()} if plain else columns
    except (pa.ArrowInvalid, UnicodeError) as error:
        raise _explained(path, layout, error, ragged) from error


def is_plain_name(path: Path) -> bool:
    """True where a path is text that PyArrow can take."""
    try:
        str(path).encode()
    except UnicodeEncodeError:
        return False
    return True


def as_texts(column: pa.ChunkedArray) -> pa.ChunkedArray:
    """Bytes that are known to be text, as text, without copying."""
    return pa.chunked_array([chunk.view(pa.string()) for chunk in column.chunks], pa.string())


def _explained(path: Path, layout: Layout, error: Exception, ragged: list[tuple[int, int, str]]) -> FileError:
    """Say in plain words why a file cannot be read."""
    if ragged:
        cells, _, text = ragged[0]
        width = len(layout.names)
        row, left = row_of(path, layout)
        footer = f" A footer is left out by ‹skip_last={left}›." if 0 < left <= FOOTER_ROWS else ""
        return FileError(
            f"A row of {path.name} has {counted(cells, 'cell', 'cells')}, the header has {width}.",
            where=f"row {row or 'unknown'}: {text[:100]}",
            todo="Mend the row in a copy: a delimiter inside a cell needs quotation marks around the cell."
            + (" Or name another --delimiter." if width == 1 else "")
            + (footer if cells < width or left == 1 else ""),
        )
    if "UTF8" in str(error) or isinstance(error, UnicodeError):
        return FileError(
            f"{path.name} has bytes that are not {layout.encoding}.",
            where=undecodable(path, layout.encoding),
            todo="Mend the byte in a copy; if the whole file is written otherwise, add ‹encoding=cp1252›.",
        )
    if "straddling" in str(error):
        return FileError(
            f"A row of {path.name} is larger than {BLOCK >> 20} MB.",
            todo="Look for a quotation mark that is left open, or take the long text out of the row.",
        )
    what = "a quotation mark may be left open" if layout.has_quotes else descriptor.first_line(error)
    return FileError(
        f"{path.name} cannot be read as delimited text.", where=what, todo="Look at the row, or name the --delimiter."
    )


def row_of(path: Path, layout: Layout) -> tuple[int, int]:
    """The first row with other cells than the header, as a sheet counts it, and how many are filled from it on.

    Both are 0 where it cannot be told.
    """
    found = filled = 0
    with path.open(encoding=layout.encoding, errors="replace", newline="") as file:
        reader = csv.reader(file, delimiter=layout.delimiter)
        try:
            for at, row in enumerate(reader, start=1):
                if at > layout.rows_above and row and (found or len(row) != len(layout.names)):
                    found, filled = found or at, filled + 1
        except csv.Error:
            return 0, 0
    return found, filled


def undecodable(path: Path, encoding: str) -> str:
    """Where the first byte stands that cannot be decoded."""
    with path.open("rb") as file:
        for number, line in enumerate(file, start=1):
            try:
                line.decode(encoding)
            except UnicodeDecodeError as error:
                return f"line {number}, byte {error.start + 1}: {line[error.start : error.start + 1]!r}"
    return ""


# -------------------------------------------------------------------- writing


@dataclass
class Writer(DescribedSink):
    """Delimited text with its descriptor."""

    @property
    def beside(self) -> tuple[Path, ...]:
        """The descriptor, and the names where they were made short."""
        has_names = self.prepared is not None and self.prepared.old_names
        return (*super().beside, *((names_path(self.path),) if has_names else ()))

    def check(self) -> None:
        """Stop where its cells could not be told apart, too."""
        require_distinct_signs(self.path, self.delivery)
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        missing, form = self.missing(content), self.delivery.text
        texts = {name: own.texts for name, own in missing.items()}
        delimiter = delimiter_for(self.path, self.delivery)
        codes = codes_in(self.prepared) if self.prepared is not None else {}
        digest = write_columns(content.columns, texts, part, delimiter, form=form, codes=codes)
        told = descriptor.descriptor(content, missing, form, self.delivery.primary_key)
        beside = self.described(part, told, digest, descriptor.Written(delimiter, form.encoding))
        return {**beside, **names_beside(self.prepared, self.path)}

    def verify(self, table: Table) -> int:
        """Read back what was staged and compare it."""
        from lomrix.files.read_back import compared_reasons, compared_with_file

        codes = codes_in(self.prepared) if self.prepared is not None else {}
        delimiter, form = delimiter_for(self.path, self.delivery), self.delivery.text
        beside = descriptor.Resource.model_validate_json(self.parts[self.beside[0]].read_bytes())
        compared_reasons(table, beside.missing, self.path)
        return compared_with_file(table, self.staged, self.path, delimiter, header=True, form=form, codes=codes)


@dataclass
class PlainWriter(FileSink):
    """Delimited text alone: ledgers, lists of keys, linkages. What has no code stands as its reason's word."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        texts = {
            name: missing_of(column, content.dictionary.of(name), "words").texts
            for name, column in content.columns.items()
        }
        write_columns(content.columns, texts, part, ",")
        return {}
