"""Dictionaries as text and tables: a commented draft in TOML, and worksheets."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.scale import Scale
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_table, read_text_rows
from lomrix.core.table.variable import Variable
from lomrix.files.codebook import CodeLists, find_type, split_cell, unescape

if TYPE_CHECKING:
    from lomrix.core.steps.dictionary.draft import DraftVariable

VARIABLE_HEADS = (
    "variable", "label", "type", "form", "unit", "codes", "missing", "minimum", "maximum", "allowed", "level",
    "description", "reversed",
)  # fmt: skip
RULE_HEADS = ("rule", "expression")
OTHER_SHEETS = ("codes", "rules", "scales")
SCALE_HEADS = ("scale", *Scale.model_fields)
CODE_HEADS = ("codes", "value", "label")
BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")
HEADING = """# The dictionary of {name}, drafted from the file. Lines that begin with # have no effect yet.
# Remove the # where the line is right: label, unit, codes, missing codes and limits are yours to state.
"""


def format_key(name: str) -> str:
    """Format a name as a TOML key."""
    return name if BARE_KEY.fullmatch(name) else json.dumps(name, ensure_ascii=False)


def format_value(value: object) -> str:
    """Format a value as TOML."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return str(value)
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{format_key(str(key))} = {format_value(item)}" for key, item in value.items()) + " }"
    if isinstance(value, Sequence) and not isinstance(value, str):
        return "[" + ", ".join(map(format_value, value)) + "]"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    return str(value)  # a date


def list_stated(entry: Variable) -> list[tuple[str, object]]:
    """List the parts of an entry that say something."""
    return [(part, value) for part, value in entry if value is not False and value not in (None, "", {}, ())]


def format_draft(drafted: Sequence[DraftVariable], name: str, existing: str = "") -> str:
    """Return a dictionary's text: what a person wrote is kept unchanged, new entries follow it."""
    parts = [existing.rstrip() + "\n"] if existing.strip() else [HEADING.format(name=name)]
    codes = set(tomllib.loads(existing).get("codes", {})) if existing.strip() else set()
    code_lists = []
    for variable in drafted:
        stated = dict(list_stated(variable.entry))
        lines = [
            f"[variables.{format_key(variable.name)}]",
            *(f"{part} = {format_value(value)}" for part, value in stated.items()),
        ]
        open_parts = {"label": '""', "type": f'"{variable.type}"'}
        if variable.span is not None:
            quoted = (
                variable.span
                if variable.type != "datetime"
                else tuple(text.replace(" ", "T") for text in variable.span)
            )
            open_parts |= {"minimum": quoted[0], "maximum": quoted[1]}
        if variable.values:
            open_parts["codes"] = format_value(variable.name)
        if variable.codes:
            open_parts["missing"] = (
                format_value({str(code): "not given" for code in variable.codes}) + "  # far from the others"
            )
        lines += [f"# {part} = {text}" for part, text in open_parts.items() if part not in stated]
        if variable.reasons:
            lines.append("# found missing: " + ", ".join(variable.reasons))
        parts.append("\n".join(lines) + "\n")
        if variable.entry.codes and variable.entry.codes not in codes:
            codes.add(variable.entry.codes)
            values = "\n".join(
                f"{format_key(value)} = {format_value(label)}" for value, label in variable.labels.items()
            )
            code_lists.append(f"[codes.{format_key(variable.entry.codes)}]\n{values}\n")
        elif variable.values and not variable.entry.codes and variable.name not in codes:
            values = "\n".join(f'# {format_key(value)} = ""' for value in variable.values)
            code_lists.append(f"# [codes.{format_key(variable.name)}]\n{values}\n")
    return "\n".join([*parts, *code_lists])


def format_dictionary(dictionary: Dictionary) -> str:
    """Return a whole dictionary as TOML."""
    parts = []
    for name, entry in dictionary.variables.items():
        lines = [f"[variables.{format_key(name)}]"]
        lines += [f"{part} = {format_value(value)}" for part, value in list_stated(entry)]
        parts.append("\n".join(lines) + "\n")
    for name, codes in dictionary.codes.items():
        lines = [
            f"[codes.{format_key(name)}]",
            *(f"{format_key(code)} = {format_value(label)}" for code, label in codes.items()),
        ]
        parts.append("\n".join(lines) + "\n")
    if dictionary.rules:
        rules = [f"{format_key(name)} = {format_value(rule)}" for name, rule in dictionary.rules.items()]
        parts.append("\n".join(["[rules]", *rules]) + "\n")
    for name, scale in dictionary.scales.items():
        parts_of_scale = scale.model_dump(exclude_defaults=True)
        lines = [
            f"[scales.{format_key(name)}]",
            *(f"{part} = {format_value(value)}" for part, value in parts_of_scale.items()),
        ]
        parts.append("\n".join(lines) + "\n")
    return "\n".join(parts)


