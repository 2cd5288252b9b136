"""Verification: what was exported is read again and compared cell by cell."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

from lomrix.core.arrays.text_bytes import get_buffers
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import BLANK, join_reasons, renumber_why
from lomrix.core.table.table import Table
from lomrix.files.byte_stats import count_bytes
from lomrix.files.lines import ColumnPosition
from lomrix.files.missing import MissingPlan, apply_reasons
from lomrix.files.text_layout import HEAD, count_quotes_below
from lomrix.files.text_of_cells import format_in_form
from lomrix.files.text_writer import DEFAULT_FORM, NO_CODES, Codes, default_delimiter

# Rows that are compared at once.
BLOCK = 1 << 18
# Bytes that are parsed at once.
SMALL_BLOCK, LARGE_BLOCK = 1 << 21, 1 << 24
REPORT = "This is a bug in Lomrix; please report it."


def compare_file(
    table: Table,
    path: Path,
    final: Path,
    delimiter: str = "",
    *,
    header: bool,
    form: TextForm = DEFAULT_FORM,
    codes: Codes = NO_CODES,
) -> int:
    """Read a delimited file and compare it with the table; return the number of cells.

    `final` is the file's later path; `form` and `codes` say how cells are written: if not in the default form, texts
    are compared.

    Raises FileError naming the first differing cell.
    """
    names = table.names
    if not len(table):
        return 0
    rows = 0

    def expect(start: int, stop: int) -> dict[str, pa.Array]:
        if form.is_plain:
            return {name: to_readable(column.slice(start, stop)) for name, column in table.columns.items()}
        return format_rows(table, start, stop, form, codes)

    with path.open("rb") as file:
        has_quotes = count_quotes_below(count_bytes(path), file.read(HEAD)) > 0
    parsing = pacsv.ParseOptions(
        delimiter=delimiter or default_delimiter(final),
        newlines_in_values=has_quotes,
        ignore_empty_lines=len(names) > 1,
    )
    converting = pacsv.ConvertOptions(
        column_types={name: array.type for name, array in expect(0, 0).items()},
        null_values=[""],
        strings_can_be_null=True,
        true_values=["true"],
        false_values=["false"],
    )
    for batch in iterate_batches(path, names, int(header), form.encoding, parsing, converting):
        stop = rows + len(batch)
        if stop <= len(table):
            compare_columns(expect(rows, stop), dict(zip(names, batch.columns, strict=True)), rows, final)
        rows = stop
    require_row_count(len(table), rows, final)
    return rows * len(names)


def iterate_batches(
    path: Path, names: list[str], skipped: int, encoding: str, parsing: pacsv.ParseOptions,
    converting: pacsv.ConvertOptions,
) -> Iterator[pa.RecordBatch]:  # fmt: skip
    """Yield the rows of a delimited file in batches. Several blocks are in memory at once, so that they are small at
    first, and larger from a row on that is longer than a block.
    """
    rows = 0
    for block_size in (SMALL_BLOCK, LARGE_BLOCK):
        reading = pacsv.ReadOptions(
            column_names=names, skip_rows_after_names=skipped + rows, block_size=block_size, encoding=encoding
        )
        try:
            with pacsv.open_csv(path, reading, parsing, converting) as reader:
                for batch in reader:
                    yield batch
                    rows += len(batch)
            return
        except pa.ArrowInvalid as error:
            if "straddling" not in str(error) or block_size == LARGE_BLOCK:
                raise


def compare_records(
    table: Table,
    path: Path,
    final: Path,
    positions: Sequence[ColumnPosition],
    form: TextForm,
    codes: Codes,
    delimiter: str,
) -> int:
    """Read records of fixed width, or of several lines, and compare their cells as text."""
    if not len(table):
        return 0
    if not delimiter and form.encoding in ("utf-8", "ascii", "cp1252", "iso8859-1"):
        is_same = match_blocks(
            lambda start, stop: format_rows(table, start, stop, form, codes), path, len(table), positions, form
        )
        if is_same:
            return len(table) * len(table.names)
    expected = format_rows(table, 0, len(table), form, codes)
    text = path.read_bytes().decode(form.encoding).replace("\r\n", "\n")
    lines = pa.array(text.split("\n")[:-1], pa.large_string())
    each = max(position.line for position in positions)
    cells_found: dict[str, pa.Array] = {}
    for number in range(1, each + 1):
        positions_there = [position for position in positions if position.line == number]
        lines_there = lines.take(pa.array(range(number - 1, len(lines), each)))
        if delimiter:
            cells = pc.split_pattern(lines_there, delimiter)
            cells_found |= {
                position.name: pc.list_element(cells, index) for index, position in enumerate(positions_there)
            }
        else:
            for position in positions_there:
                cut = pc.utf8_slice_codeunits(lines_there, position.start - 1, position.end)
                cells_found[position.name] = pc.utf8_trim(cut, " ") if not position.is_text else pc.utf8_rtrim(cut, " ")
    back = {name: pc.if_else(pc.equal(cells, ""), None, cells) for name, cells in cells_found.items()}
    if not delimiter:  # trailing spaces cannot be distinguished from padding
        expected = {name: strip_end(array) for name, array in expected.items()}
    require_row_count(len(table), len(lines) // each, final)
    compare_columns(expected, back, 0, final)
    return len(table) * len(table.names)


def compare_reasons(table: Table, missing: Mapping[str, MissingPlan], final: Path) -> None:
    """Compare the reasons in a descriptor with those of the table.

    Raises FileError naming the first column with other reasons.
    """
    for name, column in table.columns.items():
        if column.why is None:
            continue
        plan = missing.get(name, MissingPlan())
        for start in range(0, len(column), BLOCK):
            part = column.slice(start, start + BLOCK)
            blank = Column.all_missing("integer", len(part), BLANK).clear_missing(~part.is_missing)
            restored = apply_reasons(blank, plan, range(start, start + len(part)), len(column))
            if not have_same_reasons(restored, part):
                raise FileError(
                    f"{final} was not written: the reasons of missing cells in {name} differ after reading back.",
                    todo=REPORT,
                )


def have_same_reasons(first: Column, second: Column) -> bool:
    """Return whether two columns miss the same cells for the same reasons."""
    if first.why is None or second.why is None:
        return first.missing_count == second.missing_count
    all_reasons = join_reasons(first.reasons, second.reasons)
    return np.array_equal(
        renumber_why(first.why, first.reasons, all_reasons), renumber_why(second.why, second.reasons, all_reasons)
    )


def format_rows(table: Table, start: int, stop: int, form: TextForm, codes: Codes) -> dict[str, pa.Array]:
    """Return some rows as they are written."""
    return {
        name: format_in_form(column.slice(start, stop), {}, form, codes.get(name, ()))
        for name, column in table.columns.items()
    }


def match_blocks(
    expect: Callable[[int, int], Mapping[str, pa.Array]],
    path: Path,
    rows: int,
    positions: Sequence[ColumnPosition],
    form: TextForm,
) -> bool:
    """Return whether every record has one length in bytes and every cell is in place: a fast test."""
    line_end = 2 if form.line_ends == "windows" else 1
    starts: dict[str, int] = {}
    length = 0
    for number in range(1, max(position.line for position in positions) + 1):
        positions_there = [position for position in positions if position.line == number]
        starts |= {position.name: length + position.start - 1 for position in positions_there}
        length += positions_there[-1].end + line_end
    if path.stat().st_size != rows * length:
        return False
    for start in range(0, rows, BLOCK):
        expected = expect(start, min(start + BLOCK, rows))
        block = np.fromfile(path, np.uint8, BLOCK * length, offset=start * length).reshape(-1, length)
        for position in positions:
            pad = pc.utf8_rpad if position.is_text else pc.utf8_lpad
            padded = pad(expected[position.name].fill_null(""), position.width)
            begins, data = get_buffers(padded.cast(pa.large_string()))
            cells = block[:, starts[position.name] : starts[position.name] + position.width]
            sent = data[begins[0] : begins[-1]]
            if len(sent) != cells.size or not np.array_equal(cells.reshape(-1), sent):
                return False
    return True


def strip_end(texts: pa.Array) -> pa.Array:
    """Strip trailing spaces; an empty text becomes null."""
    cut = pc.utf8_rtrim(texts, " ")
    return pc.if_else(pc.equal(cut, ""), None, cut)


def require_row_count(sent: int, rows: int, final: Path | str) -> None:
    """Stop if not all rows, or more, were read back."""
    if rows != sent:
        raise FileError(f"{final} was not written: {sent:,} rows were written, {rows:,} read back.", todo=REPORT)


def compare_columns(
    expected: Mapping[str, pa.Array], back: Mapping[str, pa.Array], start: int, final: Path | str
) -> None:
    """Compare columns that were written with those read back, from row `start` on.

    Raises FileError naming the first differing cell.
    """
    for name, array in expected.items():
        if not back[name].equals(array):
            raise FileError(
                f"{final} was not written: the column {name} differs after reading back.",
                where=find_first_difference(array, back[name], start),
                todo=REPORT,
            )


def to_readable(column: Column) -> pa.Array:
    """Return the column as an Arrow array of the type that it is read back as."""
    array = column.to_arrow()
    if column.type == "datetime":
        return array.cast(pa.timestamp("us"))
    return array


def find_first_difference(expected: pa.Array, back: pa.Array, start: int) -> str:
    """Describe the first differing cell."""
    cells = enumerate(zip(expected.to_pylist(), back.to_pylist(), strict=False), start=start + 1)
    return next((f"data row {row}: {sent!r} was read back as {got!r}" for row, (sent, got) in cells if sent != got), "")
