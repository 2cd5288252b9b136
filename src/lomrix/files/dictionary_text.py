"""Dictionaries as text and tables: a commented draft in TOML, and two sheets, variables and codes."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.scale import Scale
from lomrix.core.table.table import Table
from lomrix.core.table.texts import rows_of, table_of_texts
from lomrix.core.table.variable import Variable

if TYPE_CHECKING:
    from lomrix.core.steps.dictionary.draft import Drafted

VARIABLE_HEADS = (
    "variable",
    "label",
    "type",
    "form",
    "unit",
    "codes",
    "missing",
    "minimum",
    "maximum",
    "allowed",
    "level",
    "description",
)
RULE_HEADS = ("rule", "expression")
OTHER_SHEETS = ("codes", "rules", "scales")
SCALE_HEADS = ("scale", *Scale.model_fields)
CODE_HEADS = ("codes", "value", "label")
BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")
HEADING = """# The dictionary of {name}, drafted from what is in the file. Lines that begin with # say nothing yet.
# Take the sign away where the line is right: label, unit, codes, missing codes and limits are yours to say.
"""


def toml_key(name: str) -> str:
    """A name as a key of TOML."""
    return name if BARE_KEY.fullmatch(name) else json.dumps(name, ensure_ascii=False)


def toml_value(value: object) -> str:
    """A value as TOML writes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int | float):
        return str(value)
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{toml_key(str(key))} = {toml_value(one)}" for key, one in value.items()) + " }"
    if isinstance(value, Sequence) and not isinstance(value, str):
        return "[" + ", ".join(map(toml_value, value)) + "]"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    return str(value)  # a date


def draft_text(drafted: Sequence[Drafted], name: str, existing: str = "") -> str:
    """A dictionary's text: what a person wrote is kept to the letter, what is new follows it."""
    parts = [existing.rstrip() + "\n"] if existing.strip() else [HEADING.format(name=name)]
    codes = set(tomllib.loads(existing).get("codes", {})) if existing.strip() else set()
    lists = []
    for one in drafted:
        said = {part: value for part, value in one.entry if value not in (None, "", {}, ())}
        lines = [
            f"[variables.{toml_key(one.name)}]",
            *(f"{part} = {toml_value(value)}" for part, value in said.items()),
        ]
        open_parts = {"label": '""', "type": f'"{one.type}"'}
        if one.span is not None:
            quoted = one.span if one.type != "datetime" else tuple(text.replace(" ", "T") for text in one.span)
            open_parts |= {"minimum": quoted[0], "maximum": quoted[1]}
        if one.values:
            open_parts["codes"] = toml_value(one.name)
        if one.codes:
            open_parts["missing"] = toml_value({str(code): "not given" for code in one.codes}) + "  # stand apart"
        lines += [f"# {part} = {text}" for part, text in open_parts.items() if part not in said]
        if one.reasons:
            lines.append("# found missing: " + ", ".join(one.reasons))
        parts.append("\n".join(lines) + "\n")
        if one.entry.codes and one.entry.codes not in codes:
            codes.add(one.entry.codes)
            values = "\n".join(f"{toml_key(value)} = {toml_value(label)}" for value, label in one.labels.items())
            lists.append(f"[codes.{toml_key(one.entry.codes)}]\n{values}\n")
        elif one.values and not one.entry.codes and one.name not in codes:
            values = "\n".join(f'# {toml_key(value)} = ""' for value in one.values)
            lists.append(f"# [codes.{toml_key(one.name)}]\n{values}\n")
    return "\n".join([*parts, *lists])


def dictionary_text(dictionary: Dictionary) -> str:
    """A whole dictionary in TOML."""
    parts = []
    for name, entry in dictionary.variables.items():
        lines = [f"[variables.{toml_key(name)}]"]
        lines += [f"{part} = {toml_value(value)}" for part, value in entry if value not in (None, "", {}, ())]
        parts.append("\n".join(lines) + "\n")
    for name, codes in dictionary.codes.items():
        lines = [
            f"[codes.{toml_key(name)}]",
            *(f"{toml_key(code)} = {toml_value(label)}" for code, label in codes.items()),
        ]
        parts.append("\n".join(lines) + "\n")
    if dictionary.rules:
        rules = [f"{toml_key(name)} = {toml_value(rule)}" for name, rule in dictionary.rules.items()]
        parts.append("\n".join(["[rules]", *rules]) + "\n")
    for name, scale in dictionary.scales.items():
        told = scale.model_dump(exclude_defaults=True)
        lines = [f"[scales.{toml_key(name)}]", *(f"{part} = {toml_value(value)}" for part, value in told.items())]
        parts.append("\n".join(lines) + "\n")
    return "\n".join(parts)


