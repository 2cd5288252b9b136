"""Delimited text: .csv .tsv .txt, read as text by PyArrow and typed by our rules."""

from __future__ import annotations

import contextlib
import csv
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.combining import Run
from lomrix.core.errors import FileError
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import FIRST_ROW, Note, pluralize
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.table import Table
from lomrix.core.text.chunks import FEW_ROWS, Each, read_text_chunks
from lomrix.core.text.values import note_shortened_numbers
from lomrix.files import descriptor
from lomrix.files.byte_stats import closes_quotes, cut_at_lines, read_range
from lomrix.files.delivered import (
    choose_delimiter,
    list_codes,
    make_names_file,
    names_path,
    require_distinct_separators,
)
from lomrix.files.file_source import Cells, FileSource, count_rows, shift_note
from lomrix.files.footers import FOOTER_ROWS
from lomrix.files.missing import plan_missing
from lomrix.files.reading import ALL_OPTIONS
from lomrix.files.staging import DescribedSink, FileSink
from lomrix.files.text_layout import HEAD, Layout, find_layout
from lomrix.files.text_lines import (
    Body,
    find_data_end,
    find_data_start,
    is_bytewise,
    note_lines,
    require_closed_quotes,
    split_footer,
)
from lomrix.files.text_writer import write_columns

# Bytes parsed at once; a row must fit into them. A piece that is read on its own has several such blocks.
BLOCK = 1 << 23
PIECE = 2 * BLOCK


