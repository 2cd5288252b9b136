"""The descriptor beside a file: a Data Resource of the open Data Package standard, with our history in it."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.code_use import times_used
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.history import History
from lomrix.core.table.notes import Note
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.table import Table
from lomrix.core.table.types import TYPES
from lomrix.core.table.variable import Variable
from lomrix.core.wording import in_utf8
from lomrix.files.hashing import ALGORITHM, begin_hash
from lomrix.files.missing import Missing

HISTORY = "lomrix:history"
# By field, the rows of empty cells that are missing for another reason than its empty cells mostly are.
RUNS = "lomrix:missing-rows"
# A column of bytes that tells why cells of some fields are missing, where runs would be longer.
PACKED = "lomrix:packed-reasons"
# Number of rows, where the format itself cannot tell blank rows at the end from nothing.
ROWS = "lomrix:rows"
OTHER_LAYOUT = "lomrix:other-layout"
PACKAGE = "datapackage.json"
Understood = TypeVar("Understood")
VARIABLE_EXTRAS = ("unit", "level")
AS_ALWAYS = TextForm()


class MissingValue(BaseModel):
    """One missing value of a field: the text in the file, and the reason as its label."""

    model_config = ConfigDict(extra="ignore", defer_build=True)
    value: str
    label: str = ""


class Category(BaseModel):
    """One stored value and its label."""

    model_config = ConfigDict(extra="ignore", defer_build=True)
    value: str | int | float
    label: str = ""


class FieldEntry(BaseModel):
    """One field of the schema."""

    model_config = ConfigDict(extra="allow", defer_build=True)
    name: str
    type: str = "any"
    title: str = ""
    description: str = ""
    categories: list[Category | str] = Field(default_factory=list)
    missingValues: list[MissingValue | str] = Field(default_factory=list)
    constraints: dict[str, Any] = Field(default_factory=dict)


class SchemaEntry(BaseModel):
    """The schema of a resource."""

    model_config = ConfigDict(extra="ignore", defer_build=True)
    fields: list[FieldEntry]
    primaryKey: list[str] | str = Field(default_factory=list)


class Packed(BaseModel):
    """A column that holds for each row one byte for each of some fields: 0 for a present cell, else a reason."""

    model_config = ConfigDict(extra="ignore", defer_build=True)
    column: str
    reasons: dict[str, list[str]]


class Resource(BaseModel):
    """A Data Resource, as far as Lomrix reads one."""

    model_config = ConfigDict(extra="allow", defer_build=True)
    name: str = ""
    path: str = ""
    bytes: int | None = None
    hash: str = ""
    dialect: dict[str, Any] = Field(default_factory=dict)
    encoding: str = ""
    schema_: SchemaEntry = Field(alias="schema")

    @property
    def names(self) -> list[str]:
        """The fields in order."""
        return [field.name for field in self.schema_.fields]

    @property
    def history(self) -> History:
        """The tasks that made the file."""
        return History.from_json((self.model_extra or {}).get(HISTORY))

    @property
    def missing(self) -> dict[str, Missing]:
        """By field, why its empty cells are empty, where they are not just blank."""
        found = {}
        for field in self.schema_.fields:
            labels = [one.label for one in field.missingValues if isinstance(one, MissingValue) and not one.value]
            rows = (field.model_extra or {}).get(RUNS)
            runs = {str(reason): str(text) for reason, text in rows.items()} if isinstance(rows, dict) else {}
            own = Missing(empty=next(iter(labels), "") or BLANK, runs=runs)
            if own != Missing():
                found[field.name] = own
        return found

    @property
    def decimals(self) -> dict[str, str]:
        """By field, the sign before decimal places where that is no point."""
        signs = {field.name: (field.model_extra or {}).get("decimalChar") for field in self.schema_.fields}
        return {name: sign for name, sign in signs.items() if sign == ","}

    @property
    def rows(self) -> int:
        """Number of rows that were written; 0 where that is not told."""
        found = (self.model_extra or {}).get(ROWS)
        return found if isinstance(found, int) and found > 0 else 0

    @property
    def packed(self) -> Packed | None:
        """Where reasons are packed into one column, how."""
        found = (self.model_extra or {}).get(PACKED)
        try:
            return None if found is None else Packed.model_validate(found)
        except ValidationError:  # why cells are missing is lost then, and the cells are blank
            return None

    def dictionary(self) -> Dictionary:
        """What the descriptor says of the variables; types and missing values count on reading."""
        variables, codes = {}, {}
        for field in self.schema_.fields:
            extra = field.model_extra or {}
            entries = {
                (str(one.value) if isinstance(one, Category) else one): (
                    one.label if isinstance(one, Category) else one
                )
                for one in field.categories
            }
            name = str(extra.get("lomrix:codes") or field.name)
            if entries:
                codes[name] = entries
            missing = {
                one.value: one.label or one.value
                for one in field.missingValues
                if isinstance(one, MissingValue) and one.value
            }
            variables[field.name] = self._variable(
                field.name,
                label=field.title,
                description=field.description,
                type=field.type if field.type in TYPES else None,
                form=date_form(field.type, extra.get("format")),
                unit=str(extra.get("lomrix:unit", "")),
                level=extra.get("lomrix:level"),
                codes=name if entries else None,
                missing=missing,
                minimum=field.constraints.get("minimum"),
                maximum=field.constraints.get("maximum"),
                allowed=tuple(map(str, field.constraints.get("enum", ()))),
            )
        return Dictionary(variables, codes, {}, self.other_layout)

    def _variable(self, field: str, **parts: Any) -> Variable:
        try:
            return Variable.model_validate(parts)
        except ValidationError as error:
            raise FileError(
                f"The descriptor of {self.path or self.name} cannot be understood.",
                where=f"field {field}: {first_line(error)}",
                todo="Mend it, or move it away to read the file without it.",
            ) from error

    @property
    def other_layout(self) -> OtherLayout | None:
        """What the table looked like before it was turned; None where that is not known."""
        found = (self.model_extra or {}).get(OTHER_LAYOUT)
        try:
            return None if found is None else OtherLayout.model_validate(found)
        except ValidationError:  # only a help on the way back, and not worth refusing the file for
            return None


def date_form(type_: str, said: object) -> str:
    """The form of dates that a field names, where it is one of the C standard's."""
    return said if type_ in ("date", "datetime") and isinstance(said, str) and "%" in said else ""


