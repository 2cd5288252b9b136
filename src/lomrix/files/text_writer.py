"""Writing delimited text: part after part, so that even a big table is never turned into text as a whole."""

from __future__ import annotations

import codecs
import csv
import hashlib
import io
import itertools
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv

from lomrix.core.arrays import text_bytes
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW
from lomrix.files.hashing import ALGORITHM
from lomrix.files.text_of_cells import as_text, in_form

ROWS_IN_A_PART = 1 << 17
WORKERS = 2
Tokens = Mapping[str, Mapping[str, str]]
Codes = Mapping[str, Sequence[str]]
NO_CODES: Codes = {}
NO_TOKENS: Tokens = {}
AS_ALWAYS = TextForm()


def delimiter_of(path: Path) -> str:
    """The delimiter that belongs to an extension."""
    return {".tsv": "\t", ".txt": "\t", ".dat": " "}.get(path.suffix.lower(), ",")


def write_columns(
    columns: Mapping[str, Column],
    tokens: Tokens,
    path: Path,
    delimiter: str,
    *,
    header: bool = True,
    form: TextForm = AS_ALWAYS,
    codes: Codes = NO_CODES,
    hashed: bool = True,
) -> str:
    """Write columns as delimited text; quotation marks stand only in files that need them.

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

    Returns
    -------
    The hash of what was written, as `file_hash` would give it.
    """
    quotes = needs_quotes(columns, tokens, delimiter) or delimiter in form.date_form
    line = io.StringIO()
    csv.writer(line, delimiter=delimiter, lineterminator="\n").writerow(columns)
    require_holding(columns, tokens, form)
    parts = rendered_parts(columns, delimiter, tokens, quoted=quotes, form=form, codes=codes)
    head = [pa.py_buffer(line.getvalue().encode())] if header else []
    return write_parts(head, parts, path, form, hashed=hashed)


def rendered_parts(
    columns: Mapping[str, Column],
    delimiter: str,
    tokens: Tokens = NO_TOKENS,
    *,
    quoted: bool,
    form: TextForm = AS_ALWAYS,
    codes: Codes = NO_CODES,
) -> Iterator[pa.Buffer]:
    """The rows as delimited text in UTF-8, part after part; texts in quotation marks where that is said."""
    options = pacsv.WriteOptions(
        include_header=False, delimiter=delimiter, quoting_style="needed" if quoted else "none", batch_size=16_384
    )

    def rendered(start: int) -> pa.Buffer:
        part = {}
        for name, column in columns.items():
            cells, told = column.part(start, start + ROWS_IN_A_PART), tokens.get(name, {})
            part[name] = as_text(cells, told) if form.is_plain else in_form(cells, told, form, codes.get(name, ()))
        sink = pa.BufferOutputStream()
        pacsv.write_csv(pa.table(part), sink, options)
        return sink.getvalue()

    rows = len(next(iter(columns.values()))) if columns else 0
    return _in_order(rendered, range(0, rows, ROWS_IN_A_PART))


def write_parts(
    head: Iterable[pa.Buffer], parts: Iterable[pa.Buffer], path: Path, form: TextForm, *, hashed: bool = True
) -> str:
    """Write parts of text, encoded and with the line ends that were asked for; returns their hash where wanted."""
    digest = hashlib.blake2b(digest_size=32)
    encode = None if form.encoding == "utf-8" else codecs.getincrementalencoder(form.encoding)().encode
    with path.open("wb") as file:
        for content in itertools.chain(head, parts):
            written: pa.Buffer | bytes = content
            if form.line_ends == "windows":
                written = content.to_pybytes().replace(b"\n", b"\r\n")
            if encode is not None:
                written = encode(bytes(written).decode())
            file.write(written)
            if hashed:
                digest.update(written)
    return ALGORITHM + digest.hexdigest()


def require_holding(columns: Mapping[str, Column], tokens: Tokens, form: TextForm) -> None:
    """Stop where a text cannot be written in the encoding, or holds a line break of another kind than the file's.

    Raises
    ------
    FileError
        With the column, the row and the sign.
    """
    if form.encoding != "utf-8":
        texts = [*columns, *(token for told in tokens.values() for token in told.values())]
        for text in texts:
            require_encodable(text, form.encoding, "a name or a code")
    for name, column in columns.items():
        if column.type != "string":
            continue
        if form.encoding != "utf-8":
            require_encodable_column(name, column, form.encoding)
        row = first_row_with(column, "\n") if form.line_ends == "windows" else None
        if row is not None:
            raise FileError(
                "A text holds a line break, which other line ends would change.",
                where=f"{name}, row {row}",
                todo="Say ‹line_ends=unix›, or take the line break out.",
            )


def first_row_with(column: Column, sign: str) -> int | None:
    """The first row, as a sheet counts it, whose text holds a sign; None where there is none."""
    if column.type != "string" or not text_bytes.has_byte(column.strings.strings, sign.encode()):
        return None
    held = pc.match_substring(column.to_arrow(), sign).fill_null(False).to_numpy(zero_copy_only=False)
    rows = np.flatnonzero(held)
    return int(rows[0]) + FIRST_ROW if len(rows) else None


def require_encodable_column(name: str, column: Column, encoding: str) -> None:
    """Stop where some text of a column cannot be written in an encoding."""
    strings = column.strings.strings
    try:
        "\n".join(strings.drop_null().to_pylist()).encode(encoding)
    except UnicodeEncodeError:
        for row, text in enumerate(column.cells()):
            if text is not None:
                require_encodable(text, encoding, f"{name}, row {row + FIRST_ROW}")


def require_encodable(text: str, encoding: str, where: str) -> None:
    """Stop where a text cannot be written in an encoding."""
    try:
        text.encode(encoding)
    except UnicodeEncodeError as error:
        raise FileError(
            f"The encoding {encoding} has no {text[error.start]}.",
            where=f"{where}: {text[:60]}",
            todo="Say ‹ascii› to write it with plain letters, or ‹encoding_out=utf-8›.",
        ) from error


def _in_order(render: Callable[[int], pa.Buffer], starts: range) -> Iterator[pa.Buffer]:
    """Parts in their order, rendered side by side, only a few of them at a time in memory."""
    with ThreadPoolExecutor(WORKERS) as workers:
        waiting: deque[Future[pa.Buffer]] = deque()
        for start in starts:
            waiting.append(workers.submit(render, start))
            if len(waiting) > WORKERS:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()


def needs_quotes(columns: Mapping[str, Column], tokens: Tokens, delimiter: str) -> bool:
    """True where some text has the delimiter, a quotation mark or a line break in it."""
    signs = [delimiter.encode(), b'"', b"\n", b"\r"]
    if any(sign.decode() in token for told in tokens.values() for token in told.values() for sign in signs):
        return True
    pools = [column.strings.strings for column in columns.values() if column.type == "string"]
    return any(text_bytes.has_byte(strings, sign) for strings in pools for sign in signs)
