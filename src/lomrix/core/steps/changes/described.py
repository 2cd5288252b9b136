"""What the dictionaries of two deliveries say otherwise."""

from __future__ import annotations

from collections.abc import Iterator

from lomrix.core.table.table import Table

PARTS = ("label", "unit", "missing", "minimum", "maximum", "allowed", "level")
Line = tuple[str, str, str, str]


def described_otherwise(old: Table, new: Table) -> Iterator[Line]:
    """Variable, what of it, old and new: types, labels, codes, missing codes, limits."""
    for name in (one for one in old.names if one in new.columns):
        # A column without any value fits every type, so that none has changed.
        if old[name].type != new[name].type and not (old[name].is_without_values or new[name].is_without_values):
            yield name, "type", old[name].type, new[name].type
        before, now = old.dictionary.of(name), new.dictionary.of(name)
        for part in PARTS:
            one, other = getattr(before, part), getattr(now, part)
            if one != other:
                yield name, "missing codes" if part == "missing" else part, told(one), told(other)
        codes, fresh = old.dictionary.labels_of(name), new.dictionary.labels_of(name)
        for code in dict.fromkeys([*codes, *fresh]):
            if codes.get(code) != fresh.get(code):
                yield name, f"code {code}", codes.get(code, ""), fresh.get(code, "")


def told(value: object) -> str:
    """A part of an entry as text."""
    if isinstance(value, dict):
        return ", ".join(f"{code} {reason}" for code, reason in value.items())
    if isinstance(value, tuple):
        return ", ".join(map(str, value))
    return "" if value is None else str(value)