class Reader(FileSource):
    """A file of delimited text."""

    options_used = ALL_OPTIONS

    @cached_property
    def layout(self) -> Layout:
        """The layout of the text."""
        return find_layout(self.path, self.settings)

    def read_header(self) -> tuple[list[str], descriptor.Resource | None]:
        """Return the header."""
        return self.layout.names, None

    def read_labels(self) -> Dictionary:
        """Return the labels and units of the variables."""
        return self.layout.described

    def read_cells(self, names: Sequence[str], rows: range | None) -> Cells:
        """Read the cells, typed column by column."""
        layout = self.layout
        body = split_footer(self.path, layout, self.settings.skip_last) if self.settings.skip_last else None
        arrays = read_text(self.path, layout, names, rows, body)
        line_notes = [body.note] if body and body.note else []
        if rows is None and body is None and arrays and not layout.is_empty_below:
            line_notes += note_lines(self.path, layout, len(next(iter(arrays.values()))))
        columns, column_notes = self._read_columns(arrays, names)
        return Cells(columns, (*layout.notes, *line_notes, *column_notes), FIRST_ROW + layout.rows_above - 1)

    @cached_property
    def footer(self) -> tuple[int, Note] | None:
        """Where the footer begins, and a note on it; None if none is to be skipped."""
        return find_data_end(self.path, self.layout, self.settings.skip_last) if self.settings.skip_last else None

    def list_pieces(self) -> list[range]:
        """List the bytes of some lines at a time; none if lines cannot be told without reading those above."""
        return self._pieces

    @cached_property
    def _pieces(self) -> list[range]:
        layout = self.layout
        if not is_bytewise(layout.encoding) or not layout.byte_stats.line_feeds:
            return []
        head = read_range(self.path, range(HEAD))
        start = find_data_start(head, layout.lines_above)
        if start == len(head) or b"\r" in head[:start].replace(b"\r\n", b""):
            return []
        pieces = cut_at_lines(self.path, start, PIECE, self.footer[0] if self.footer else None)
        is_safe = not layout.has_quotes or all(map_in_threads(partial(closes_quotes, self.path), pieces))
        return pieces if is_safe else []

    def read_piece(self, piece: range, names: Sequence[str]) -> Cells:
        """Read the cells of some lines, typed column by column."""
        content = read_range(self.path, piece)
        return self._type(read_text(self.path, self.layout, names, body=Body(content, self.layout.encoding)), names)

    def read_in_sequence(self, names: Sequence[str]) -> Iterator[Cells]:
        """Yield the cells some rows at a time, each time typed column by column."""
        return (self._type(arrays, names) for arrays in iterate_text(self.path, self.layout, names))

    def iterate_cells(self, names: Sequence[str], run: Run) -> Iterator[Cells]:
        """Yield the cells some rows at a time; their notes have the row numbers of the file."""
        layout, start = self.layout, 0
        if layout.is_empty_below or (self.settings.skip_last and not self._pieces):
            yield self.read_cells(names, None)
            return
        above = [*layout.notes, *([self.footer[1]] if self.footer else [])]
        for cells in super().iterate_cells(names, run):
            rows = count_rows(cells)
            notes = [shift_note(note, start) for note in cells.notes]
            yield replace(cells, notes=(*(() if start else above), *notes))
            start += rows
        if self.footer:
            return
        if line_notes := note_lines(self.path, layout, start):
            yield Cells({name: Column.all_missing("string", 0, BLANK) for name in names}, line_notes, cells.first_row)

    def _type(self, arrays: dict[str, pa.ChunkedArray], names: Sequence[str]) -> Cells:
        """Type the cells of some rows column by column."""
        columns, notes = self._read_columns(arrays, names)
        return Cells(columns, notes, FIRST_ROW + self.layout.rows_above - 1)

    def estimate_rows(self) -> int:
        """Return the number of lines below the header."""
        return max(self.layout.byte_stats.line_feeds - self.layout.lines_above, 0)

    def estimate_text_size(self) -> int:
        """Return the mean length of a line."""
        return self.path.stat().st_size // max(self.estimate_rows(), 1)

    def _read_columns(
        self, arrays: dict[str, pa.ChunkedArray], names: Sequence[str]
    ) -> tuple[dict[str, Column], list[Note]]:
        """Type each column of some rows; the texts are taken out of `arrays` and freed."""
        beside = self.described.dictionary

        def read_column(name: str, each: Each = map) -> tuple[Column, list[Note]]:
            variable, form = self.settings.get_variable(name, beside), self.find_date_form(name)
            # The text of a column is freed as soon as it is typed.
            separators = self.find_decimal(name), self.settings.thousands
            texts = arrays.pop(name)
            result = read_text_chunks(name, texts, variable, form, *separators, each)
            if self.settings.notes_forms and (note := note_shortened_numbers(name, result[0], texts)) is not None:
                result = (result[0], [*result[1], note])
            del texts
            if len(result[0]) > FEW_ROWS:
                pa.default_memory_pool().release_unused()
            return result

        if any(len(chunks) > FEW_ROWS for chunks in arrays.values()):
            # Columns in parallel, and within them their parts, so that all processors stay busy.
            results = map_in_threads(lambda name: read_column(name, map_in_threads), names)
        else:  # short columns are faster in sequence
            results = list(map(read_column, names))
        columns = {name: column for name, (column, _) in zip(names, results, strict=True)}
        notes = [shift_note(note, self.layout.rows_above - 1) for _, notes in results for note in notes]
        return columns, notes


def read_rows(reader: pacsv.CSVStreamingReader, rows: range) -> pa.Table:
    """Read a range of rows from a stream of batches, and no further."""
    parts, position = [], 0
    for batch in reader:
        start, stop = max(rows.start - position, 0), min(rows.stop - position, len(batch))
        if start < stop:
            parts.append(batch.slice(start, stop - start))
        position += len(batch)
        if position >= rows.stop:
            break
    return pa.Table.from_batches(parts, reader.schema)


def read_text(
    path: Path, layout: Layout, needed: Sequence[str], rows: range | None = None, body: Body | None = None
) -> dict[str, pa.ChunkedArray]:
    """Read the cells of some columns as chunked Arrow arrays of text; blank cells are null.

    `body` is the text before a footer; the whole file if None.
    """
    if layout.is_empty_below:
        return {name: pa.chunked_array([pa.array([], pa.large_string())]) for name in needed}
    with explain_errors(path, layout) as record_ragged:
        how = choose_options(path, layout, needed, body, record_ragged)
        if rows is None:
            return to_text(pacsv.read_csv(*how))
        with pacsv.open_csv(*how) as reader:
            return to_text(read_rows(reader, rows))