def descriptor_path(path: Path) -> Path:
    """Where the descriptor of a file stands: `crew.csv` has `crew.csv.resource.json`."""
    return path.with_name(path.name + ".resource.json")


def old_descriptor_path(path: Path) -> Path:
    """Where it once stood: `crew.csv` had `crew.resource.json`, which is still read."""
    return path.with_name(path.stem + ".resource.json")


@dataclass(frozen=True)
class Beside:
    """A descriptor that was found beside a file.

    Parameters
    ----------
    resource, name
        What it says, and the name of its own file.
    written_for
        The file it was written for, where that has another name than the one beside which it was found.
    fits
        Whether it counts: it was written for this file, or for one of the same content.
    """

    resource: Resource
    name: str
    written_for: str = ""
    fits: bool = True

    @property
    def note(self) -> Note | None:
        """What is reported where it was written for another file."""
        if not self.written_for:
            return None
        text = f"{self.name} was written for {self.written_for}"
        text += ", whose content is the same: it is used." if self.fits else ", whose content differs: it is not used."
        return Note(text, kind="descriptor", done=self.fits)


def files_beside(path: Path) -> list[Path]:
    """The files, as far as they are there, that are looked at for what they say of a data file."""
    candidates = (descriptor_path(path), old_descriptor_path(path), path.with_name(PACKAGE))
    return [one for one in candidates if is_file(one)]


def is_file(path: Path) -> bool:
    """True where there is such a file; a name that is too long for the disk is none."""
    try:
        return path.is_file()
    except OSError:
        return False


def find_beside(path: Path) -> Beside | None:
    """Find the descriptor beside a data file; None where there is none.

    A descriptor that was copied or renamed with its file is known by the hash of the content.

    Raises
    ------
    FileError
        Where the descriptor is there but cannot be understood.
    """
    for beside in (descriptor_path(path), old_descriptor_path(path)):
        if not is_file(beside):
            continue
        resource = understood(beside, lambda beside=beside: Resource.model_validate_json(beside.read_bytes()))  # type: ignore[misc]
        written_for = Path(resource.path).name
        if not resource.path or written_for == in_utf8(path.name):
            return Beside(resource, beside.name)
        fits = has_content(path, resource)
        # `crew.resource.json` of old may be that of crew.tsv, which stands there itself.
        if fits or beside == descriptor_path(path) or not path.with_name(written_for).exists():
            return Beside(resource, beside.name, written_for, fits)
    return find_in_package(path)


def has_content(path: Path, resource: Resource) -> bool:
    """Tell by size and hash whether a descriptor was written for a file of this content."""
    if resource.bytes != path.stat().st_size or not resource.hash.startswith(ALGORITHM):
        return False
    return begin_hash(path).result() == resource.hash


def find_in_package(path: Path) -> Beside | None:
    """Find what the description of a whole package in the file's folder says of it; None where it is not in one."""
    package = path.with_name(PACKAGE)
    if not package.is_file():
        return None

    def entries() -> list[Any]:
        resources = json.loads(package.read_bytes()).get("resources", [])
        return [one for one in resources if isinstance(one, dict) and "schema" in one]

    described = understood(package, entries)
    named = [one for one in described if one.get("path") == path.name]
    same_size = [one for one in described if one.get("bytes") == path.stat().st_size]
    for one in named or same_size:
        resource = understood(package, lambda one=one: Resource.model_validate(one))  # type: ignore[misc]
        if named or has_content(path, resource):
            return Beside(resource, PACKAGE, "" if named else resource.path)
    return None


