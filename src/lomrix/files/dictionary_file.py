"""A dictionary written by hand, in TOML."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from lomrix.core.errors import FileError, UsageError
from lomrix.core.nearest import advise
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note, plural
from lomrix.core.table.scale import Scale
from lomrix.core.table.variable import Variable
from lomrix.core.wording import shorten_list
from lomrix.files.codebook import note_unused, propose_renames
from lomrix.files.descriptor import get_first_line
from lomrix.files.dictionary_text import OTHER_SHEETS, VARIABLE_HEADS, format_dictionary, make_sheets, parse_sheets
from lomrix.files.file_source import require_file
from lomrix.files.object_store import is_object
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import WITH_SHEETS, open_source, split_sheet
from lomrix.files.staging import FileSink, guard
from lomrix.files.text_writer import write_columns
from lomrix.files.workbook import has_sheet


@dataclass
class Codebook:
    """How the sheets of a dictionary are read: other names of columns, and codes that mean a missing cell; `notes`
    take up what was not used.
    """

    rename: Mapping[str, str] = field(default_factory=dict)
    missing_text: Sequence[str] = ()
    notes: list[Note] = field(default_factory=list)


class DictionaryFile(BaseModel):
    """The content of the file: `include`, `[variables.NAME]`, `[codes.NAME]`, `[rules]` and `[scales.NAME]`."""

    model_config = ConfigDict(extra="forbid", defer_build=True)
    variables: dict[str, Variable] = Field(default_factory=dict)
    codes: dict[str, dict[str, str]] = Field(default_factory=dict)
    rules: dict[str, str] = Field(default_factory=dict)
    scales: dict[str, Scale] = Field(default_factory=dict)
    include: list[str] = Field(default_factory=list)


def read_dictionary(
    source: str,
    including: tuple[Path, ...] = (),
    used: list[Path] | None = None,
    included: dict[Path, Dictionary] | None = None,
    codebook: Codebook | None = None,
) -> Dictionary:
    """Read a dictionary file, with the libraries of codes that it includes.

    Raises FileError if it does not exist, is not TOML, or is not a valid dictionary; the line or entry is named.

    Parameters
    ----------
    source
        Path of a .toml file, of a workbook with the sheets variables and codes, of one such sheet, or of a csv file.
    including
        The files that include this one.
    used
        Takes up every file that is read.
    included
        What was read already, so that a library that many include is read once.
    codebook
        How sheets are read; takes up what was not used of them.
    """
    if is_object(source):
        raise FileError(f"A dictionary cannot be read from a store: {source}.", todo="Copy it to this machine first.")
    path, sheet = split_sheet(source)
    require_file(path)
    included = {} if included is None else included
    if path.resolve() in included:
        return included[path.resolve()]
    if used is not None:
        used.append(path)
    if path.suffix.lower() != ".toml":
        return read_worksheets(path, sheet, used, codebook or Codebook())
    if codebook is not None and (codebook.rename or codebook.missing_text):
        option = "rename" if codebook.rename else "missing_text"
        raise UsageError(f"‹{option}› applies to a codebook in a sheet.", todo=f"Edit {path.name} instead.")
    if path.resolve() in including:
        raise FileError(f"The dictionary {path.name} includes itself.", todo="Remove it from its include list.")
    raw: bytes = guard(path, "read", path.read_bytes)
    content = parse_toml(path, raw)
    result = Dictionary(content.variables, content.codes, content.rules, scales=content.scales)
    for name in content.include:
        result = result.join(read_dictionary(str(path.parent / name), (*including, path.resolve()), used, included))
    included[path.resolve()] = result
    for name, entry in result.variables.items():
        if entry.codes is not None and entry.codes not in result.codes and not including:
            raise FileError(
                f"The dictionary {path.name} has no list of codes named {entry.codes}.",
                where=f"variables → {name} → codes",
                todo=f"Add [codes.{entry.codes}], or name one of {', '.join(result.codes) or 'your own lists'}.",
            )
    return result


def parse_toml(path: Path, raw: bytes) -> DictionaryFile:
    """Parse a TOML file as a dictionary.

    Raises FileError naming the invalid line or entry.
    """
    try:
        content: dict[str, object] = tomllib.loads(raw.decode())
        return DictionaryFile.model_validate(content)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, ValidationError) as error:
        raise FileError(
            f"The dictionary {path.name} is not valid.",
            where=get_first_line(error),
            todo='An entry looks like [variables.age] with label = "Age", minimum = 16.',
        ) from error


def read_worksheets(path: Path, sheet: str, used: list[Path] | None, codebook: Codebook) -> Dictionary:
    """Read a dictionary kept as worksheets of a workbook, as one of them, or as NAME.csv with NAME.codes.csv beside it;
    `used` collects the files read.

    Raises FileError if the file has no column of variables.
    """
    settings = ReadSettings(all_text=True)
    is_book = path.suffix.lower() in WITH_SHEETS
    variables = open_source(f"{path}#{sheet or 'variables'}" if is_book else str(path), settings).read().table
    unknown = [name for name in codebook.rename if name not in variables.columns]
    if unknown:
        todo = advise(unknown[0], variables.names, f"Its columns are {shorten_list(variables.names)}.")
        raise UsageError(f"No column {unknown[0]} in {path.name}.", todo=todo)
    names = [codebook.rename.get(name, name) for name in variables.names]
    repeated = next((name for name in names if names.count(name) > 1), "")
    if repeated:
        raise UsageError(f"Two columns would be named {repeated}.", todo=f"Rename the column {repeated} too.")
    variables = replace(variables, columns=dict(zip(names, variables.columns.values(), strict=True)))
    others = {}
    for name in OTHER_SHEETS if not sheet else ():
        sheet_path = path.with_name(f"{path.stem}.{name}{path.suffix}")
        if has_sheet(path, name) if is_book else sheet_path.exists():
            others[name] = open_source(f"{path}#{name}" if is_book else str(sheet_path), settings).read().table
            if used is not None and not is_book:
                used.append(sheet_path)
    if "variable" not in variables.columns:
        renames = propose_renames(variables.names, ())
        # A column called name is in many files of data.
        is_codebook = "=variable" in renames and "," in renames
        proposal = f"Use lomrix dictionary convert with ‹rename={renames}›. " if is_codebook else ""
        raise FileError(
            f"{path.name} is not a dictionary: it has no column variable.",
            where=f"columns are {shorten_list(variables.names)}",
            todo=f"{proposal}A dictionary is a .toml file, or two worksheets: variables and codes.",
        )
    codebook.notes += note_unused(variables.names, VARIABLE_HEADS)
    dictionary = parse_sheets({"variables": variables, **others}, codebook.missing_text)
    used_codes = {code for entry in dictionary.variables.values() for code in entry.missing}
    unused = [code for code in codebook.missing_text if code not in used_codes]
    if unused:
        which = plural(len(unused), "that code", "these codes")
        text = f"‹missing_text={','.join(unused)}› had no effect: no variable has {which}."
        codebook.notes.append(Note(text, kind="no-effect"))
    return dictionary


@dataclass
class DictionarySink(FileSink):
    """A dictionary as TOML, as a workbook, or as csv files, by the extension."""

    @property
    def beside(self) -> tuple[Path, ...]:
        """The other csv files."""
        is_text = self.path.suffix.lower() == ".csv"
        return tuple(self.path.with_name(f"{self.path.stem}.{name}.csv") for name in OTHER_SHEETS if is_text)

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write a dictionary."""
        assert isinstance(content, Dictionary)
        if self.path.suffix.lower() == ".toml":
            part.write_text(format_dictionary(content), encoding="utf-8")
            return {}
        sheets = make_sheets(content)
        if self.path.suffix.lower() == ".xlsx":
            from lomrix.files.workbook_writer import write_sheets

            write_sheets(part, {name: (sheet, {}) for name, sheet in sheets.items()})
            return {}
        variables = sheets.pop("variables")
        beside = {}
        for name, sheet in sheets.items():
            write_columns(sheet.columns, {}, part, ",")
            beside[self.path.with_name(f"{self.path.stem}.{name}.csv")] = part.read_bytes()
        write_columns(variables.columns, {}, part, ",")
        return beside
