"""Sources and targets: which reader or writer a name belongs to."""

from __future__ import annotations

import difflib
import importlib
import sys
import tempfile
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from lomrix.core.errors import FileError, UsageError
from lomrix.core.table.column import Column
from lomrix.files.read import Read, ReadSettings

# One module per format; each has read_table and, where it can be written, write_table.
WRITERS = {
    ".csv": "delimited",
    ".tsv": "delimited",
    ".txt": "delimited",
    ".parquet": "parquet",
    ".arrow": "arrow_file",
    ".jsonl": "json_lines",
    ".xlsx": "workbook",
}
READERS = {**WRITERS, ".ods": "workbook"}
STREAM = "-"
# How the first bytes of a stream tell its format; what is none of these is delimited text.
SIGNS = {b"PAR1": ".parquet", b"ARROW1": ".arrow", b"PK\x03\x04": ".xlsx", b"{": ".jsonl"}


def format_of(path: Path, known: dict[str, str], doing: str) -> Any:
    """The module that reads or writes files with a path's extension.

    Raises
    ------
    UsageError
        Where no format has that extension.
    """
    suffix = path.suffix.lower()
    if suffix not in known:
        raise UsageError(
            f"{path.name or path} has no extension that Lomrix can {doing}.",
            todo=f"Extensions are {' '.join(known)}.",
        )
    return importlib.import_module(f"lomrix.files.{known[suffix]}")


def read_source(source: str, settings: ReadSettings) -> Read:
    """Read a file, a sheet of a workbook, or standard input.

    Parameters
    ----------
    source
        Path of the file; `workbook.xlsx#Sheet` names a sheet, `-` is standard input.
    settings
        What was said about it.

    Raises
    ------
    FileError
        Where it is not there, is a directory, or cannot be read.
    """
    if source == STREAM:
        return read_stream(settings)
    path, sheet = path_and_sheet(source)
    require_file(path)
    reader = format_of(path, READERS, "read")
    if sheet:
        settings = replace(settings, sheet=sheet)
    read: Read = guarded(path, "read", lambda: reader.read_table(path, settings))
    unread = [name for name in read.names if name not in read.table.columns]
    if not unread:
        return read
    later = {name: partial(one_column, source, settings, name) for name in unread}
    return replace(read, table=replace(read.table, unread=later))


def one_column(source: str, settings: ReadSettings, name: str) -> Column:
    """One column of a source, read on its own."""
    return read_source(source, replace(settings, needed=lambda names: [name])).table[name]


def path_and_sheet(source: str) -> tuple[Path, str]:
    """The file and the sheet that a source names; no sheet where the file's own name has the sign #."""
    head, sign, sheet = source.rpartition("#")
    if not sign or Path(source).exists() or Path(head).suffix.lower() not in (".xlsx", ".ods"):
        return Path(source), ""
    return Path(head), sheet


def read_stream(settings: ReadSettings) -> Read:
    """Read standard input, whose first bytes tell its format."""
    content = sys.stdin.buffer.read()
    suffix = next((suffix for sign, suffix in SIGNS.items() if content.startswith(sign)), ".csv")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"input{suffix}"
        path.write_bytes(content)
        read: Read = guarded(path, "read", lambda: format_of(path, READERS, "read").read_table(path, settings))
        return read


def require_file(path: Path) -> None:
    """Stop where there is no such file, naming the nearest ones that are there.

    Raises
    ------
    FileError
        Where it is not there, or is a directory.
    """
    if path.is_dir():
        raise FileError(f"{path} is a directory, not a file.", todo="Name a file in it.")
    if path.exists():
        return
    try:
        names = [one.name for one in path.parent.iterdir()]
    except OSError:
        names = []
    near = difflib.get_close_matches(path.name, names, n=2, cutoff=0.6)
    raise FileError(
        f"There is no file {path}.",
        todo=f"Did you mean {' or '.join(str(path.parent / name) for name in near)}?" if near else "Check the path.",
    )


def guarded(path: Path, doing: str, action: Callable[[], Any]) -> Any:
    """Do something with a file; whatever the system says against it becomes a plain error.

    Raises
    ------
    FileError
        With the system's own reason.
    """
    try:
        return action()
    except (OSError, MemoryError) as error:
        reason = getattr(error, "strerror", None) or str(error) or type(error).__name__
        todo = {
            28: "Free some space, or write to another disk.",
            13: "Check the permissions, or choose another place.",
        }.get(getattr(error, "errno", 0) or 0, "Check the path and the disk.")
        raise FileError(
            f"{path} cannot be {'read' if doing == 'read' else 'written'}.", where=reason, todo=todo
        ) from error