# ------------------------------------------------------------------ two sheets


def make_sheets(dictionary: Dictionary) -> dict[str, Table]:
    """Return the dictionary as tables of text: variables, codes, and rules and scales if any."""
    is_any_reversed = any(entry.reversed for entry in dictionary.variables.values())
    heads = VARIABLE_HEADS if is_any_reversed else VARIABLE_HEADS[:-1]
    variables = [
        [name, *(_format_cell(getattr(entry, head)) for head in heads[1:])]
        for name, entry in dictionary.variables.items()
    ]
    codes = [[name, code, label] for name, entries in dictionary.codes.items() for code, label in entries.items()]
    sheets = {
        "variables": make_text_table(heads, variables, "variables"),
        "codes": make_text_table(CODE_HEADS, codes, "codes"),
    }
    if dictionary.rules:
        rules = [[name, rule] for name, rule in dictionary.rules.items()]
        sheets["rules"] = make_text_table(RULE_HEADS, rules, "rules")
    if dictionary.scales:
        lines = [[name, *(str(value) for _, value in scale)] for name, scale in dictionary.scales.items()]
        sheets["scales"] = make_text_table(SCALE_HEADS, lines, "scales")
    return sheets


def _format_cell(value: object) -> str:
    if isinstance(value, Mapping):
        return "; ".join(f"{_escape(code)} = {_escape(reason)}" for code, reason in value.items())
    if isinstance(value, tuple):
        return "; ".join(_escape(str(item)) for item in value)
    return "" if value is None or value is False else str(value)


def _escape(text: str) -> str:
    """Escape the separators in a text with a backslash."""
    return re.sub(r"([\\;=])", r"\\\1", text)


def parse_sheets(sheets: Mapping[str, Table], missing: Collection[str] = ()) -> Dictionary:
    """Return a dictionary from its tables, by name; `missing` are codes that mean a missing cell.

    Raises FileError naming the invalid row.
    """
    rows = {name: read_text_rows(sheet) for name, sheet in sheets.items()}
    named: dict[str, dict[str, str]] = {}
    for line in rows.get("codes", ()):
        named.setdefault(line.get("codes", ""), {})[line.get("value", "")] = line.get("label", "")
    lists, entries = CodeLists(named, missing), dict[str, Variable]()
    for row, line in enumerate(rows["variables"], start=2):
        name = line.pop("variable", "")
        try:
            if not name or name in entries:
                raise ValueError("the variable is listed twice" if name else "the variable has no name")
            entries[name] = parse_variable(name, line, lists)
        except (ValidationError, ValueError) as error:
            message = error.errors()[0]["msg"] if isinstance(error, ValidationError) else str(error)
            raise FileError(
                f"Row {row} of the variables is not valid.",
                where=f"{name}: {message}" if name else message,
                todo=f"Columns are {', '.join(VARIABLE_HEADS)}.",
            ) from error
    rules = {line.get("rule", ""): line.get("expression", "") for line in rows.get("rules", ())}
    return Dictionary(entries, lists.lists, rules, scales=parse_scales(rows.get("scales", ())))


def parse_variable(name: str, line: Mapping[str, str], lists: CodeLists) -> Variable:
    """Return the entry of a variable from the cells of its row; those of columns that are none of ours do not count.

    Raises ValueError if a cell is not valid.
    """
    parts: dict[str, Any] = {head: text for head, text in line.items() if text and head in VARIABLE_HEADS}
    parts["type"] = find_type(parts.get("type", "")) or None
    parts["codes"], missing = lists.find(name, parts.get("codes", ""))
    pairs = (split_cell(pair, "=", 1) for pair in split_cell(parts.get("missing", ""), ";") if pair)
    parts["missing"] = {**missing, **{unescape(pair[0]): unescape(pair[-1] or pair[0]) for pair in pairs}}
    if "allowed" in parts:
        parts["allowed"] = tuple(map(unescape, split_cell(parts["allowed"], ";")))
    return Variable.model_validate(parts)


def parse_scales(rows: Iterable[dict[str, str]]) -> dict[str, Scale]:
    """Return the scales from the rows of their table.

    Raises FileError naming the invalid row.
    """
    scales = {}
    for row, line in enumerate(rows, start=2):
        name = line.pop("scale", "")
        try:
            scales[name] = Scale.model_validate({head: text for head, text in line.items() if text})
        except ValidationError as error:
            where = f"{name}: {error.errors()[0]['msg']}"
            todo = f"Columns are {', '.join(SCALE_HEADS)}."
            raise FileError(f"Row {row} of the scales is not valid.", where=where, todo=todo) from error
    return scales
