"""Which labels and unit an expression's result inherits, if it is a value of a variable."""

from __future__ import annotations

import ast
import functools
from collections.abc import Mapping
from dataclasses import dataclass

from lomrix.core.language.function import literal_value
from lomrix.core.language.functions.ranks import make_band_labels
from lomrix.core.language.parse import get_column_name, get_function
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.entry_changes import common_entry
from lomrix.core.table.variable import NO_ENTRY, Variable


@dataclass(frozen=True)
class Inherited:
    """What is known of an expression's values: the dictionary entry they belong to, labels of codes that the expression
    makes, the variable's name (empty for several), and whether they are an exact copy.
    """

    entry: Variable = NO_ENTRY
    labels: Mapping[str, str] | None = None
    name: str = ""
    is_copy: bool = False


def inherit_entry(tree: ast.expr, dictionary: Dictionary) -> Inherited:
    """Return what an expression's result inherits from the dictionary."""
    name = tree.id if isinstance(tree, ast.Name) else get_column_name(tree)
    if name is not None:
        return Inherited(dictionary.of(name), name=name, is_copy=True)
    if isinstance(tree, ast.IfExp):
        parts = [part for part in (tree.body, tree.orelse) if not is_missing_call(part)]
        return combine_inherited([inherit_entry(part, dictionary) for part in parts])
    if not isinstance(tree, ast.Call):
        return Inherited()
    function = get_function(tree)
    if function.name == "bands":
        names = next((literal_value(keyword.value) for keyword in tree.keywords if keyword.arg == "labels"), ())
        return Inherited(labels=make_band_labels([float(literal_value(edge)) for edge in tree.args[1:]], names))
    if not function.keeps:
        return Inherited()
    return combine_inherited(
        [inherit_entry(part, dictionary) for part in (tree.args if function.name == "first_present" else tree.args[:1])]
    )


def combine_inherited(parts: list[Inherited]) -> Inherited:
    """Return what several parts have in common; nothing if they differ in their codes."""
    if not parts or any(part.labels != parts[0].labels or part.entry.codes != parts[0].entry.codes for part in parts):
        return Inherited()
    entry = functools.reduce(common_entry, (part.entry for part in parts))
    names = {part.name for part in parts}
    return Inherited(entry, parts[0].labels, names.pop() if len(names) == 1 else "")


def is_missing_call(tree: ast.expr) -> bool:
    """Return whether this is `missing("reason")`, which has no values."""
    return isinstance(tree, ast.Call) and isinstance(tree.func, ast.Name) and tree.func.id == "missing"
