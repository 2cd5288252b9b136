"""What is lost or in conflict when dictionary entries change: labels, codes, limits."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal

from lomrix.core.errors import DataError
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.labelled import count_code
from lomrix.core.table.notes import Note
from lomrix.core.table.variable import Bound, Variable
from lomrix.core.wording import shorten_list

MOST_SHOWN = 4


def find_label_conflicts(first: Dictionary, second: Dictionary, names: Mapping[str, str], table: str) -> list[str]:
    """Describe the codes to which two dictionaries give different labels; `names` maps names of the second to those of
    the first, `table` is what messages call the second.
    """
    conflicts = []
    for second_name, first_name in names.items():
        first_labels, second_labels = first.labels_of(first_name), second.labels_of(second_name)
        conflicts += [
            f'{first_name} {code}: "{first_labels[code]}" before, "{second_labels[code]}" in {table}'
            for code in first_labels
            if code in second_labels and first_labels[code] != second_labels[code]
        ]
    return conflicts


def find_code_conflicts(first: Dictionary, second: Dictionary, names: Mapping[str, str], table: str) -> list[str]:
    """Describe the labels that two dictionaries give to different codes, as `find_label_conflicts` does for codes."""
    conflicts = []
    for second_name, first_name in names.items():
        codes = [group_codes(first.labels_of(first_name)), group_codes(second.labels_of(second_name))]
        conflicts += [
            f'{first_name} "{label}": {", ".join(before)} before, {", ".join(codes[1][label])} in {table}'
            for label, before in codes[0].items()
            if label in codes[1] and not {*before} & {*codes[1][label]}
        ]
    return conflicts


def group_codes(labels: Mapping[str, str]) -> dict[str, list[str]]:
    """Return the codes of each label."""
    result: dict[str, list[str]] = {}
    for code, label in labels.items():
        result.setdefault(label, []).append(code)
    return result


def require_same_labels(conflicts: Iterable[str]) -> None:
    """Stop if a code has two labels.

    Raises DataError with the first of them.
    """
    found = list(conflicts)
    if found:
        raise DataError(
            "One code has different labels in different files.",
            where="; ".join(found[:MOST_SHOWN]) + (" …" if len(found) > MOST_SHOWN else ""),
            todo="Recode one of the files, or use ‹other_labels=first›.",
        )


def require_same_codes(conflicts: Sequence[str]) -> None:
    """Stop if a label has two codes.

    Raises DataError with the first of them.
    """
    if conflicts:
        raise DataError(
            "One label has different codes in different files.",
            where=shorten_list(conflicts, MOST_SHOWN),
            todo="Recode one of the files, or use ‹other_labels=first›.",
        )


def note_overridden_labels(given: Dictionary, own: Dictionary, names: Iterable[str]) -> list[Note]:
    """Note where a given dictionary labels codes differently from the file itself."""
    notes = []
    for name in names:
        overridden = [
            f'{code} is "{label}", not "{own.labels_of(name)[code]}" as in the file'
            for code, label in given.labels_of(name).items()
            if own.labels_of(name).get(code, label) != label
        ]
        if overridden:
            text = f"the dictionary overrides labels of the file: {shorten_list(overridden, MOST_SHOWN)}."
            notes.append(Note(text, name, (), "labels-overridden", len(overridden)))
    return notes


# How values changed: to other values of the variable or missing, by a map of values, or by a formula.
How = Literal["own values", "mapped", "computed"]
LIMITS = ("minimum", "maximum")
NUMERIC = ("integer", "number")


def keep_valid_parts(entry: Variable, before: Column, after: Column, how: How) -> Variable:
    """Keep the parts of an entry that still hold.

    Label and level always do. Unit, limits, allowed values, codes and description belong to the variable's own values;
    limits and unit never apply to strings. A missing code is dropped if it is now a value.
    """
    cleared: dict[str, object] = {}
    if how != "own values":
        cleared |= {"unit": "", "minimum": None, "maximum": None, "allowed": (), "codes": None, "description": ""}
    if value_kind(before) != value_kind(after):
        cleared |= {"unit": "", "minimum": None, "maximum": None, "allowed": ()}
    if before.type != after.type:
        cleared |= {"type": None, "form": ""}
    missing = {code: reason for code, reason in entry.missing.items() if not count_code(after, code)}
    return entry.with_parts(**cleared, missing=missing)


def value_kind(column: Column) -> str:
    """Return the kind of a column's values for units and limits: numbers, times, or their type."""
    return {"integer": "number", "date": "time", "datetime": "time"}.get(column.type, column.type)


def common_entry(first: Variable, second: Variable) -> Variable:
    """Return what two entries have in common, for values of either variable."""
    alike = {part: value for part, value in first if getattr(second, part) == value}
    return Variable(**alike)


def describe_dropped_parts(before: Variable, after: Variable) -> list[str]:
    """Describe what an entry no longer holds."""
    parts = []
    if before.unit and not after.unit:
        parts.append(f"unit ({before.unit})")
    for part in LIMITS:
        bound: Bound | None = getattr(before, part)
        if bound is not None and getattr(after, part) is None:
            parts.append(f"{part} ({bound})")
    parts += ["allowed values"] if before.allowed and not after.allowed else []
    parts += [f"codes ({before.codes})"] if before.codes and not after.codes else []
    codes_dropped = [code for code in before.missing if code not in after.missing]
    parts += [f"missing code {code}" for code in codes_dropped]
    parts += ["description"] if before.description and not after.description else []
    return parts


def note_dropped_parts(pairs: Iterable[tuple[str, Variable, Variable]]) -> list[Note]:
    """Note for each variable what its entry no longer holds."""
    notes = []
    for name, before, after in pairs:
        parts = describe_dropped_parts(before, after)
        if parts:
            text = f"no longer holds and was dropped from the dictionary: {', '.join(parts)}."
            notes.append(Note(text, name, (), "dropped", len(parts)))
    return notes


def note_dropped_rules(before: Dictionary, after: Dictionary) -> list[Note]:
    """Note rules that no longer hold, since a variable that they name has other values now."""
    dropped = [name for name in before.rules if name not in after.rules]
    if not dropped:
        return []
    text = f"rules about changed variables were dropped from the dictionary: {shorten_list(dropped)}."
    return [Note(text, kind="rules-dropped", count=len(dropped))]
