"""The descriptor beside a file: a Data Resource of the open Data Package standard, with our history."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from lomrix.core.errors import FileError, UsageError
from lomrix.core.language.parse import find_choices, find_names, parse
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.history import History
from lomrix.core.table.labelled import count_code
from lomrix.core.table.notes import Note
from lomrix.core.table.numbers import TYPES
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.scale import Scale
from lomrix.core.table.selection import choose_by_name
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.wording import to_utf8
from lomrix.files.hashing import ALGORITHM, begin_hash
from lomrix.files.missing import MissingPlan

HISTORY = "lomrix:history"
# By field, the rows of empty cells whose reason differs from that of most empty cells.
RUNS = "lomrix:missing-rows"
# A column of bytes with the reasons of some fields, where runs would be longer.
PACKED = "lomrix:packed-reasons"
# Number of rows, since a format may not distinguish blank rows at the end from nothing.
ROWS = "lomrix:rows"
OTHER_LAYOUT = "lomrix:other-layout"
RULES = "lomrix:rules"
SCALES = "lomrix:scales"
PACKAGE = "datapackage.json"
Content = TypeVar("Content")
VARIABLE_EXTRAS = ("unit", "level", "reversed")
# How versions before this one marked reverse-scored variables, in their descriptions.
FORMER_MARK = "Turned round in its span."
DEFAULT_FORM = TextForm()


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
    """A Data Resource, as far as Lomrix reads it."""

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
    def missing(self) -> dict[str, MissingPlan]:
        """By field, the reasons of its empty cells, unless they are just blank."""
        result = {}
        for field in self.schema_.fields:
            labels = [
                missing_value.label
                for missing_value in field.missingValues
                if isinstance(missing_value, MissingValue) and not missing_value.value
            ]
            rows = (field.model_extra or {}).get(RUNS)
            runs = {str(reason): str(text) for reason, text in rows.items()} if isinstance(rows, dict) else {}
            field_missing = MissingPlan(empty=next(iter(labels), "") or BLANK, runs=runs)
            if field_missing != MissingPlan():
                result[field.name] = field_missing
        return result

    @property
    def decimals(self) -> dict[str, str]:
        """By field, the decimal separator if it is a comma."""
        separators = {field.name: (field.model_extra or {}).get("decimalChar") for field in self.schema_.fields}
        return {name: separator for name, separator in separators.items() if separator == ","}

    @property
    def rows(self) -> int:
        """Number of rows that were written; 0 if unknown."""
        count = (self.model_extra or {}).get(ROWS)
        return count if isinstance(count, int) and count > 0 else 0

    @property
    def packed(self) -> Packed | None:
        """The packed reasons, if any."""
        content = (self.model_extra or {}).get(PACKED)
        try:
            return None if content is None else Packed.model_validate(content)
        except ValidationError:  # the reasons are lost then, and the cells are blank
            return None

    def make_dictionary(self) -> Dictionary:
        """Return the dictionary in the descriptor; types and missing values matter in reading."""
        variables, codes = {}, {}
        for field in self.schema_.fields:
            extra = field.model_extra or {}
            entries = {
                (str(category.value) if isinstance(category, Category) else category): (
                    category.label if isinstance(category, Category) else category
                )
                for category in field.categories
            }
            name = str(extra.get("lomrix:codes") or field.name)
            if entries:
                codes[name] = entries
            missing = {
                category.value: category.label or category.value
                for category in field.missingValues
                if isinstance(category, MissingValue) and category.value
            }
            variables[field.name] = self._make_variable(
                field.name,
                label=field.title,
                description=field.description.removesuffix(FORMER_MARK).strip(),
                reversed=bool(extra.get("lomrix:reversed")) or field.description.endswith(FORMER_MARK),
                type=field.type if field.type in TYPES else None,
                form=get_date_form(field.type, extra.get("format")),
                unit=str(extra.get("lomrix:unit", "")),
                level=extra.get("lomrix:level"),
                codes=name if entries else None,
                missing=missing,
                minimum=field.constraints.get("minimum"),
                maximum=field.constraints.get("maximum"),
                allowed=tuple(map(str, to_list(field.constraints.get("enum")))),
            )
        return Dictionary(variables, codes, self.rules, self.other_layout, scales=self.scales)

    def _make_variable(self, field: str, **parts: Any) -> Variable:
        try:
            return Variable.model_validate(parts)
        except ValidationError as error:
            raise FileError(
                f"The descriptor of {self.path or self.name} is not valid.",
                where=f"field {field}: {get_first_line(error)}",
                todo="Correct it, or move it away to read the file without it.",
            ) from error

    @property
    def rules(self) -> dict[str, str]:
        """The rules for the file."""
        content = (self.model_extra or {}).get(RULES)
        return {str(name): str(rule) for name, rule in content.items()} if isinstance(content, dict) else {}

    @property
    def scales(self) -> dict[str, Scale]:
        """The scales of the file's items."""
        content = (self.model_extra or {}).get(SCALES)
        try:
            return {name: Scale.model_validate(scale) for name, scale in content.items()} if content else {}
        except (ValidationError, AttributeError) as error:
            raise FileError(
                f"The descriptor of {self.path or self.name} is not valid.",
                where=f"{SCALES}: {get_first_line(error)}",
                todo="Correct it, or move it away to read the file without it.",
            ) from error

    @property
    def other_layout(self) -> OtherLayout | None:
        """The table's layout before reshaping; None if unknown."""
        content = (self.model_extra or {}).get(OTHER_LAYOUT)
        try:
            return None if content is None else OtherLayout.model_validate(content)
        except ValidationError:  # only a help in reshaping back, not worth refusing the file
            return None


