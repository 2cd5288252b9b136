"""Write delimited text part by part, so that a large table is never converted to text as a whole."""

from __future__ import annotations

import codecs
import csv
import hashlib
import io
import itertools
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any, Literal, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

from lomrix.core.arrays import text_bytes
from lomrix.core.arrays.threads import run_ahead
from lomrix.core.arrays.types import Array
from lomrix.core.combining import Run
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW
from lomrix.files.hashing import ALGORITHM
from lomrix.files.text_of_cells import format_column, format_in_form

ROWS_IN_A_PART, ROWS_FOR_OTHERS = 1 << 17, 1 << 18
WORKERS = 2
# Some text as bytes.
Content = bytes | memoryview | pa.Buffer
T = TypeVar("T")
Tokens = Mapping[str, Mapping[str, str]]
Codes = Mapping[str, Sequence[str]]
NO_CODES: Codes = {}
NO_TOKENS: Tokens = {}
DEFAULT_FORM = TextForm()


def default_delimiter(path: Path) -> str:
    """Return the delimiter that belongs to an extension."""
    return {".tsv": "\t", ".txt": "\t", ".dat": " "}.get(path.suffix.lower(), ",")


def write_columns(
    columns: Mapping[str, Column],
    tokens: Tokens,
    path: Path,
    delimiter: str,
    *,
    header: bool = True,
    form: TextForm = DEFAULT_FORM,
    codes: Codes = NO_CODES,
    hashed: bool = True,
    run: Run | None = None,
) -> str:
    """Write columns as delimited text; quotation marks are used only in files that need them.

    Parameters
    ----------
    columns
        Columns by name, of one length.
    tokens
        By column, the text that stands for each reason; an empty cell where none is given.
    path
        Where to write.
    delimiter
        One sign.
    header
        Whether the names stand in the first line.
    form
        Decimal sign, decimal places, form of dates, encoding and line ends.
    codes
        By column, missing codes that stand in it as values.
    hashed
        Whether the hash is wanted.
    run
        Makes the text of some rows; threads of this process do if None.

    Returns
    -------
    The hash of what was written, as `file_hash` would give it.
    """
    quotes = needs_quotes(columns, tokens, delimiter) or delimiter in form.date_form
    line = io.StringIO()
    csv.writer(line, delimiter=delimiter, lineterminator="\n").writerow(columns)
    require_writable(columns, tokens, form)
    parts = render_parts(columns, delimiter, tokens, quoted=quotes, form=form, codes=codes, run=run)
    header_parts = [line.getvalue().encode()] if header else []
    return write_parts(header_parts, parts, path, form, hashed=hashed)


def render_parts(
    columns: Mapping[str, Column],
    delimiter: str,
    tokens: Tokens = NO_TOKENS,
    *,
    quoted: bool,
    form: TextForm = DEFAULT_FORM,
    codes: Codes = NO_CODES,
    run: Run | None = None,
) -> Iterator[memoryview]:
    """Yield the rows as delimited text in UTF-8, part after part."""
    rows = len(next(iter(columns.values()))) if columns else 0

    def list_arguments(size: int) -> Iterator[tuple[Any, ...]]:
        for start in range(0, rows, size):
            part = {name: column.slice(start, start + size) for name, column in columns.items()}
            yield part, delimiter, tokens, quoted, form, codes

    if run is None:
        return (part.data for part in run_ahead(render_rows, list_arguments(ROWS_IN_A_PART), WORKERS))
    return (part.data for part in run(render_rows, list_arguments(ROWS_FOR_OTHERS)))


def render_rows(
    columns: Mapping[str, Column], delimiter: str, tokens: Tokens, quoted: bool, form: TextForm, codes: Codes
) -> Array:
    """Return some rows as delimited text: its bytes."""
    style: Literal["needed", "none"] = "needed" if quoted else "none"
    options = pacsv.WriteOptions(include_header=False, delimiter=delimiter, quoting_style=style, batch_size=16_384)
    texts = {
        name: format_column(column, tokens.get(name, {}))
        if form.is_plain
        else format_in_form(column, tokens.get(name, {}), form, codes.get(name, ()))
        for name, column in columns.items()
    }
    sink = pa.BufferOutputStream()
    pacsv.write_csv(pa.table(texts), sink, options)
    return np.frombuffer(sink.getvalue(), np.uint8)