def iterate_text(path: Path, layout: Layout, needed: Sequence[str]) -> Iterator[dict[str, pa.ChunkedArray]]:
    """Yield the cells of some columns as `read_text` returns them, one block of the file after the other."""
    with (
        explain_errors(path, layout) as record_ragged,
        pacsv.open_csv(*choose_options(path, layout, needed, None, record_ragged)) as reader,
    ):
        for batch in reader:
            yield to_text(pa.Table.from_batches([batch]))


def choose_options(
    path: Path,
    layout: Layout,
    needed: Sequence[str],
    body: Body | None,
    record_ragged: Callable[[pacsv.InvalidRow], str],
) -> tuple[Path | pa.BufferReader, pacsv.ReadOptions, pacsv.ParseOptions, pacsv.ConvertOptions]:
    """Return what PyArrow needs to read the cells of some columns as text."""
    if layout.has_quotes:
        require_closed_quotes(path, layout)
    parse = pacsv.ParseOptions(
        delimiter=layout.delimiter,
        newlines_in_values=layout.has_quotes,
        # With a single column an empty line is a blank cell.
        ignore_empty_lines=len(layout.names) > 1,
        invalid_row_handler=record_ragged,
    )
    read = pacsv.ReadOptions(
        column_names=layout.names, skip_rows=body.lines_above if body else layout.lines_above,
        encoding=body.encoding if body else layout.encoding, block_size=BLOCK,
    )  # fmt: skip
    # Plain ASCII is valid UTF-8, so that not every cell need be examined.
    is_ascii = layout.encoding == "utf-8" and layout.byte_stats.is_ascii
    content = body.content if body is not None else None if is_utf8_path(path) else path.read_bytes()
    source = path if content is None else pa.BufferReader(content)
    convert = pacsv.ConvertOptions(
        column_types={name: pa.binary() if is_ascii else pa.string() for name in needed},
        include_columns=list(needed),
        null_values=[""],
        strings_can_be_null=True,
        quoted_strings_can_be_null=True,
    )
    return source, read, parse, convert


@contextlib.contextmanager
def explain_errors(path: Path, layout: Layout) -> Iterator[Callable[[pacsv.InvalidRow], str]]:
    """Explain errors of PyArrow in plain words; yields the function that it calls for a ragged row."""
    ragged: list[tuple[int, int, str]] = []

    def record_ragged(row: pacsv.InvalidRow) -> str:
        ragged.append((row.actual_columns, row.number or 0, row.text))
        return "error"

    try:
        yield record_ragged
    except (pa.ArrowInvalid, UnicodeError) as error:
        raise _explain(path, layout, error, ragged) from error


def is_utf8_path(path: Path) -> bool:
    """Return whether PyArrow can take the path as text."""
    try:
        str(path).encode()
    except UnicodeEncodeError:
        return False
    return True


def to_text(table: pa.Table) -> dict[str, pa.ChunkedArray]:
    """Return the columns as text; bytes that are known to be text are not copied."""
    return {
        name: column
        if column.type == pa.string()
        else pa.chunked_array([chunk.view(pa.string()) for chunk in column.chunks], pa.string())
        for name, column in zip(table.column_names, table.columns, strict=True)
    }


