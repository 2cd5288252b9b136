"""Parse: from text to a checked tree, with the place of whatever does not belong."""

from __future__ import annotations

import ast
import importlib
import re
from collections.abc import Iterator

from lomrix.core.errors import UsageError
from lomrix.core.language.function import REGISTERED, Function
from lomrix.core.nearest import advice

ALLOWED = (
    ast.Expression, ast.BoolOp, ast.And, ast.Or, ast.UnaryOp, ast.Not, ast.USub, ast.UAdd, ast.BinOp, ast.Add,
    ast.Sub, ast.Mult, ast.Div, ast.FloorDiv, ast.Mod, ast.Pow, ast.Compare, ast.Eq, ast.NotEq, ast.Lt, ast.LtE,
    ast.Gt, ast.GtE, ast.In, ast.NotIn, ast.IfExp, ast.Call, ast.Name, ast.Load, ast.Constant, ast.Tuple, ast.List,
    ast.keyword,
)  # fmt: skip
HELP = "An expression looks like \"age >= 16 and watch in ('day', 'night')\"; == compares."
LONGEST = 20_000
DEEPEST = 100
# An operand may be called `with`, which Python keeps for itself: a word of that length stands for it while parsing.
WITH = re.compile(r"""('(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*")|\bwith(?=\s*=(?!=))""")
STANDS_FOR_WITH = "With"
# So much of an expression is shown before and after the place that is meant.
SHOWN = 44

INSTEAD: dict[type[ast.AST], str] = {
    ast.Is: "Write is_missing(x), or x == y to compare.",
    ast.IsNot: "Write not is_missing(x), or x != y to compare.",
    ast.BitAnd: "Write `and` between conditions.",
    ast.BitOr: "Write `or` between conditions.",
    ast.Invert: "Write `not` before a condition.",
    ast.BitXor: "Write x ** 2 for a power.",
}


def functions() -> dict[str, Function]:
    """The functions of the language by name."""
    importlib.import_module("lomrix.core.language.functions")
    return REGISTERED