def to_list(content: object) -> list[Any]:
    """Return a list that another program wrote; empty if it is none."""
    return content if isinstance(content, list) else []


def get_date_form(type_: str, stated: object) -> str:
    """Return the date form of a field if it is one of the C standard's."""
    return stated if type_ in ("date", "datetime") and isinstance(stated, str) and "%" in stated else ""


def descriptor_path(path: Path) -> Path:
    """Return the path of a file's descriptor: `crew.csv` has `crew.csv.resource.json`."""
    return path.with_name(path.name + ".resource.json")


def old_descriptor_path(path: Path) -> Path:
    """Return its former path: `crew.csv` had `crew.resource.json`, which is still read."""
    return path.with_name(path.stem + ".resource.json")


@dataclass(frozen=True)
class FoundDescriptor:
    """A descriptor found beside a file: content, name of its own file, the file it was written for (if it has another
    name), and whether it applies: it was written for this file, or for one with the same content.
    """

    resource: Resource
    name: str
    written_for: str = ""
    fits: bool = True

    @property
    def note(self) -> Note | None:
        """Note that it was written for another file."""
        if not self.written_for:
            return None
        text = f"{self.name} was written for {self.written_for}"
        text += ", whose content is the same: it is used." if self.fits else ", whose content differs: it is not used."
        return Note(text, kind="descriptor", done=self.fits)


def list_beside(path: Path) -> list[Path]:
    """Return the existing files that may describe a data file."""
    candidates = (descriptor_path(path), old_descriptor_path(path), path.with_name(PACKAGE))
    return [candidate for candidate in candidates if is_file(candidate)]


def is_file(path: Path) -> bool:
    """Return whether there is such a file; False for a name too long for the disk."""
    try:
        return path.is_file()
    except OSError:
        return False


