"""The registry: which module reads and writes what a reference names."""

from __future__ import annotations

import importlib
import tempfile
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import IO, Any

from lomrix.core.errors import UsageError
from lomrix.files.file_source import FileSource, require_file
from lomrix.files.missing_words import InCells
from lomrix.files.reading import ReadSettings
from lomrix.files.staging import FileSink, require_no_directory

# One module per format, with a Reader and, where it can be written, a Writer.
FORMATS = {
    ".csv": "delimited",
    ".tsv": "delimited",
    ".txt": "delimited",
    ".parquet": "parquet",
    ".arrow": "arrow_file",
    ".jsonl": "json_lines",
    ".xlsx": "workbook",
    ".ods": "workbook",
}
ONLY_READ = (".ods",)
WRITTEN = tuple(suffix for suffix in FORMATS if suffix not in ONLY_READ)
# Forms of exported files: the module that writes them, and the extensions that they may have.
FORMS = {"headed": ("delimited", (".csv", ".tsv", ".txt")), "bare": ("bare", (".dat", ".txt", ".csv", ".tsv"))}
WITH_SHEETS = (".xlsx", ".ods")
WITH_WORDS = (".csv", ".tsv", ".txt", ".xlsx")
STREAM = "-"
# How the first bytes of a stream tell its format; what is none of these is delimited text.
SIGNS = {b"PAR1": ".parquet", b"ARROW1": ".arrow", b"PK\x03\x04": ".xlsx", b"{": ".jsonl"}


def source_of(reference: str, settings: ReadSettings) -> FileSource:
    """The source that a reference names.

    Parameters
    ----------
    reference
        Path of a file; `workbook.xlsx#Sheet` names a sheet.
    settings
        What was said about it.

    Raises
    ------
    UsageError
        Where no format has its extension.
    FileError
        Where there is no such file.
    """
    path, sheet = path_and_sheet(reference)
    require_file(path)
    reader: Callable[..., FileSource] = _module(path, FORMATS, "read").Reader
    return reader(path, settings, sheet)


def stream_source(stream: IO[bytes], settings: ReadSettings, folder: Path) -> FileSource:
    """Standard input as a source: its first bytes tell its format, and it behaves as a file does.

    Parameters
    ----------
    stream
        What is read.
    settings
        What was said about it.
    folder
        A folder that is there as long as the source is used.
    """
    content = stream.read()
    suffix = next((suffix for sign, suffix in SIGNS.items() if content.startswith(sign)), ".csv")
    with tempfile.NamedTemporaryFile(dir=folder, suffix=suffix, delete=False) as file:
        file.write(content)
    path = Path(file.name).rename(folder / f"input{suffix}")
    return source_of(str(path), settings)


def sink_of(
    reference: str, *, form: str = "", overwrite: bool = False, owner_only: bool = False, in_cells: InCells = "empty"
) -> FileSink:
    """The sink that a reference names, not checked yet.

    Parameters
    ----------
    reference
        Path of a file.
    form
        Form of an exported file; empty where the extension alone decides.
    overwrite, owner_only
        Whether files that are there may be replaced, and whether others may read them.
    in_cells
        What stands in missing cells of text files whose reason has no code.

    Raises
    ------
    UsageError
        Where no format has its extension.
    """
    path = Path(reference)
    suffix = path.suffix.lower()
    require_no_directory(path)
    if form:
        module, allowed = FORMS[form]
        if suffix not in allowed:
            raise UsageError(
                f"A {form} file cannot be written to {path.name}.", todo=f"Its extension is one of {' '.join(allowed)}."
            )
        writer = importlib.import_module(f"lomrix.files.{module}").Writer
    else:
        writer = _module(path, {one: FORMATS[one] for one in WRITTEN}, "write").Writer
    made: FileSink = writer(path, overwrite, owner_only)
    return replace(made, in_cells=in_cells) if suffix in WITH_WORDS and form != "bare" else made  # type: ignore[call-arg]


def _module(path: Path, known: dict[str, str], doing: str) -> Any:
    suffix = path.suffix.lower()
    if suffix not in known:
        raise unknown_format(path, tuple(known), doing)
    return importlib.import_module(f"lomrix.files.{known[suffix]}")


def unknown_format(path: Path, known: tuple[str, ...], doing: str) -> UsageError:
    """The error for an extension that no format has."""
    return UsageError(
        f"{path.name or path} has no extension that Lomrix can {doing}.", todo=f"Extensions are {' '.join(known)}."
    )


def path_and_sheet(reference: str) -> tuple[Path, str]:
    """The file and the sheet that a reference names; no sheet where the file's own name has the sign #."""
    head, sign, sheet = reference.rpartition("#")
    if not sign or Path(reference).exists() or Path(head).suffix.lower() not in WITH_SHEETS:
        return Path(reference), ""
    return Path(head), sheet
