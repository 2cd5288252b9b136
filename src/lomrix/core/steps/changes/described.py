"""What differs between the dictionaries of two deliveries."""

from __future__ import annotations

from collections.abc import Iterator

from lomrix.core.table.table import Table

PARTS = ("label", "unit", "missing", "minimum", "maximum", "allowed", "level")
Line = tuple[str, str, str, str]


def compare_dictionaries(old: Table, new: Table) -> Iterator[Line]:
    """Yield variable, part, old and new: types, labels, codes, missing codes, limits."""
    for name in (before_value for before_value in old.names if before_value in new.columns):
        # A column without any value fits every type.
        if old[name].type != new[name].type and not (old[name].is_without_values or new[name].is_without_values):
            yield name, "type", old[name].type, new[name].type
        before, now = old.dictionary.of(name), new.dictionary.of(name)
        for part in PARTS:
            before_value, now_value = getattr(before, part), getattr(now, part)
            if before_value != now_value:
                yield (
                    name,
                    "missing codes" if part == "missing" else part,
                    format_part(before_value),
                    format_part(now_value),
                )
        old_codes, new_codes = old.dictionary.labels_of(name), new.dictionary.labels_of(name)
        for code in dict.fromkeys([*old_codes, *new_codes]):
            if old_codes.get(code) != new_codes.get(code):
                yield name, f"code {code}", old_codes.get(code, ""), new_codes.get(code, "")


def format_part(value: object) -> str:
    """Format a part of an entry."""
    if isinstance(value, dict):
        return ", ".join(f"{code} {reason}" for code, reason in value.items())
    if isinstance(value, tuple):
        return ", ".join(map(str, value))
    return "" if value is None else str(value)