def find_beside(path: Path) -> FoundDescriptor | None:
    """Find the descriptor beside a data file; None if there is none.

    A descriptor that was copied or renamed with its file is recognised by the hash of the content.

    Raises FileError if the descriptor exists but is not valid.
    """
    for candidate in (descriptor_path(path), old_descriptor_path(path)):
        if not is_file(candidate):
            continue
        resource = read_valid(candidate, partial(Resource.model_validate_json, candidate.read_bytes()))
        written_for = Path(resource.path).name
        if not resource.path or written_for == to_utf8(path.name):
            return FoundDescriptor(resource, candidate.name)
        fits = has_content(path, resource)
        # The former name `crew.resource.json` may belong to an existing crew.tsv.
        if fits or candidate == descriptor_path(path) or not path.with_name(written_for).exists():
            return FoundDescriptor(resource, candidate.name, written_for, fits)
    return find_in_package(path)


def has_content(path: Path, resource: Resource) -> bool:
    """Return whether a descriptor was written for a file with this content, by size and hash."""
    if resource.bytes != path.stat().st_size or not resource.hash.startswith(ALGORITHM):
        return False
    return begin_hash(path).result() == resource.hash


def find_in_package(path: Path) -> FoundDescriptor | None:
    """Find a file's entry in the description of a whole package in its folder; None if there is none."""
    package = path.with_name(PACKAGE)
    if not package.is_file():
        return None

    def read_entries() -> list[Any]:
        resources = json.loads(package.read_bytes()).get("resources")
        return [entry for entry in to_list(resources) if isinstance(entry, dict) and "schema" in entry]

    described = read_valid(package, read_entries)
    with_name = [entry for entry in described if entry.get("path") == path.name]
    same_size = [entry for entry in described if entry.get("bytes") == path.stat().st_size]
    for entry in with_name or same_size:
        resource = read_valid(package, partial(Resource.model_validate, entry))
        if with_name or has_content(path, resource):
            return FoundDescriptor(resource, PACKAGE, "" if with_name else resource.path)
    return None


def read_valid(path: Path, read: Callable[[], Content]) -> Content:
    """Read a description.

    Raises FileError if it is not valid.
    """
    try:
        return read()
    except (ValueError, AttributeError, OSError) as error:
        raise FileError(
            f"The descriptor {path.name} is not valid.",
            where=get_first_line(error),
            todo="Correct it, or move it away to read the file without it.",
        ) from error


def get_first_line(error: Exception) -> str:
    """Return the first informative line of a library's message."""
    if isinstance(error, ValidationError):
        first = error.errors()[0]
        return f"{' → '.join(map(str, first['loc']))}: {first['msg']}"
    return str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__


def make_fields(
    table: Table, missing: Mapping[str, MissingPlan], form: TextForm = DEFAULT_FORM
) -> list[dict[str, object]]:
    """Return the schema's fields of a table, given by column how its missing cells are written."""
    fields = []
    for name, column in table.columns.items():
        entry, plan = table.dictionary.of(name), missing.get(name, MissingPlan())
        labels = table.dictionary.labels_of(name)
        categories = [{"value": to_stored_code(code, column), "label": label} for code, label in labels.items()]
        parts = {
            "format": form.date_form if column.type in ("date", "datetime") else "",
            "decimalChar": form.decimal if form.decimal != "." and column.type == "number" else "",
            "title": entry.label,
            "description": entry.description,
            "categories": categories,
            "lomrix:codes": entry.codes if labels else "",
            "missingValues": list_missing_values(plan, entry, column, is_coded=name in table.dictionary.coded),
            RUNS: dict(plan.runs),
            "constraints": list_constraints(entry),
            **{f"lomrix:{part}": getattr(entry, part) for part in VARIABLE_EXTRAS},
        }
        fields.append({"name": name, "type": column.type, **{part: value for part, value in parts.items() if value}})
    return fields


def list_constraints(entry: Variable) -> dict[str, object]:
    """Return the limits of a variable, and the values that it may have."""
    limits = {"minimum": entry.minimum, "maximum": entry.maximum, "enum": list(entry.allowed) or None}
    return {
        part: limit if isinstance(limit, int | float | list) else str(limit)
        for part, limit in limits.items()
        if limit is not None
    }