def parsed(text: str) -> ast.expr:
    """Parse an expression, and check all of it that can be checked without the data.

    Parameters
    ----------
    text
        The expression; names are columns.

    Raises
    ------
    UsageError
        Where it is no expression, uses what the language does not have, or calls a function as it cannot be called.
    """
    if len(text) > LONGEST:
        raise UsageError("The expression is too long.", todo="Cut it into several steps.")
    text = text.strip()
    try:
        tree = ast.parse(WITH.sub(lambda found: found[1] or STANDS_FOR_WITH, text), mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        # The parser says so of what is too deeply nested, and not of memory.
        raise not_understood(text, error) from (None if isinstance(error, MemoryError) else error)
    if depth_of(tree) > DEEPEST:
        raise UsageError(
            f"The expression has more than {DEEPEST} operations inside each other.", todo="Cut it into several steps."
        )
    for node in ast.walk(tree):
        if isinstance(node, ast.keyword) and node.arg == STANDS_FOR_WITH:
            node.arg = "with"
        if not belongs(node):
            told = UsageError("The expression uses what Lomrix does not have.", todo=instead_of(node))
            raise pointed(told, text, holder_of(node, tree))
    for node in calls_in(tree):
        try:
            require_call(node)
        except UsageError as error:
            raise pointed(error, text, node) from error
    return tree


def instead_of(node: ast.AST) -> str:
    """What to write in place of a part that the language does not have."""
    if isinstance(node, ast.Constant) and node.value is None:
        return INSTEAD[ast.Is]
    return INSTEAD.get(type(node), HELP)


def holder_of(node: ast.AST, tree: ast.expr) -> ast.AST:
    """The part of an expression that has a place in the text and holds a sign that has none."""
    if hasattr(node, "lineno"):
        return node
    return next((one for one in ast.walk(tree) if node in ast.iter_child_nodes(one)), tree)


def belongs(node: ast.AST) -> bool:
    """True where the language has such a part."""
    if isinstance(node, ast.Constant):
        return isinstance(node.value, int | float | str)
    if isinstance(node, ast.Call):
        return isinstance(node.func, ast.Name) and all(keyword.arg for keyword in node.keywords)
    return isinstance(node, ALLOWED)


def not_understood(text: str, error: Exception) -> UsageError:
    """The error for a text that is no expression, with the place where it ceases to be one."""
    place = error.offset if isinstance(error, SyntaxError) else None
    said = "it ends where more is wanted" if isinstance(error, SyntaxError) and not place else str(error)
    reason = error.msg if isinstance(error, SyntaxError) and place else said
    told = UsageError(f"The expression cannot be understood: {reason}.", todo=HELP)
    told.where, told.pointer = shown_at(text, min(place - 1 if place else len(text), len(text)))
    return told


def shown_at(text: str, place: int) -> tuple[str, int]:
    """As much of an expression as is shown, and where the place that is meant stands in it."""
    start, stop = max(place - SHOWN, 0), min(place + SHOWN, len(text))
    before, after = "…" if start else "", "…" if stop < len(text) else ""
    return before + text[start:stop].replace("\n", " ") + after, place - start + len(before)


def pointed(error: UsageError, text: str, node: ast.AST) -> UsageError:
    """An error with the place in the expression that it is about, unless it has one already."""
    if error.pointer is None and not error.where and hasattr(node, "col_offset"):
        line = text.encode().split(b"\n")[: node.lineno]  # type: ignore[attr-defined]
        place = len(b"\n".join(line[:-1]).decode()) + (len(line) > 1)
        place += len(line[-1][: node.col_offset].decode(errors="ignore"))
        error.where, error.pointer = shown_at(text.strip(), place)
    return error


def calls_in(tree: ast.expr) -> Iterator[ast.Call]:
    """The calls of functions in an expression, but for `column('name')`, which stands for a column."""
    return (node for node in ast.walk(tree) if isinstance(node, ast.Call) and column_named(node) is None)


def require_call(node: ast.Call) -> None:
    """Stop where a function is not known or not called as it can be.

    Raises
    ------
    UsageError
        With what is nearest, or how the function is written.
    """
    assert isinstance(node.func, ast.Name)
    name, known = node.func.id, functions()
    if name == "column":
        raise UsageError("column() needs a name in quotation marks.", todo="column('name with blanks')")
    if name not in known:
        todo = advice(name, known, "See ‹functions›.", "()")
        raise UsageError(f"There is no function {name}().", todo=todo)
    known[name].paired(node)


def column_named(node: ast.expr) -> str | None:
    """The column that `column('name')` stands for; None for anything else."""
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "column":
        word = node.args[0] if len(node.args) == 1 and not node.keywords else None
        if isinstance(word, ast.Constant) and isinstance(word.value, str):
            return word.value
    return None


def depth_of(tree: ast.expr) -> int:
    """How many parts of an expression stand inside each other at most."""
    deepest, left = 0, [(tree, 1)]
    while left:
        node, depth = left.pop()
        deepest = max(deepest, depth)
        left += [(child, depth + 1) for child in ast.iter_child_nodes(node) if isinstance(child, ast.expr)]
    return deepest


def names_used(tree: ast.expr) -> list[str]:
    """The columns that an expression speaks of, each once; functions and choices of columns are not among them."""
    called = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
    names = [node.id for node in ast.walk(tree) if isinstance(node, ast.Name) and id(node) not in called]
    named = (column_named(node) for node in ast.walk(tree) if isinstance(node, ast.Call))
    return list(dict.fromkeys([*names, *(name for name in named if name is not None)]))


def choices_used(tree: ast.expr) -> list[str]:
    """The choices of columns in an expression, such as "f1..f6" in `mean_of("f1..f6")`."""
    return [
        str(node.value)
        for call in calls_in(tree)
        for parameter, node in called_function(call).paired(call)
        if parameter.kind == "Choice" and isinstance(node, ast.Constant)
    ]


def called_function(call: ast.Call) -> Function:
    """The function of a call that was checked."""
    assert isinstance(call.func, ast.Name)
    return functions()[call.func.id]


def needs_of(tree: ast.expr) -> set[str]:
    """What an expression needs to know beside the columns that it names: `case`, `occasion`."""
    return {need for call in calls_in(tree) for need in called_function(call).needs}


def is_by_row(tree: ast.expr) -> bool:
    """True where each row's value depends on that row alone."""
    return all(called_function(call).by_row for call in calls_in(tree))
