"""The registry: which module reads or writes what a reference names."""

from __future__ import annotations

import contextlib
import fnmatch
import importlib
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import fields, replace
from pathlib import Path
from typing import IO, Any

from lomrix.core.errors import FileError, IdleSettingError, SettingError, UsageError
from lomrix.core.steps.delivery import DEFAULT_DELIVERY, Delivery, ServerForm, TextForm
from lomrix.core.wording import shorten_list
from lomrix.files.database.reference import is_database
from lomrix.files.delivered import layout_path
from lomrix.files.file_source import FileSource, require_file
from lomrix.files.hashing import hash_file, hash_files
from lomrix.files.interface import Sink, Source
from lomrix.files.missing import InCells
from lomrix.files.object_store import fetch, is_object
from lomrix.files.reading import ReadingOptions, ReadSettings
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
    ".xlsm": "workbook",
    ".xlsb": "workbook",
    ".xls": "workbook",
    ".ods": "workbook",
    ".dat": "fixed",
}
BOOKS = (".xlsx", ".xlsm", ".xlsb", ".xls", ".ods")
ONLY_READ = (*BOOKS[1:], ".dat")
# Formats whose writer has a module of its own.
WRITTEN_BY = {".xlsx": "workbook_writer"}
WRITTEN = tuple(suffix for suffix in FORMATS if suffix not in ONLY_READ)
TEXTS = (".csv", ".tsv", ".txt")
# Forms of exported files: the module that writes them, and their possible extensions.
FORMS = {
    "headed": ("delimited", TEXTS),
    "bare": ("bare", (".dat", *TEXTS)),
    "fixed": ("fixed", (".dat", ".txt")),
    "package": ("package", ("",)),
}
WITH_SHEETS = BOOKS
WITH_WORDS = (".csv", ".tsv", ".txt", ".xlsx")
# Forms that hold only codes, no words for reasons.
PLAIN = ("bare", "fixed")
STREAM = "-"
# First bytes of formats; anything else is delimited text.
FIRST_BYTES = {b"PAR1": ".parquet", b"ARROW1": ".arrow", b"PK\x03\x04": ".xlsx", b"{": ".jsonl"}


def open_source(reference: str, settings: ReadSettings) -> Source:
    """Return the source that a reference names: a path, a folder or pattern of files with the same columns,
    `workbook.xlsx#Sheet`, any of these in an object store, or a database URL with a table.

    Raises UsageError if no format has its extension. Raises FileError if there is no such file.
    """
    if is_database(reference):
        from lomrix.files.database.source import DatabaseSource

        return DatabaseSource(reference, settings)
    if is_object(reference):
        reference = fetch(reference, WITH_SHEETS)
    path, sheet = split_sheet(reference)
    if sheet:
        require_file(path)
    matching = list_worksheets(reference)
    if len(matching) > 1:
        raise FileError(f"{reference} matches {len(matching)} worksheets.", todo=f"Name one, such as {matching[0]}.")
    reference = matching[0]
    if is_folder(reference):
        from lomrix.files.folder import FolderSource, list_files

        return FolderSource(reference, list_files(reference, FORMATS), settings, open_source)
    path, sheet = split_sheet(reference)
    require_file(path)
    formats = {**FORMATS, ".txt": "fixed"} if has_layout(path) else FORMATS
    reader: Callable[..., FileSource] = _load_module(path, formats, "read").Reader
    return reader(path, settings, sheet)


def has_layout(path: Path) -> bool:
    """Return whether the layout of a text of fixed width is beside it."""
    with contextlib.suppress(OSError):  # its name may be too long
        return layout_path(path).is_file()
    return False


def open_stream(stream: IO[bytes], settings: ReadSettings, folder: Path) -> Source:
    """Return standard input as a source, saved to `folder`; its first bytes determine the format."""
    content = stream.read()
    suffix = next((suffix for start, suffix in FIRST_BYTES.items() if content.startswith(start)), ".csv")
    with tempfile.NamedTemporaryFile(dir=folder, suffix=suffix, delete=False) as file:
        file.write(content)
    path = Path(file.name).rename(folder / f"input{suffix}")
    return open_source(str(path), settings)


def refuse_unused_options(options: ReadingOptions, sources: Sequence[tuple[str, Source]]) -> None:
    """Stop if a reading option applies to none of the sources, given with their references.

    Raises IdleSettingError for the first such option.
    """
    used = {name for _, source in sources for name in source.options_used}
    for name in options.model_dump(exclude_defaults=True):
        if sources and name not in used:
            files = shorten_list([Path(reference).name for reference, _ in sources], 3)
            raise IdleSettingError(name, f"‹{name}› does not apply to {files}.", todo=f"Leave ‹{name}› out.")


