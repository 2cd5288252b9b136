"""Parse text into a checked tree, with the position of whatever is wrong."""

from __future__ import annotations

import ast
import importlib
import re
from collections.abc import Collection, Iterable, Iterator

from lomrix.core.errors import UsageError
from lomrix.core.language.function import REGISTERED, Function
from lomrix.core.nearest import advise

ALLOWED = (
    ast.Expression, ast.BoolOp, ast.And, ast.Or, ast.UnaryOp, ast.Not, ast.USub, ast.UAdd, ast.BinOp, ast.Add,
    ast.Sub, ast.Mult, ast.Div, ast.FloorDiv, ast.Mod, ast.Pow, ast.Compare, ast.Eq, ast.NotEq, ast.Lt, ast.LtE,
    ast.Gt, ast.GtE, ast.In, ast.NotIn, ast.IfExp, ast.Call, ast.Name, ast.Load, ast.Constant, ast.Tuple, ast.List,
    ast.keyword,
)  # fmt: skip
HELP = "An expression looks like \"age >= 16 and watch in ('day', 'night')\"; == compares."
LONGEST = 20_000
DEEPEST = 100
# An operand may be named `with`, a Python keyword: a word of the same length replaces it while parsing.
WITH = re.compile(r"""('(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*")|\bwith(?=\s*=(?!=))""")
WITH_SUBSTITUTE = "With"
# Characters shown before and after the position of an error.
SHOWN = 44

INSTEAD: dict[type[ast.AST], str] = {
    ast.Is: "Write is_missing(x), or x == y to compare.",
    ast.IsNot: "Write not is_missing(x), or x != y to compare.",
    ast.BitAnd: "Write `and` between conditions.",
    ast.BitOr: "Write `or` between conditions.",
    ast.Invert: "Write `not` before a condition.",
    ast.BitXor: "Write x ** 2 for a power.",
}


def load_functions() -> dict[str, Function]:
    """Return the functions of the language by name."""
    importlib.import_module("lomrix.core.language.functions")
    return REGISTERED


def parse(text: str) -> ast.expr:
    """Parse an expression, and check all that can be checked without data.

    Raises UsageError if it is not an expression, uses an unsupported construct, or calls a function wrongly.
    """
    if len(text) > LONGEST:
        raise UsageError("The expression is too long.", todo="Split it into several steps.")
    text = text.strip()
    try:
        tree = ast.parse(WITH.sub(lambda match: match[1] or WITH_SUBSTITUTE, text), mode="eval").body
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        # The parser raises this for deep nesting, not for lack of memory.
        raise syntax_error(text, error) from (None if isinstance(error, MemoryError) else error)
    if measure_depth(tree) > DEEPEST:
        raise UsageError(
            f"The expression has more than {DEEPEST} operations inside each other.", todo="Split it into several steps."
        )
    for node in ast.walk(tree):
        if isinstance(node, ast.keyword) and node.arg == WITH_SUBSTITUTE:
            node.arg = "with"
        if not is_supported(node):
            message = UsageError(
                "The expression uses a construct that is not supported.", todo=suggest_alternative(node)
            )
            raise add_pointer(message, text, find_positioned_parent(node, tree))
    for node in find_calls(tree):
        try:
            require_call(node)
        except UsageError as error:
            raise add_pointer(error, text, node) from error
    return tree


def suggest_alternative(node: ast.AST) -> str:
    """Suggest what to write instead of an unsupported part."""
    if isinstance(node, ast.Constant) and node.value is None:
        return INSTEAD[ast.Is]
    return INSTEAD.get(type(node), HELP)


def find_positioned_parent(node: ast.AST, tree: ast.expr) -> ast.AST:
    """Return the nearest part that has a position in the text."""
    if hasattr(node, "lineno"):
        return node
    return next((parent for parent in ast.walk(tree) if node in ast.iter_child_nodes(parent)), tree)


def is_supported(node: ast.AST) -> bool:
    """Return whether the language has such a part."""
    if isinstance(node, ast.Constant):
        return isinstance(node.value, int | float | str)
    if isinstance(node, ast.Call):
        return isinstance(node.func, ast.Name) and all(keyword.arg for keyword in node.keywords)
    return isinstance(node, ALLOWED)


def syntax_error(text: str, error: Exception) -> UsageError:
    """Make the error for invalid text, with its position."""
    offset = error.offset if isinstance(error, SyntaxError) else None
    detail = "it ends too early" if isinstance(error, SyntaxError) and not offset else str(error)
    reason = error.msg if isinstance(error, SyntaxError) and offset else detail
    result = UsageError(f"The expression cannot be understood: {reason}.", todo=HELP)
    result.where, result.pointer = shorten_around(text, min(offset - 1 if offset else len(text), len(text)))
    return result


