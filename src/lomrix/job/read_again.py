"""Read outputs back before they are committed, and compare every cell and reason."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.steps.export.coding import fill_codes
from lomrix.core.steps.export.missing_codes import MissingCodes
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.files.read_back import REPORT
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_source
from lomrix.files.staging import FileSink, guard


def compare_with_staged(sink: FileSink, table: Table) -> int:
    """Read what was staged, under its final name, and compare it with the table that was written."""
    with tempfile.TemporaryDirectory(dir=sink.staged.parent, prefix=".") as folder:
        for path, part in sink.parts.items():
            guard(path, "read", lambda path=path, part=part: link_or_copy(part, Path(folder) / path.name))  # type: ignore[misc]
        final = next(iter(sink.parts))
        back = open_source(str(Path(folder) / final.name), ReadSettings()).read().table
    if back.names != table.names or len(back) != len(table):
        raise FileError(
            f"{sink.path} was not written: of {len(table):,} rows and {len(table.names)} columns, "
            f"{len(back):,} rows and {len(back.names)} columns read back.",
            todo=REPORT,
        )
    for folder, written in table.columns.items():
        if not restore_codes(back[folder], folder, sink).same_as(written.fit_type(back[folder].type)):
            raise FileError(
                f"{sink.path} was not written: the column {folder} differs after reading back.", todo=REPORT
            )
    return len(table) * len(table.names)


def link_or_copy(part: Path, path: Path) -> None:
    """Give a file another name, without copying where the disk allows."""
    try:
        os.link(part, path)
    except OSError:
        shutil.copyfile(part, path)


def restore_codes(column: Column, name: str, sink: FileSink) -> Column:
    """Restore the missing codes that the file holds in a column that was read back."""
    if sink.prepared is None:
        return column
    codes = {reason: code for code, reason in sink.prepared.codes.get(name, {}).items()}
    return fill_codes(column, name, MissingCodes("", {}, {name: codes}), sink.delivery.text) if codes else column
