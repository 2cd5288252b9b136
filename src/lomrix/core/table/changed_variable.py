"""What the dictionary says of a variable that still holds once its values were changed: one rule for all steps."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from lomrix.core.table.code_use import times_used
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note
from lomrix.core.table.variable import Bound, Variable

# How values were changed: to others of the variable's own values or to missing ones, by a map of values, by a formula.
How = Literal["own values", "mapped", "computed"]
LIMITS = ("minimum", "maximum")
NUMERIC = ("integer", "number")


def keep_what_holds(entry: Variable, before: Column, after: Column, how: How) -> Variable:
    """What still holds of a variable.

    Label and level hold, since it is the same variable. Unit, limits, allowed values, codes and description hold for
    the variable's own values only; limits and unit never for texts. A missing code holds where it is no value now.

    Parameters
    ----------
    entry
        What the dictionary said.
    before, after
        The column before and after.
    how
        How its values were changed.
    """
    nothing: dict[str, object] = {}
    if how != "own values":
        nothing |= {"unit": "", "minimum": None, "maximum": None, "allowed": (), "codes": None, "description": ""}
    if kind_of_values(before) != kind_of_values(after):
        nothing |= {"unit": "", "minimum": None, "maximum": None, "allowed": ()}
    if before.type != after.type:
        nothing |= {"type": None, "form": ""}
    missing = {code: reason for code, reason in entry.missing.items() if not times_used(after, code)}
    return entry.with_(**nothing, missing=missing)


def kind_of_values(column: Column) -> str:
    """The kind of a column's values, as far as units and limits go: numbers, times, or their type."""
    return {"integer": "number", "date": "time", "datetime": "time"}.get(column.type, column.type)


def common_entry(first: Variable, second: Variable) -> Variable:
    """What two entries say alike, for values that are of either variable."""
    alike = {part: value for part, value in first if getattr(second, part) == value}
    return Variable(**alike)


def dropped_parts(before: Variable, after: Variable) -> list[str]:
    """What an entry said and says no more, in words; that of other values in its place does not count."""
    words = []
    if before.unit and not after.unit:
        words.append(f"unit ({before.unit})")
    for part in LIMITS:
        bound: Bound | None = getattr(before, part)
        if bound is not None and getattr(after, part) is None:
            words.append(f"{part} ({bound})")
    words += ["allowed values"] if before.allowed and not after.allowed else []
    words += [f"codes ({before.codes})"] if before.codes and not after.codes else []
    gone = [code for code in before.missing if code not in after.missing]
    words += [f"missing code {code}" for code in gone]
    words += ["description"] if before.description and not after.description else []
    return words


def notes_on_dropped(pairs: Iterable[tuple[str, Variable, Variable]]) -> list[Note]:
    """What is reported of variables whose entries, before and after, say less now."""
    notes = []
    for name, before, after in pairs:
        words = dropped_parts(before, after)
        if words:
            text = f"no longer holds and was dropped from the dictionary: {', '.join(words)}."
            notes.append(Note(text, name, (), "dropped", len(words)))
    return notes
