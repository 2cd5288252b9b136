"""Parse: from text to a checked tree, with the place of whatever does not belong."""

from __future__ import annotations

import ast

from lomrix.core.errors import UsageError

ALLOWED = (
    ast.Expression, ast.BoolOp, ast.And, ast.Or, ast.UnaryOp, ast.Not, ast.USub, ast.UAdd, ast.BinOp, ast.Add,
    ast.Sub, ast.Mult, ast.Div, ast.FloorDiv, ast.Mod, ast.Pow, ast.Compare, ast.Eq, ast.NotEq, ast.Lt, ast.LtE,
    ast.Gt, ast.GtE, ast.In, ast.NotIn, ast.IfExp, ast.Call, ast.Name, ast.Load, ast.Constant, ast.Tuple, ast.List,
)  # fmt: skip
HELP = "An expression looks like \"age >= 16 and watch in ('day', 'night')\"; == compares."
LONGEST = 20_000
DEEPEST = 100


def parsed(text: str) -> ast.expr:
    """Parse an expression.

    Parameters
    ----------
    text
        The expression; names are columns.

    Raises
    ------
    UsageError
        Where it is no expression, or uses what the language does not have.
    """
    if len(text) > LONGEST:
        raise UsageError("The expression is too long.", todo="Cut it into several steps.")
    try:
        tree = ast.parse(text.strip(), mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        told = str(error)
        if isinstance(error, SyntaxError):  # one without a place is at the end, where something is wanting
            told = f"at sign {error.offset}: {error.msg}" if error.offset else "it ends where more is wanted"
        raise UsageError(
            f"The expression cannot be understood: {text}",
            where=told,
            todo=HELP,
        ) from error
    if depth_of(tree) > DEEPEST:
        raise UsageError(
            f"The expression has more than {DEEPEST} operations inside each other.", todo="Cut it into several steps."
        )
    for node in ast.walk(tree):
        bad = not isinstance(node, ALLOWED)
        bad |= isinstance(node, ast.Constant) and not isinstance(node.value, int | float | str)
        bad |= isinstance(node, ast.Call) and (bool(node.keywords) or not isinstance(node.func, ast.Name))
        if bad:
            raise UsageError(
                f"The expression uses what Lomrix does not have: {text}",
                where=f"at sign {getattr(node, 'col_offset', 0) + 1}: {ast.unparse(node)}",
                todo=HELP,
            )
    return tree


def depth_of(tree: ast.expr) -> int:
    """How many parts of an expression stand inside each other at most."""
    deepest, left = 0, [(tree, 1)]
    while left:
        node, depth = left.pop()
        deepest = max(deepest, depth)
        left += [(child, depth + 1) for child in ast.iter_child_nodes(node) if isinstance(child, ast.expr)]
    return deepest


def names_used(tree: ast.expr) -> list[str]:
    """The columns that an expression speaks of, each once, functions not among them."""
    functions = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
    names = [node.id for node in ast.walk(tree) if isinstance(node, ast.Name) and id(node) not in functions]
    names += [
        node.args[0].value
        for node in ast.walk(tree)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "column"
        if node.args and isinstance(node.args[0], ast.Constant) and isinstance(node.args[0].value, str)
    ]
    return list(dict.fromkeys(names))
