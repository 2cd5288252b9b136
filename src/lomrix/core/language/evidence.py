"""Numbers that look like missing codes, in the columns that expressions compute with."""

from __future__ import annotations

import ast
from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace

from lomrix.core.language.parse import find_choices, find_names, parse
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table


def find_evidence(
    expressions: Iterable[str], table: Table, types: Mapping[str, str], keys: Collection[str]
) -> dict[str, CodeEvidence]:
    """Look for missing codes among the numbers of a table that are computed with, but for those that an expression
    names; copies and keys are not looked at. Choices of columns are among those of `types`.
    """
    trees = [tree for tree in map(parse, expressions) if not isinstance(tree, ast.Name)]
    used = [name for tree in trees for name in find_names(tree)]
    used += [name for tree in trees for choice in find_choices(tree) for name in choose_columns(choice, types, "")]
    named = {node.value for tree in trees for node in ast.walk(tree) if isinstance(node, ast.Constant)}
    evidence = {
        name: CodeEvidence.of(table[name]) for name in dict.fromkeys(used) if name in table.columns and name not in keys
    }
    return {
        name: replace(found, codes={code: count for code, count in found.codes.items() if abs(code) not in named})
        for name, found in evidence.items()
    }
