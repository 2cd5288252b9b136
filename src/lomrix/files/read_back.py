"""Read back: what was exported is read again and compared cell by cell before success is reported."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

from lomrix.core.arrays.text_bytes import offsets_and_data
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.core.table.reasons import BLANK, joined_reasons, renumbered
from lomrix.core.table.table import Table
from lomrix.files.lines import Place
from lomrix.files.missing import Missing, with_reasons
from lomrix.files.signs import signs_of
from lomrix.files.text_layout import HEAD, quotes_below
from lomrix.files.text_of_cells import in_form
from lomrix.files.text_writer import AS_ALWAYS, NO_CODES, Codes, delimiter_of

REPORT = "This is a bug in Lomrix; please report it."


def compared_with_file(
    table: Table,
    path: Path,
    final: Path,
    delimiter: str = "",
    *,
    header: bool,
    form: TextForm = AS_ALWAYS,
    codes: Codes = NO_CODES,
) -> int:
    """Read a delimited file and compare it with the table that was written to it.

    Parameters
    ----------
    table
        What was written.
    path
        The file.
    final
        Where the file will stand.
    delimiter
        The sign between its cells; that of its extension where empty.
    header
        Whether the file has a header.
    form, codes
        How its cells are written: where that is not as always, texts are compared.

    Returns
    -------
    Number of cells that were compared.

    Raises
    ------
    FileError
        Naming the first cell that did not come back.
    """
    names = table.names
    if not len(table):
        return 0
    if form.is_plain:
        expected = {name: readable(column) for name, column in table.columns.items()}
    else:
        expected = {name: in_form(column, {}, form, codes.get(name, ())) for name, column in table.columns.items()}
    with path.open("rb") as file:
        has_quotes = quotes_below(signs_of(path), file.read(HEAD)) > 0
    read = pacsv.read_csv(
        path,
        pacsv.ReadOptions(
            column_names=names, skip_rows_after_names=int(header), block_size=1 << 23, encoding=form.encoding
        ),
        pacsv.ParseOptions(
            delimiter=delimiter or delimiter_of(final),
            newlines_in_values=has_quotes,
            ignore_empty_lines=len(names) > 1,
        ),
        pacsv.ConvertOptions(
            column_types={name: array.type for name, array in expected.items()},
            null_values=[""],
            strings_can_be_null=True,
            true_values=["true"],
            false_values=["false"],
        ),
    )
    return compared(expected, {name: read.column(name) for name in names}, read.num_rows, final)


def compared_with_records(
    table: Table,
    path: Path,
    final: Path,
    places: Sequence[Place],
    form: TextForm,
    codes: Codes,
    delimiter: str,
) -> int:
    """Read records of fixed width, or of several lines, and compare their cells as texts.

    Parameters
    ----------
    table, path, final
        As for `compared_with_file`.
    places
        Where each column stands.
    form, codes
        How its cells are written.
    delimiter
        The sign between cells; empty where columns have a fixed width.
    """
    if not len(table):
        return 0
    expected = {name: in_form(column, {}, form, codes.get(name, ())) for name, column in table.columns.items()}
    if not delimiter and form.encoding in ("utf-8", "ascii", "cp1252", "iso8859-1"):
        same = same_blocks(expected, path.read_bytes(), len(table), places, form)
        if same:
            return len(table) * len(table.names)
    text = path.read_bytes().decode(form.encoding).replace("\r\n", "\n")
    lines = pa.array(text.split("\n")[:-1], pa.large_string())
    each = max(place.line for place in places)
    found: dict[str, pa.Array] = {}
    for number in range(1, each + 1):
        here = [place for place in places if place.line == number]
        these = lines.take(pa.array(range(number - 1, len(lines), each)))
        if delimiter:
            cells = pc.split_pattern(these, delimiter)
            found |= {place.name: pc.list_element(cells, at) for at, place in enumerate(here)}
        else:
            for place in here:
                cut = pc.utf8_slice_codeunits(these, place.start - 1, place.end)
                found[place.name] = pc.utf8_trim(cut, " ") if not place.is_text else pc.utf8_rtrim(cut, " ")
    back = {name: pa.chunked_array([pc.if_else(pc.equal(cells, ""), None, cells)]) for name, cells in found.items()}
    if not delimiter:  # what is blank to the right cannot be told from what fills the place
        expected = {name: without_tail(array) for name, array in expected.items()}
    return compared(expected, back, len(lines) // each, final)


def compared_reasons(table: Table, missing: Mapping[str, Missing], final: Path) -> None:
    """Hold what a descriptor says of empty cells against why they are empty.

    Raises
    ------
    FileError
        Naming the first column whose reasons would not come back.
    """
    for name, column in table.columns.items():
        if column.why is None:
            continue
        empty = Column.all_missing("integer", len(column), BLANK).cleared(column.why == 0)
        told = with_reasons(empty, missing.get(name, Missing()))
        if told.reason_counts() != column.reason_counts() or not all_equal(told, column):
            raise FileError(
                f"{final} was not written: why cells of {name} are missing would not come back.", todo=REPORT
            )


def all_equal(one: Column, two: Column) -> bool:
    """True where two columns miss the same cells for the same reasons."""
    if one.why is None or two.why is None:
        return one.missing_count == two.missing_count
    every = joined_reasons(one.reasons, two.reasons)
    return np.array_equal(renumbered(one.why, one.reasons, every), renumbered(two.why, two.reasons, every))


def same_blocks(
    expected: Mapping[str, pa.Array], raw: bytes, rows: int, places: Sequence[Place], form: TextForm
) -> bool:
    """True where every record has one length in bytes, and every cell stands in its place: the quick way to tell."""
    line_end = 2 if form.line_ends == "windows" else 1
    starts: dict[str, int] = {}
    length = 0
    for line in range(1, max(place.line for place in places) + 1):
        here = [place for place in places if place.line == line]
        starts |= {place.name: length + place.start - 1 for place in here}
        length += here[-1].end + line_end
    if len(raw) != rows * length:
        return False
    block = np.frombuffer(raw, np.uint8).reshape(rows, length)
    for place in places:
        pad = pc.utf8_rpad if place.is_text else pc.utf8_lpad
        begins, data = offsets_and_data(pad(expected[place.name].fill_null(""), place.width).cast(pa.large_string()))
        cells = block[:, starts[place.name] : starts[place.name] + place.width]
        sent = data[begins[0] : begins[-1]]
        if len(sent) != cells.size or not np.array_equal(cells.reshape(-1), sent):
            return False
    return True


def without_tail(texts: pa.Array) -> pa.Array:
    """Texts without blanks at the end; what is nothing then is a null."""
    cut = pc.utf8_rtrim(texts, " ")
    return pc.if_else(pc.equal(cut, ""), None, cut)


def compared(
    expected: Mapping[str, pa.Array], back: Mapping[str, pa.ChunkedArray], rows: int, final: Path | str
) -> int:
    """Compare the columns that went out with those that came back; returns the number of cells.

    Raises
    ------
    FileError
        Naming the first cell that differs.
    """
    sent = len(next(iter(expected.values())))
    if rows != sent:
        raise FileError(f"{final} was not written: {sent:,} rows went out, {rows:,} came back.", todo=REPORT)
    for name, array in expected.items():
        if not back[name].equals(pa.chunked_array([array])):
            raise FileError(
                f"{final} was not written: the column {name} did not come back as it went out.",
                where=first_difference(array, back[name]),
                todo=REPORT,
            )
    return sent * len(expected)


def readable(column: Column) -> pa.Array:
    """The column as an Arrow array of the type that it is read back as."""
    array = column.to_arrow()
    if column.type == "datetime":
        return array.cast(pa.timestamp("us"))
    return array


def first_difference(expected: pa.Array, back: pa.ChunkedArray) -> str:
    """The first cell that differs, in words."""
    start = 0
    for chunk in back.chunks:
        part = expected.slice(start, len(chunk))
        if not part.equals(chunk):
            cells = enumerate(zip(part.to_pylist(), chunk.to_pylist(), strict=True), start=start + 1)
            return next(
                (f"data row {row}: {one!r} came back as {two!r}" for row, (one, two) in cells if one != two), ""
            )
        start += len(chunk)
    return ""