def shorten_around(text: str, index: int) -> tuple[str, int]:
    """Return the text around a position, and the position in it."""
    start, stop = max(index - SHOWN, 0), min(index + SHOWN, len(text))
    before, after = "…" if start else "", "…" if stop < len(text) else ""
    return before + text[start:stop].replace("\n", " ") + after, index - start + len(before)


def add_pointer(error: UsageError, text: str, node: ast.AST) -> UsageError:
    """Add the position in the expression to an error that has none."""
    if error.pointer is None and not error.where and hasattr(node, "col_offset"):
        line = text.encode().split(b"\n")[: node.lineno]  # type: ignore[attr-defined]
        index = len(b"\n".join(line[:-1]).decode()) + (len(line) > 1)
        index += len(line[-1][: node.col_offset].decode(errors="ignore"))
        error.where, error.pointer = shorten_around(text.strip(), index)
    return error


def find_calls(tree: ast.expr) -> Iterator[ast.Call]:
    """Yield the function calls of an expression, except `column('name')`, which is a column."""
    return (node for node in ast.walk(tree) if isinstance(node, ast.Call) and get_column_name(node) is None)


def require_call(node: ast.Call) -> None:
    """Stop if a function is unknown or called wrongly.

    Raises UsageError with the nearest name, or the function's usage.
    """
    assert isinstance(node.func, ast.Name)
    name, functions = node.func.id, load_functions()
    if name == "column":
        raise UsageError("column() needs a name in quotation marks.", todo="column('name with spaces')")
    if name not in functions:
        todo = advise(name, functions, "See ‹functions›.", "()")
        raise UsageError(f"Unknown function {name}().", todo=todo)
    functions[name].pair_operands(node)


def get_column_name(node: ast.expr) -> str | None:
    """Return the column that `column('name')` names; None for anything else."""
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "column":
        argument = node.args[0] if len(node.args) == 1 and not node.keywords else None
        if isinstance(argument, ast.Constant) and isinstance(argument.value, str):
            return argument.value
    return None


def measure_depth(tree: ast.expr) -> int:
    """Return the depth of nesting."""
    deepest, stack = 0, [(tree, 1)]
    while stack:
        node, depth = stack.pop()
        deepest = max(deepest, depth)
        stack += [(child, depth + 1) for child in ast.iter_child_nodes(node) if isinstance(child, ast.expr)]
    return deepest


def find_names(tree: ast.expr) -> list[str]:
    """Return the columns that an expression names, each once; functions and choices of columns are not included."""
    called = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
    names = [node.id for node in ast.walk(tree) if isinstance(node, ast.Name) and id(node) not in called]
    column_calls = (get_column_name(node) for node in ast.walk(tree) if isinstance(node, ast.Call))
    return list(dict.fromkeys([*names, *(name for name in column_calls if name is not None)]))


def find_choices(tree: ast.expr) -> list[str]:
    """Return the choices of columns in an expression, such as "f1..f6" in `mean_of("f1..f6")`."""
    return [
        str(node.value)
        for call in find_calls(tree)
        for parameter, node in get_function(call).pair_operands(call)
        if parameter.kind == "Choice" and isinstance(node, ast.Constant)
    ]


def get_function(call: ast.Call) -> Function:
    """Return the function of a checked call."""
    assert isinstance(call.func, ast.Name)
    return load_functions()[call.func.id]


def find_needs(trees: Iterable[ast.expr]) -> set[str]:
    """Return what the functions of expressions need beside their operands: `case`, `occasion`."""
    return {need for tree in trees for call in find_calls(tree) for need in get_function(call).needs}


def is_by_row(tree: ast.expr) -> bool:
    """Return whether each row's value depends on that row alone."""
    return all(get_function(call).by_row for call in find_calls(tree))


def is_by_case(tree: ast.expr, new: Collection[str] = ()) -> bool:
    """Return whether each row's value depends on rows of its case alone, and statistics are of columns that are there
    already: not of `new` ones, and not of what is computed in between.
    """
    for call in find_calls(tree):
        function = get_function(call)
        if not (function.by_row or function.needs):
            return False
        operand = call.args[0] if call.args else None
        is_known = isinstance(operand, ast.Name) and operand.id not in new
        if function.name.startswith("case_") and not is_known:
            return False
    return True