def understood(beside: Path, read: Callable[[], Understood]) -> Understood:
    """What a description says.

    Raises
    ------
    FileError
        Where it cannot be understood.
    """
    try:
        return read()
    except (ValueError, AttributeError, OSError) as error:
        raise FileError(
            f"The descriptor {beside.name} cannot be understood.",
            where=first_line(error),
            todo="Mend it, or move it away to read the file without it.",
        ) from error


def first_line(error: Exception) -> str:
    """The first telling line of a library's message."""
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        return f"{' → '.join(map(str, first['loc']))}: {first['msg']}"
    return str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__


def fields_of(table: Table, missing: Mapping[str, Missing], form: TextForm = AS_ALWAYS) -> list[dict[str, object]]:
    """The schema's fields.

    Parameters
    ----------
    table
        The table that was written.
    missing
        By column, how its missing cells stand in the file.
    form
        How its numbers and dates are written.
    """
    fields = []
    for name, column in table.columns.items():
        entry = table.dictionary.of(name)
        field: dict[str, object] = {"name": name, "type": column.type}
        if form.date_form and column.type in ("date", "datetime"):
            field["format"] = form.date_form
        if form.decimal != "." and column.type == "number":
            field["decimalChar"] = form.decimal
        if entry.label:
            field["title"] = entry.label
        if entry.description:
            field["description"] = entry.description
        labels = table.dictionary.labels_of(name)
        if labels:
            field["categories"] = [{"value": as_stored(code, column), "label": label} for code, label in labels.items()]
            field["lomrix:codes"] = entry.codes
        own = missing.get(name, Missing())
        values = missing_values(own, entry, column, is_coded=name in table.dictionary.coded)
        if values:
            field["missingValues"] = values
        if own.runs:
            field[RUNS] = dict(own.runs)
        limits = {"minimum": entry.minimum, "maximum": entry.maximum, "enum": list(entry.allowed) or None}
        constraints = {
            word: limit if isinstance(limit, int | float | list) else str(limit)
            for word, limit in limits.items()
            if limit is not None
        }
        if constraints:
            field["constraints"] = constraints
        field |= {f"lomrix:{word}": value for word in VARIABLE_EXTRAS if (value := getattr(entry, word))}
        fields.append(field)
    return fields


def missing_values(missing: Missing, entry: Variable, column: Column, *, is_coded: bool) -> list[dict[str, str]]:
    """What stands for missing in a field: the empty cell, the file's texts, and other codes of the dictionary."""
    pairs = [(text, reason) for reason, text in missing.texts.items()]
    told, used = set(missing.texts), set(missing.texts.values())
    pairs += [
        (code, reason)
        for code, reason in entry.missing.items()
        # A code that is a value of the column would make present cells missing on reading.
        if reason not in told and code not in used and (is_coded or not times_used(column, code))
    ]
    if not pairs and (column.why is None or missing.empty == BLANK):
        return [{"value": "", "label": BLANK}] if column.missing_count else []
    return [{"value": "", "label": missing.empty}, *({"value": text, "label": reason} for text, reason in pairs)]


def as_stored(code: str, column: Column) -> str | int:
    """A code as its column stores it: a number where the column holds numbers."""
    if column.type in ("integer", "number"):
        try:
            return int(code)
        except ValueError:
            return code
    return code


def descriptor(
    table: Table, missing: Mapping[str, Missing], form: TextForm = AS_ALWAYS, primary_key: Sequence[str] = ()
) -> dict[str, object]:
    """The descriptor of a table, without what is only known of its file.

    Parameters
    ----------
    table
        The table that was written.
    missing
        By column, how its missing cells stand in the file.
    form
        How its numbers and dates are written.
    primary_key
        Columns that tell the rows apart.
    """
    schema: dict[str, object] = {"fields": fields_of(table, missing, form)}
    if primary_key:
        schema["primaryKey"] = list(primary_key)
    content: dict[str, object] = {ROWS: len(table), "schema": schema, HISTORY: table.history.to_json()}
    if table.dictionary.other_layout is not None:
        content[OTHER_LAYOUT] = table.dictionary.other_layout.model_dump(mode="json", exclude_defaults=True)
    return content


@dataclass(frozen=True)
class Written:
    """How a text file is written: its delimiter (empty for none), its encoding, and whether names are known."""

    delimiter: str = ""
    encoding: str = "utf-8"
    is_named: bool = False


USUAL = Written()


def descriptor_bytes(path: Path, size: int, digest: str, content: Mapping[str, Any], how: Written = USUAL) -> bytes:
    """The descriptor that is to stand beside `path`, a file of so many bytes with that hash, written in that way."""
    history = content[HISTORY]
    for output in history["tasks"].get(history["last"], {}).get("outputs", []):
        if output["role"] == "out":
            output["hash"] = digest
    whole = {
        "name": in_utf8(path.stem).lower().replace(" ", "-"),
        "path": in_utf8(path.name),
        "format": path.suffix.lstrip("."),
        "encoding": how.encoding,
        "bytes": size,
        "hash": digest,
        **({"dialect": {"delimiter": how.delimiter}} if how.delimiter else {}),
        **content,
    }
    return (json.dumps(whole, ensure_ascii=False, indent=1) + "\n").encode()
