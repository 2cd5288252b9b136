"""What differs between two dictionaries."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import NO_ENTRY, Variable

THERE = "there"
PARTS = {
    "label": "label", "description": "description", "type": "type", "form": "date form", "unit": "unit",
    "codes": "list of codes", "minimum": "minimum", "maximum": "maximum", "level": "level",
    "reversed": "reverse-scored",
}  # fmt: skip
Facts = dict[str, dict[tuple[str, str], str]]


@dataclass(frozen=True)
class Change:
    """One thing that differs; an empty text stands for what is not there.

    `kind` is `variable`, `codes`, `rule` or `scale`; `part` is empty where all of it is new or gone.
    """

    kind: str
    name: str
    part: str
    old: str
    new: str


def compare_dictionaries(old: Dictionary, new: Dictionary) -> list[Change]:
    """Return what differs: variables, lists of codes, rules and scales."""
    before, after = list_facts(old), list_facts(new)
    changes = []
    for kind in before:
        for name, part in dict.fromkeys([*before[kind], *after[kind]]):
            was, now = before[kind].get((name, part), ""), after[kind].get((name, part), "")
            is_in_both = (name, "") in before[kind] and (name, "") in after[kind]
            if was != now and (is_in_both or not part):
                changes.append(Change(kind, name, part, was, now))
    return changes


def list_facts(dictionary: Dictionary) -> Facts:
    """Return everything that a dictionary says as texts, by name and part."""
    facts: Facts = {"variable": {}, "codes": {}, "rule": {}, "scale": {}}
    for name, entry in dictionary.variables.items():
        facts["variable"] |= {(name, part): text for part, text in list_parts(entry).items()}
    for name, labels in dictionary.codes.items():
        facts["codes"] |= {(name, ""): THERE, **{(name, f"code {code}"): label for code, label in labels.items()}}
    facts["rule"] = {(name, ""): rule for name, rule in dictionary.rules.items()}
    for name, scale in dictionary.scales.items():
        settings = {(name, part): str(value) for part, value in scale if value not in ("", 0)}
        facts["scale"] |= {(name, ""): THERE, **settings}
    return facts


def list_parts(entry: Variable) -> Mapping[str, str]:
    """Return the stated parts of an entry as texts."""
    parts = {"": THERE}
    for part, word in PARTS.items():
        value = getattr(entry, part)
        if value != getattr(NO_ENTRY, part):
            parts[word] = str(value)
    parts |= {f"missing code {code}": reason for code, reason in entry.missing.items()}
    return {**parts, "allowed values": ", ".join(entry.allowed)} if entry.allowed else parts