def list_missing_values(
    missing: MissingPlan, entry: Variable, column: Column, *, is_coded: bool
) -> list[dict[str, str]]:
    """List what means missing in a field: the empty cell, the file's texts, and other codes of the dictionary."""
    pairs = [(text, reason) for reason, text in missing.texts.items()]
    reasons_listed, texts_used = set(missing.texts), set(missing.texts.values())
    pairs += [
        (code, reason)
        for code, reason in entry.missing.items()
        # A code that is a value of the column would make present cells missing on reading.
        if reason not in reasons_listed and code not in texts_used and (is_coded or not count_code(column, code))
    ]
    if not pairs and (column.why is None or missing.empty == BLANK):
        return [{"value": "", "label": BLANK}] if column.missing_count else []
    return [{"value": "", "label": missing.empty}, *({"value": text, "label": reason} for text, reason in pairs)]


def to_stored_code(code: str, column: Column) -> str | int:
    """Return a code as its column stores it: a number in a column of numbers."""
    if column.type in ("integer", "number"):
        try:
            return int(code)
        except ValueError:
            return code
    return code


def make_descriptor(
    table: Table, missing: Mapping[str, MissingPlan], form: TextForm = DEFAULT_FORM, primary_key: Sequence[str] = ()
) -> dict[str, object]:
    """Return the descriptor of a table, without what is known only of its file."""
    schema: dict[str, object] = {"fields": make_fields(table, missing, form)}
    if primary_key:
        schema["primaryKey"] = list(primary_key)
    content: dict[str, object] = {ROWS: len(table), "schema": schema, HISTORY: table.history.to_json()}
    if rules := list_rules(table):
        content[RULES] = rules
    if scales := list_scales(table):
        content[SCALES] = scales
    if table.dictionary.other_layout is not None:
        content[OTHER_LAYOUT] = table.dictionary.other_layout.model_dump(mode="json", exclude_defaults=True)
    return content


def list_rules(table: Table) -> dict[str, str]:
    """Return the rules for a table: those all of whose columns it has."""
    result = {}
    for name, rule in table.dictionary.rules.items():
        try:
            tree = parse(rule)
            columns = [*find_names(tree), *find_choices(tree)]
        except UsageError:  # which check reports
            continue
        if all(choose_by_name(column, table.names) is not None for column in columns):
            result[name] = rule
    return result


def list_scales(table: Table) -> dict[str, object]:
    """Return the scales for a table: those with a column that begins like their first item."""
    stems = {name: re.split(r"[\d*?.,\[]", scale.items)[0] for name, scale in table.dictionary.scales.items()}
    return {
        name: scale.model_dump(mode="json", exclude_defaults=True)
        for name, scale in table.dictionary.scales.items()
        if stems[name] and any(column.startswith(stems[name]) for column in table.names)
    }


@dataclass(frozen=True)
class TextLayout:
    """How a text file is written: its delimiter (empty for none), encoding, and whether names are known."""

    delimiter: str = ""
    encoding: str = "utf-8"
    is_named: bool = False


DEFAULT_LAYOUT = TextLayout()


def format_descriptor(
    path: Path, size: int, digest: str, content: Mapping[str, Any], layout: TextLayout = DEFAULT_LAYOUT
) -> bytes:
    """Return the descriptor to be written beside `path`, for its size, hash and text layout."""
    history = content[HISTORY]
    for output in history["tasks"].get(history["last"], {}).get("outputs", []):
        if output["role"] == "out":
            output["hash"] = digest
    document = {
        "name": to_utf8(path.stem).lower().replace(" ", "-"),
        "path": to_utf8(path.name),
        "format": path.suffix.lstrip("."),
        "encoding": layout.encoding,
        "bytes": size,
        "hash": digest,
        **({"dialect": {"delimiter": layout.delimiter}} if layout.delimiter else {}),
        **content,
    }
    return (json.dumps(document, ensure_ascii=False, indent=1) + "\n").encode()