def _explain(path: Path, layout: Layout, error: Exception, ragged: list[tuple[int, int, str]]) -> FileError:
    """Explain in plain words why a file cannot be read."""
    if ragged:
        cells, _, text = ragged[0]
        width, whole = len(layout.names), "the header has" if layout.rows_above else "another has"
        if (lacking := layout.cells_below - width) > 0:
            missing = f"{pluralize(lacking, 'name is', 'names are')} missing"
            first = "If the first column has no name, add ‹first_name=NAME›; else a" if lacking == 1 else "A"
            return FileError(
                f"Each row of {path.name} has {pluralize(cells, 'cell')}, {whole} {width}: {missing}.",
                where=f"row {layout.rows_above + 1}: {text[:100]}",
                todo=f"{first}dd what is missing to the header of a copy.",
            )
        row, rows_left = find_ragged_row(path, layout)
        footer = f" Use ‹skip_last={rows_left}› to leave out a footer." if 0 < rows_left <= FOOTER_ROWS else ""
        return FileError(
            f"A row of {path.name} has {pluralize(cells, 'cell')}, {whole} {width}.",
            where=f"row {row or 'unknown'}: {text[:100]}",
            todo="Correct the row in a copy: a delimiter inside a cell needs quotation marks around the cell."
            + (" Or use another ‹delimiter›." if width == 1 else "")
            + (footer if cells < width or rows_left == 1 else ""),
        )
    if "UTF8" in str(error) or isinstance(error, UnicodeError):
        return FileError(
            f"{path.name} has bytes that are not {layout.encoding}.",
            where=find_undecodable(path, layout.encoding),
            todo="Correct the byte in a copy; if the whole file has another encoding, add ‹encoding=cp1252›.",
        )
    if "straddling" in str(error):
        return FileError(
            f"A row of {path.name} is larger than {BLOCK >> 20} MB.",
            todo="Look for an unclosed quotation mark, or remove the long text from the row.",
        )
    reason = "a quotation mark may be unclosed" if layout.has_quotes else descriptor.get_first_line(error)
    return FileError(
        f"{path.name} cannot be read as delimited text.", where=reason, todo="Check the row, or state the ‹delimiter›."
    )


def find_ragged_row(path: Path, layout: Layout) -> tuple[int, int]:
    """Return the number (in the spreadsheet's count) of the first row with another number of cells than the header, and
    how many filled rows follow from it. Both are 0 if unknown.
    """
    found = filled = 0
    with path.open(encoding=layout.encoding, errors="replace", newline="") as file:
        reader = csv.reader(file, delimiter=layout.delimiter)
        try:
            for number, row in enumerate(reader, start=1):
                if number > layout.rows_above and row and (found or len(row) != len(layout.names)):
                    found, filled = found or number, filled + 1
        except csv.Error:
            return 0, 0
    return found, filled


def find_undecodable(path: Path, encoding: str) -> str:
    """Return the position of the first byte that cannot be decoded."""
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
        """The descriptor, and the names if they were shortened."""
        has_names = self.prepared is not None and self.prepared.old_names
        return (*super().beside, *((names_path(self.path),) if has_names else ()))

    def check(self) -> None:
        """Also stop if the delimiter is the decimal separator."""
        require_distinct_separators(self.path, self.delivery)
        super().check()

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        missing, form = self.plan_missing(content), self.delivery.text
        texts = {name: written.texts for name, written in missing.items()}
        delimiter = choose_delimiter(self.path, self.delivery)
        codes = list_codes(self.prepared) if self.prepared is not None else {}
        digest = write_columns(content.columns, texts, part, delimiter, form=form, codes=codes, run=self.run)
        content_described = descriptor.make_descriptor(content, missing, form, self.delivery.primary_key)
        beside = self.make_descriptor(part, content_described, digest, descriptor.TextLayout(delimiter, form.encoding))
        return {**beside, **make_names_file(self.prepared, self.path)}

    def verify(self, table: Table) -> int:
        """Read back the staged file and compare it."""
        from lomrix.files.read_back import compare_file, compare_reasons

        codes = list_codes(self.prepared) if self.prepared is not None else {}
        delimiter, form = choose_delimiter(self.path, self.delivery), self.delivery.text
        beside = descriptor.Resource.model_validate_json(self.parts[self.beside[0]].read_bytes())
        compare_reasons(table, beside.missing, self.path)
        return compare_file(table, self.staged, self.path, delimiter, header=True, form=form, codes=codes)


@dataclass
class PlainWriter(FileSink):
    """Delimited text alone: ledgers, lists of keys, linkage files. Missing cells without a code hold their reason."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a table."""
        assert isinstance(content, Table)
        texts = {
            name: plan_missing(column, content.dictionary.of(name), "words").texts
            for name, column in content.columns.items()
        }
        write_columns(content.columns, texts, part, ",")
        return {}