# ------------------------------------------------------------------ two sheets


def dictionary_sheets(dictionary: Dictionary) -> dict[str, Table]:
    """The dictionary as tables of text: variables, codes, and rules and scales where there are some."""
    variables = [
        [name, *(_cell(getattr(entry, head)) for head in VARIABLE_HEADS[1:])]
        for name, entry in dictionary.variables.items()
    ]
    codes = [[name, code, label] for name, entries in dictionary.codes.items() for code, label in entries.items()]
    sheets = {
        "variables": table_of_texts(VARIABLE_HEADS, variables, "variables"),
        "codes": table_of_texts(CODE_HEADS, codes, "codes"),
    }
    if dictionary.rules:
        rules = [[name, rule] for name, rule in dictionary.rules.items()]
        sheets["rules"] = table_of_texts(RULE_HEADS, rules, "rules")
    if dictionary.scales:
        lines = [[name, *(str(value) for _, value in scale)] for name, scale in dictionary.scales.items()]
        sheets["scales"] = table_of_texts(SCALE_HEADS, lines, "scales")
    return sheets


def _cell(value: object) -> str:
    if isinstance(value, Mapping):
        return "; ".join(f"{_kept(code)} = {_kept(reason)}" for code, reason in value.items())
    if isinstance(value, tuple):
        return "; ".join(_kept(str(one)) for one in value)
    return "" if value is None else str(value)


def _kept(text: str) -> str:
    """A text whose own signs of division are marked with a backslash."""
    return re.sub(r"([\\;=])", r"\\\1", text)


def _split(text: str, sign: str, most: int = 0) -> list[str]:
    """The parts of a text between signs that no backslash marks."""
    return [part.strip() for part in re.split(rf"(?<!\\){sign}", text, maxsplit=most)]


def _plain(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text)


def dictionary_of_sheets(
    variables: Table, codes: Table | None = None, rules: Table | None = None, scales: Table | None = None
) -> Dictionary:
    """A dictionary from its tables.

    Raises
    ------
    FileError
        Naming the row that a dictionary cannot hold.
    """
    entries: dict[str, Variable] = {}
    for row, line in enumerate(rows_of(variables), start=2):
        name = line.pop("variable", "")
        parts: dict[str, Any] = {head: text for head, text in line.items() if text and head in VARIABLE_HEADS}
        if "missing" in parts:
            pairs = (_split(pair, "=", 1) for pair in _split(parts["missing"], ";") if pair)
            parts["missing"] = {_plain(pair[0]): _plain(pair[-1] or pair[0]) for pair in pairs}
        if "allowed" in parts:
            parts["allowed"] = tuple(map(_plain, _split(parts["allowed"], ";")))
        try:
            if not name:
                raise ValueError("the variable has no name")
            entries[name] = Variable.model_validate(parts)
        except (ValidationError, ValueError) as error:
            first = error.errors()[0]["msg"] if isinstance(error, ValidationError) else str(error)
            raise FileError(
                f"Row {row} of the variables cannot be understood.",
                where=f"{name}: {first}",
                todo=f"Columns are {', '.join(VARIABLE_HEADS)}.",
            ) from error
    lists: dict[str, dict[str, str]] = {}
    for line in rows_of(codes) if codes is not None else []:
        lists.setdefault(line.get("codes", ""), {})[line.get("value", "")] = line.get("label", "")
    own = {line.get("rule", ""): line.get("expression", "") for line in (rows_of(rules) if rules is not None else [])}
    return Dictionary(entries, lists, own, scales=scales_of_sheet(scales))


def scales_of_sheet(sheet: Table | None) -> dict[str, Scale]:
    """The scales from their table.

    Raises
    ------
    FileError
        Naming the row that is none.
    """
    found = {}
    for row, line in enumerate(rows_of(sheet) if sheet is not None else [], start=2):
        name = line.pop("scale", "")
        try:
            found[name] = Scale.model_validate({head: text for head, text in line.items() if text})
        except ValidationError as error:
            where = f"{name}: {error.errors()[0]['msg']}"
            todo = f"Columns are {', '.join(SCALE_HEADS)}."
            raise FileError(f"Row {row} of the scales cannot be understood.", where=where, todo=todo) from error
    return found
