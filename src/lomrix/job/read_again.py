"""Outputs read again before they are committed: every cell, and why cells are missing."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.steps.export.coding import coded
from lomrix.core.steps.export.missing_codes import MissingCodes
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.files.read_back import REPORT
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import source_of
from lomrix.files.staging import FileSink, guarded


def compared_with_staged(sink: FileSink, table: Table) -> int:
    """Read what was staged under the names that it will have, and compare it with the table that was written.

    Parameters
    ----------
    sink
        Has staged it.
    table
        What was written.

    Returns
    -------
    Number of cells that were compared.

    Raises
    ------
    FileError
        Naming the first column that did not come back.
    """
    with tempfile.TemporaryDirectory(dir=sink.staged.parent, prefix=".") as name:
        for place, part in sink.parts.items():
            guarded(place, "read", lambda place=place, part=part: linked(part, Path(name) / place.name))  # type: ignore[misc]
        final = next(iter(sink.parts))
        back = source_of(str(Path(name) / final.name), ReadSettings()).read().table
    if back.names != table.names or len(back) != len(table):
        raise FileError(
            f"{sink.path} was not written: {len(table):,} rows and {len(table.names)} columns went out, "
            f"{len(back):,} and {len(back.names)} came back.",
            todo=REPORT,
        )
    for name, sent in table.columns.items():
        if not as_written(back[name], name, sink).same_as(sent.fitting(back[name].type)):
            raise FileError(
                f"{sink.path} was not written: the column {name} did not come back as it went out.", todo=REPORT
            )
    return len(table) * len(table.names)


def linked(part: Path, place: Path) -> None:
    """A file under another name, without copying where the disk knows how."""
    try:
        os.link(part, place)
    except OSError:
        shutil.copyfile(part, place)


def as_written(column: Column, name: str, sink: FileSink) -> Column:
    """A column as it was read, with the missing codes in it that stand in the file."""
    if sink.prepared is None:
        return column
    codes = {reason: code for code, reason in sink.prepared.codes.get(name, {}).items()}
    return coded(column, name, MissingCodes("", {}, {name: codes}), sink.delivery.text) if codes else column
