"""Writing delimited text: part after part, so that even a big table is never turned into text as a whole."""

from __future__ import annotations

import csv
import hashlib
import io
from collections import deque
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

import pyarrow as pa
import pyarrow.csv as pacsv

from lomrix.core.arrays import text_bytes
from lomrix.core.table.column import Column
from lomrix.files.text_of_cells import as_text

ROWS_IN_A_PART = 1 << 17
WORKERS = 2
Tokens = Mapping[str, Mapping[str, str]]


def delimiter_of(path: Path) -> str:
    """The delimiter that belongs to an extension."""
    return {".tsv": "\t", ".txt": "\t", ".dat": " "}.get(path.suffix.lower(), ",")


def write_columns(
    columns: Mapping[str, Column], tokens: Tokens, path: Path, delimiter: str, *, header: bool = True
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

    Returns
    -------
    The hash of what was written, as `descriptor.file_hash` would give it.
    """
    style = "needed" if needs_quotes(columns, tokens, delimiter) else "none"
    options = pacsv.WriteOptions(include_header=False, delimiter=delimiter, quoting_style=style, batch_size=16_384)

    def rendered(start: int) -> pa.Buffer:
        part = {
            name: as_text(column.part(start, start + ROWS_IN_A_PART), tokens.get(name, {}))
            for name, column in columns.items()
        }
        sink = pa.BufferOutputStream()
        pacsv.write_csv(pa.table(part), sink, options)
        return sink.getvalue()

    digest = hashlib.blake2b(digest_size=32)
    with path.open("wb") as file:
        if header:
            line = io.StringIO()
            csv.writer(line, delimiter=delimiter, lineterminator="\n").writerow(columns)
            file.write(line.getvalue().encode())
            digest.update(line.getvalue().encode())
        rows = len(next(iter(columns.values()))) if columns else 0
        for content in _in_order(rendered, range(0, rows, ROWS_IN_A_PART)):
            file.write(content)
            digest.update(content)
    return "blake2b-256:" + digest.hexdigest()


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