def open_sink(
    reference: str,
    *,
    delivery: Delivery = DEFAULT_DELIVERY,
    overwrite: bool = False,
    owner_only: bool = False,
    in_cells: InCells = "empty",
) -> Sink:
    """Return the sink that a reference names, not checked yet: a file, a folder, or a database URL with a table.

    Raises UsageError if no format has its extension, or the form cannot be written there.
    """
    if is_database(reference):
        from lomrix.files.database.sink import DatabaseSink

        refuse_text_settings(delivery, "a table of a database")
        return DatabaseSink.open(reference, delivery, overwrite)
    path = Path(reference)
    suffix, form = path.suffix.lower(), delivery.form
    refuse_server_settings(delivery, path)
    if form == "package":
        from lomrix.files.package import PackageSink

        return PackageSink(path, overwrite, owner_only, delivery)
    if reference.endswith("/") and form is None:
        from lomrix.files.folder_sink import ParquetFolder

        refuse_text_settings(delivery, "a folder of Parquet files")
        return ParquetFolder(path, overwrite, owner_only, delivery)
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
            raise UsageError(f"{path.name} may be a file of several forms.", todo="Use ‹form=bare› or ‹form=fixed›.")
        writer = _load_module(
            path, {extension: WRITTEN_BY.get(extension, FORMATS[extension]) for extension in WRITTEN}, "write"
        ).Writer
        if suffix not in TEXTS:
            refuse_text_settings(delivery, f"a {suffix} file")
    sink: FileSink = writer(path, overwrite, owner_only, delivery)
    return replace(sink, in_cells=in_cells) if suffix in WITH_WORDS and form not in PLAIN else sink  # type: ignore[call-arg]


def refuse_text_settings(delivery: Delivery, target: str) -> None:
    """Stop if a text setting was stated for something that is not text.

    Raises IdleSettingError for the first such setting.
    """
    default = TextForm()
    for setting in fields(TextForm):
        if getattr(delivery.text, setting.name) != getattr(default, setting.name):
            name = {"delimiter": "delimiter_out", "decimal": "decimal_out", "encoding": "encoding_out"}
            option = name.get(setting.name, setting.name)
            raise IdleSettingError(option, f"‹{option}› does not apply to {target}.", todo=f"Leave ‹{option}› out.")


def refuse_server_settings(delivery: Delivery, path: Path) -> None:
    """Stop if a database setting was stated for a file.

    Raises SettingError for the first such setting.
    """
    names = {"if_exists": "if_exists", "types": "db_type", "index": "index", "describe": "describe"}
    for name, option in names.items():
        if getattr(delivery.server, name) != getattr(ServerForm(), name):
            todo = "Leave it out, or name a table: sqlite:///study.db#visits"
            raise SettingError(option, f"‹{option}› is for database tables, but {path.name} is a file.", todo=todo)


def _load_module(path: Path, modules: dict[str, str], verb: str) -> Any:
    suffix = path.suffix.lower()
    if suffix not in modules:
        raise unknown_format_error(path, tuple(modules), verb)
    return importlib.import_module(f"lomrix.files.{modules[suffix]}")


def unknown_format_error(path: Path, extensions: tuple[str, ...], verb: str) -> UsageError:
    """Make the error for an unknown extension."""
    return UsageError(
        f"{path.name or path} has no extension that Lomrix can {verb}.", todo=f"Extensions are {' '.join(extensions)}."
    )


def hash_reference(reference: str) -> str:
    """Return the hash of a file, or of a folder or pattern of files; empty for a table of a database.

    Raises FileError if something cannot be read.
    """
    if is_database(reference):
        return ""
    if is_object(reference):
        reference = fetch(reference, WITH_SHEETS)
    path, _ = split_sheet(reference)
    try:
        if is_folder(reference):
            from lomrix.files.folder import list_files

            return hash_files((file.stem, hash_file(file)) for file in list_files(reference, FORMATS))
        return hash_file(path)
    except OSError as error:
        raise FileError(f"{path} cannot be read.", where=str(error.strerror or error)) from error


def is_folder(reference: str) -> bool:
    """Return whether a reference is a folder, or a pattern that is no file's name."""
    path = Path(reference)
    return path.is_dir() or (any(character in path.name for character in "*?[") and not path.exists())


def list_worksheets(reference: str) -> tuple[str, ...]:
    """Return the worksheets that a pattern after the # matches, without those of a dictionary; else the reference.

    Raises FileError if it matches none.
    """
    path, sheet = split_sheet(reference)
    if not set(sheet) & set("*?[") or not path.is_file():
        return (reference,)
    from lomrix.files.workbook import list_sheets
    from lomrix.files.workbook_writer import DESCRIBING

    names = list_sheets(path)
    matching = [name for name in names if fnmatch.fnmatchcase(name, sheet) and name not in DESCRIBING]
    if not matching:
        todo = f"Its worksheets are {', '.join(names)}."
        raise FileError(f"{path.name} has no worksheet that matches {sheet}.", todo=todo)
    return (reference,) if sheet in names else tuple(f"{reference.rpartition('#')[0]}#{name}" for name in matching)


def split_sheet(reference: str) -> tuple[Path, str]:
    """Split a reference into file and worksheet; no worksheet if the file's own name has a #."""
    path, separator, sheet = reference.rpartition("#")
    if not separator or Path(reference).exists() or Path(path).suffix.lower() not in WITH_SHEETS:
        return Path(reference), ""
    return Path(path), sheet
