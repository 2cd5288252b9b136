"""What follows a variable into an expression: labels and unit, where the result is a value of that variable."""

from __future__ import annotations

import ast
import functools
from collections.abc import Mapping
from dataclasses import dataclass

from lomrix.core.language.function import literal
from lomrix.core.language.functions.standing import band_labels
from lomrix.core.language.parse import called_function, column_named
from lomrix.core.table.changed_variable import common_entry
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import NOTHING_KNOWN, Variable


@dataclass(frozen=True)
class Carried:
    """What is known of an expression's values.

    Parameters
    ----------
    entry
        The entry of the variable whose values they are; one that says nothing where they are none's.
    labels
        Labels of codes that the expression makes.
    name
        The variable; empty where they are those of several.
    is_copy
        Whether they are all of its values, each in its row.
    """

    entry: Variable = NOTHING_KNOWN
    labels: Mapping[str, str] | None = None
    name: str = ""
    is_copy: bool = False


def carried_into(tree: ast.expr, dictionary: Dictionary) -> Carried:
    """What follows from a dictionary into the result of an expression.

    Parameters
    ----------
    tree
        The expression, parsed.
    dictionary
        What is known of its columns.
    """
    name = tree.id if isinstance(tree, ast.Name) else column_named(tree)
    if name is not None:
        return Carried(dictionary.of(name), name=name, is_copy=True)
    if isinstance(tree, ast.IfExp):
        parts = [part for part in (tree.body, tree.orelse) if not is_missing_call(part)]
        return alike([carried_into(part, dictionary) for part in parts])
    if not isinstance(tree, ast.Call):
        return Carried()
    function = called_function(tree)
    if function.name == "bands":
        return Carried(labels=band_labels([float(literal(edge)) for edge in tree.args[1:]]))
    if not function.keeps:
        return Carried()
    return alike(
        [carried_into(part, dictionary) for part in (tree.args if function.name == "first_present" else tree.args[:1])]
    )


def alike(parts: list[Carried]) -> Carried:
    """What several say alike; nothing where they differ in their codes."""
    if not parts or any(part.labels != parts[0].labels or part.entry.codes != parts[0].entry.codes for part in parts):
        return Carried()
    entry = functools.reduce(common_entry, (part.entry for part in parts))
    names = {part.name for part in parts}
    return Carried(entry, parts[0].labels, names.pop() if len(names) == 1 else "")


def is_missing_call(tree: ast.expr) -> bool:
    """True for `missing("reason")`, which has no values."""
    return isinstance(tree, ast.Call) and isinstance(tree.func, ast.Name) and tree.func.id == "missing"