def write_parts(
    head: Iterable[Content], parts: Iterable[Content], path: Path, form: TextForm, *, hashed: bool = True
) -> str:
    """Write parts of text in the stated encoding and line ends; return their hash if requested."""
    digest = hashlib.blake2b(digest_size=32)
    encode = None if form.encoding == "utf-8" else codecs.getincrementalencoder(form.encoding)().encode
    with path.open("wb") as file:
        for content in itertools.chain(head, parts):
            data = content
            if form.line_ends == "windows":
                data = bytes(content).replace(b"\n", b"\r\n")
            if encode is not None:
                data = encode(bytes(data).decode())
            file.write(data)
            if hashed:
                digest.update(data)
    return ALGORITHM + digest.hexdigest()


def require_writable(columns: Mapping[str, Column], tokens: Tokens, form: TextForm) -> None:
    """Stop if a text cannot be encoded, or holds a line break of another kind than the file's.

    Raises FileError with the column, row and character.
    """
    if form.encoding != "utf-8":
        texts = [*columns, *(token for message in tokens.values() for token in message.values())]
        for text in texts:
            require_encodable(text, form.encoding, "a name or a code")
    for name, column in columns.items():
        if column.type != "string":
            continue
        if form.encoding != "utf-8":
            require_encodable_column(name, column, form.encoding)
        row = find_first_row(column, "\n") if form.line_ends == "windows" else None
        if row is not None:
            raise FileError(
                "A text holds a line break, which other line ends would change.",
                where=f"{name}, row {row}",
                todo="Use ‹line_ends=unix›, or remove the line break.",
            )


def find_first_row(column: Column, character: str) -> int | None:
    """Return the first row, as a spreadsheet counts, whose text holds a character; None if there is none."""
    if column.type != "string" or not text_bytes.has_byte(column.strings.strings, character.encode()):
        return None
    has_character = pc.match_substring(column.to_arrow(), character).fill_null(False).to_numpy(zero_copy_only=False)
    rows = np.flatnonzero(has_character)
    return int(rows[0]) + FIRST_ROW if len(rows) else None


def require_encodable_column(name: str, column: Column, encoding: str) -> None:
    """Stop if some text of a column cannot be encoded."""
    strings = column.strings.strings
    try:
        "\n".join(strings.drop_null().to_pylist()).encode(encoding)
    except UnicodeEncodeError:
        for row, text in enumerate(column.cells()):
            if text is not None:
                require_encodable(text, encoding, f"{name}, row {row + FIRST_ROW}")


def require_encodable(text: str, encoding: str, where: str) -> None:
    """Stop if a text cannot be encoded."""
    try:
        text.encode(encoding)
    except UnicodeEncodeError as error:
        raise FileError(
            f"The encoding {encoding} has no {text[error.start]}.",
            where=f"{where}: {text[:60]}",
            todo="Use ‹ascii› to replace such letters, or ‹encoding_out=utf-8›.",
        ) from error


def needs_quotes(columns: Mapping[str, Column], tokens: Tokens, delimiter: str) -> bool:
    """Return whether some text holds the delimiter, a quote character or a line break."""
    special = [delimiter.encode(), b'"', b"\n", b"\r"]
    if any(
        character.decode() in token
        for message in tokens.values()
        for token in message.values()
        for character in special
    ):
        return True

    def holds_special(column: Column) -> bool:
        return any(text_bytes.has_byte(column.strings.strings, character) for character in special)

    # A pool may hold strings that do not occur.
    texts = [column for column in columns.values() if column.type == "string"]
    return any(holds_special(column) and holds_special(column.compact()) for column in texts)
