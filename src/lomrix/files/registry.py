"""The registry: which module reads and writes what a reference names."""

from __future__ import annotations

import importlib
import tempfile
from collections.abc import Callable
from dataclasses import fields, replace
from pathlib import Path
from typing import IO, Any

from lomrix.core.errors import SettingError, UsageError
from lomrix.core.steps.delivery import AS_ALWAYS, Delivery, ServerForm, TextForm
from lomrix.files.database.reference import is_database
from lomrix.files.file_source import FileSource, require_file
from lomrix.files.interface import Sink, Source
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
# Formats whose writer has a module of its own.
WRITTEN_BY = {".xlsx": "workbook_writer"}
WRITTEN = tuple(suffix for suffix in FORMATS if suffix not in ONLY_READ)
TEXTS = (".csv", ".tsv", ".txt")
# Forms of exported files: the module that writes them, and the extensions that they may have.
FORMS = {
    "headed": ("delimited", TEXTS),
    "bare": ("bare", (".dat", *TEXTS)),
    "fixed": ("fixed", (".dat", ".txt")),
    "package": ("package", ("",)),
}
WITH_SHEETS = (".xlsx", ".ods")
WITH_WORDS = (".csv", ".tsv", ".txt", ".xlsx")
# Forms that hold codes only, and no words of reasons.
PLAIN = ("bare", "fixed")
STREAM = "-"
# How the first bytes of a stream tell its format; what is none of these is delimited text.
SIGNS = {b"PAR1": ".parquet", b"ARROW1": ".arrow", b"PK\x03\x04": ".xlsx", b"{": ".jsonl"}


def source_of(reference: str, settings: ReadSettings) -> Source:
    """The source that a reference names.

    Parameters
    ----------
    reference
        Path of a file; `workbook.xlsx#Sheet` names a sheet; a database URL with a table.
    settings
        What was said about it.

    Raises
    ------
    UsageError
        Where no format has its extension.
    FileError
        Where there is no such file.
    """
    if is_database(reference):
        from lomrix.files.database.source import DatabaseSource

        return DatabaseSource(reference, settings)
    path, sheet = path_and_sheet(reference)
    require_file(path)
    reader: Callable[..., FileSource] = _module(path, FORMATS, "read").Reader
    return reader(path, settings, sheet)


def stream_source(stream: IO[bytes], settings: ReadSettings, folder: Path) -> Source:
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
    reference: str,
    *,
    delivery: Delivery = AS_ALWAYS,
    overwrite: bool = False,
    owner_only: bool = False,
    in_cells: InCells = "empty",
) -> Sink:
    """The sink that a reference names, not checked yet.

    Parameters
    ----------
    reference
        Path of a file, or of a folder for a package; a database URL with a table.
    delivery
        How it is to be laid out; the extension alone decides where nothing was said.
    overwrite, owner_only
        Whether files that are there may be replaced, and whether others may read them.
    in_cells
        What stands in missing cells of text files whose reason has no code.

    Raises
    ------
    UsageError
        Where no format has its extension, or the form that was asked for cannot be written there.
    """
    if is_database(reference):
        from lomrix.files.database.sink import DatabaseSink

        require_no_text(delivery, "a table of a database")
        return DatabaseSink.of(reference, delivery, overwrite)
    path = Path(reference)
    suffix, form = path.suffix.lower(), delivery.form
    require_no_server(delivery, path)
    if form == "package":
        from lomrix.files.package import PackageSink

        return PackageSink(path, overwrite, owner_only, delivery)
    require_no_directory(path)
    if form is not None:
        module, allowed = FORMS[form]
        if suffix not in allowed:
            raise UsageError(
                f"A {form} file cannot be written to {path.name}.", todo=f"Its extension is one of {' '.join(allowed)}."
            )
        writer = importlib.import_module(f"lomrix.files.{module}").Writer
    else:
        if suffix == ".dat":
            raise UsageError(f"{path.name} may be a file of several forms.", todo="Say ‹form=bare› or ‹form=fixed›.")
        writer = _module(path, {one: WRITTEN_BY.get(one, FORMATS[one]) for one in WRITTEN}, "write").Writer
        if suffix not in TEXTS:
            require_no_text(delivery, f"a {suffix} file")
    made: FileSink = writer(path, overwrite, owner_only, delivery)
    return replace(made, in_cells=in_cells) if suffix in WITH_WORDS and form not in PLAIN else made  # type: ignore[call-arg]


def require_no_text(delivery: Delivery, what: str) -> None:
    """Stop where something was said of text that what is written is not.

    Raises
    ------
    SettingError
        Of the first such setting.
    """
    usual = TextForm()
    for setting in fields(TextForm):
        if getattr(delivery.text, setting.name) != getattr(usual, setting.name):
            name = {"delimiter": "delimiter_out", "decimal": "decimal_out", "encoding": "encoding_out"}
            said = name.get(setting.name, setting.name)
            raise SettingError(said, f"‹{said}› says nothing of {what}.", todo=f"Leave ‹{said}› out.")


def require_no_server(delivery: Delivery, path: Path) -> None:
    """Stop where something was said of a database's table, and a file is written.

    Raises
    ------
    SettingError
        Of the first such setting.
    """
    names = {"if_exists": "if_exists", "types": "db_type", "index": "index", "describe": "describe"}
    for name, said in names.items():
        if getattr(delivery.server, name) != getattr(ServerForm(), name):
            todo = "Leave it out, or name a table: sqlite:///study.db#visits"
            raise SettingError(said, f"‹{said}› is for tables of databases, and {path.name} is none.", todo=todo)


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
