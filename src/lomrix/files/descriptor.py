"""The descriptor beside a file: a Data Resource of the open Data Package standard, with our history in it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.code_use import times_used
from lomrix.core.table.column import TYPES, Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable

HISTORY = "lomrix:history"
OTHER_LAYOUT = "lomrix:other-layout"
VARIABLE_EXTRAS = ("unit", "level")


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


class Resource(BaseModel):
    """A Data Resource, as far as Lomrix reads one."""

    model_config = ConfigDict(extra="allow", defer_build=True)
    name: str = ""
    path: str = ""
    bytes: int | None = None
    hash: str = ""
    schema_: SchemaEntry = Field(alias="schema")

    @property
    def history(self) -> tuple[Mapping[str, Any], ...]:
        """The steps that made the file, as they were written."""
        found = (self.model_extra or {}).get(HISTORY, [])
        return tuple(one for one in found if isinstance(one, dict)) if isinstance(found, list) else ()

    @property
    def null_reasons(self) -> dict[str, str]:
        """By field, the reason that an empty cell or a null stands for, where it is not just blank."""
        return {
            field.name: one.label
            for field in self.schema_.fields
            for one in field.missingValues
            if isinstance(one, MissingValue) and not one.value and one.label not in ("", BLANK)
        }

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
            variables[field.name] = Variable(
                label=field.title,
                description=field.description,
                type=field.type if field.type in TYPES else None,
                unit=str(extra.get("lomrix:unit", "")),
                level=extra.get("lomrix:level"),
                codes=name if entries else None,
                missing=missing,
                minimum=field.constraints.get("minimum"),
                maximum=field.constraints.get("maximum"),
                allowed=tuple(map(str, field.constraints.get("enum", ()))),
            )
        return Dictionary(variables, codes, {}, self.other_layout)

    @property
    def other_layout(self) -> OtherLayout | None:
        """What the table looked like before it was turned; None where that is not known."""
        found = (self.model_extra or {}).get(OTHER_LAYOUT)
        try:
            return None if found is None else OtherLayout.model_validate(found)
        except ValidationError:  # only a help on the way back, and not worth refusing the file for
            return None


def descriptor_path(path: Path) -> Path:
    """Where the descriptor of a file stands: `crew.csv` has `crew.resource.json`."""
    return path.with_name(path.stem + ".resource.json")


def found_beside(path: Path) -> Resource | None:
    """The descriptor beside a file, None where there is none that speaks of it.

    Parameters
    ----------
    path
        The data file.

    Raises
    ------
    FileError
        Where the descriptor is there but cannot be understood.
    """
    beside = descriptor_path(path)
    if not beside.is_file():
        return None
    try:
        resource = Resource.model_validate_json(beside.read_bytes())
    except (ValidationError, OSError) as error:
        raise FileError(
            f"The descriptor {beside.name} cannot be understood.",
            where=first_line(error),
            todo="Mend it, or move it away to read the file without it.",
        ) from error
    if resource.path and Path(resource.path).name != path.name:
        return None
    return resource


def first_line(error: Exception) -> str:
    """The first telling line of a library's message."""
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        return f"{' → '.join(map(str, first['loc']))}: {first['msg']}"
    return str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__


def fields_of(table: Table, tokens: Mapping[str, Mapping[str, str]]) -> list[dict[str, Any]]:
    """The schema's fields.

    Parameters
    ----------
    table
        The table that was written.
    tokens
        By column, the text in the file for each reason.
    """
    fields = []
    for name, column in table.columns.items():
        entry = table.dictionary.of(name)
        field: dict[str, Any] = {"name": name, "type": column.type}
        if entry.label:
            field["title"] = entry.label
        if entry.description:
            field["description"] = entry.description
        labels = table.dictionary.labels_of(name)
        if labels:
            field["categories"] = [{"value": as_stored(code, column), "label": label} for code, label in labels.items()]
            field["lomrix:codes"] = entry.codes
        values = missing_values(tokens.get(name, {}), entry, column)
        if values:
            field["missingValues"] = values
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


def missing_values(tokens: Mapping[str, str], entry: Variable, column: Column) -> list[dict[str, str]]:
    """What stands for missing in a field: the file's tokens, then the codes that the dictionary knows besides."""
    pairs = [(token, reason) for reason, token in tokens.items()]
    told = {reason for reason, token in tokens.items() if token}
    used = {token for token, _ in pairs}
    pairs += [
        (code, reason)
        for code, reason in entry.missing.items()
        # A code that is a value of the column would make present cells missing on reading.
        if reason not in told and code not in used and not times_used(column, code)
    ]
    if pairs and not any(value == "" for value, _ in pairs):
        pairs.insert(0, ("", BLANK))
    return [{"value": value, "label": reason} for value, reason in pairs]


def as_stored(code: str, column: Column) -> str | int:
    """A code as its column stores it: a number where the column holds numbers."""
    if column.type in ("integer", "number"):
        try:
            return int(code)
        except ValueError:
            return code
    return code


def descriptor(table: Table, tokens: Mapping[str, Mapping[str, str]], key: list[str]) -> dict[str, Any]:
    """The descriptor of a table, without what is only known of its file."""
    schema: dict[str, Any] = {"fields": fields_of(table, tokens)}
    if key:
        schema["primaryKey"] = key
    content: dict[str, Any] = {"schema": schema, HISTORY: [dict(entry) for entry in table.history]}
    if table.dictionary.other_layout is not None:
        content[OTHER_LAYOUT] = table.dictionary.other_layout.model_dump(mode="json", exclude_defaults=True)
    return content


def descriptor_bytes(path: Path, size: int, digest: str, content: Mapping[str, Any]) -> bytes:
    """The descriptor that is to stand beside `path`, a file of so many bytes with that hash."""
    whole = {
        "name": path.stem.lower().replace(" ", "-"),
        "path": path.name,
        "format": path.suffix.lstrip("."),
        "encoding": "utf-8",
        "bytes": size,
        "hash": digest,
        **content,
    }
    return (json.dumps(whole, ensure_ascii=False, indent=1) + "\n").encode()


def file_hash(path: Path) -> str:
    """A file's hash with its algorithm in front; `b2sum -l 256 FILE` gives the same digits."""
    with path.open("rb") as file:
        return "blake2b-256:" + hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=32)).hexdigest()
