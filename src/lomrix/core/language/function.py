"""Functions of the expression language: declaration, operands, and checks before any data are read."""

from __future__ import annotations

import ast
import inspect
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from lomrix.core.errors import UsageError

OPERANDS = ("Column", "Column | None")
LITERALS: dict[str, tuple[type, ...]] = {
    "int": (int,),
    "float": (int, float),
    "float | None": (int, float),
    "int | None": (int,),
    "str": (str,),
}
CHOICE, KEYS, LABELS, SCOPE = "Choice", "Keys", "Labels", "Scope"
WORDS = {"int": "a whole number", "float": "a number", "str": "a text in quotation marks", CHOICE: "columns as a text",
         LABELS: "texts in parentheses"}  # fmt: skip


@dataclass(frozen=True)
class Parameter:
    """One operand of a function.

    `kind` is `Column` for anything computed; `int`, `float` or `str` for a literal; `Choice` for a choice of columns as
    text; `Keys` for columns that make groups; `Labels` for several texts. `named` operands are given by name, as in
    `by=vessel`; `many` takes all that follow.
    """

    name: str
    kind: str
    named: bool
    needed: bool
    many: bool

    @property
    def is_operand(self) -> bool:
        """True if it is computed from the table."""
        return self.kind in OPERANDS


@dataclass(frozen=True)
class Function:
    """One function of the language."""

    name: str  # its name, and the kind of work it belongs to
    group: str
    usage: str  # how it is written, and what it gives, from the first line of its docstring
    description: str
    examples: tuple[str, ...]  # its examples: an expression, and what it is
    compute: Callable[..., Any]  # does it
    parameters: tuple[Parameter, ...]  # its operands
    needs: tuple[str, ...]  # what it needs to know beside its operands: `case`, `occasion`
    by_row: bool  # whether each row's result depends on that row alone
    keeps: bool  # whether its result is a value of its first operand, so that labels and unit follow

    def pair_operands(self, call: ast.Call) -> list[tuple[Parameter, ast.expr]]:
        """Return the operands of a call, each with its parameter.

        Raises UsageError if there are too few or too many, or one has an unknown name.
        """
        positional = [parameter for parameter in self.parameters if not parameter.named]
        keywords = {parameter.name: parameter for parameter in self.parameters if parameter.named}
        pairs: list[tuple[Parameter, ast.expr]] = []
        for index, node in enumerate(call.args):
            if index >= len(positional) and not (positional and positional[-1].many):
                raise UsageError(f"{self.name}() has too many operands.", todo=f"Write {self.usage}.")
            pairs.append((positional[min(index, len(positional) - 1)], node))
        for keyword in call.keywords:
            if keyword.arg not in keywords:
                choices = f"; it has {', '.join(keywords)}" if keywords else ""
                raise UsageError(f"{self.name}() has no operand {keyword.arg}={choices}.", todo=f"Write {self.usage}.")
            pairs.append((keywords[str(keyword.arg)], keyword.value))
        given = [parameter.name for parameter, _ in pairs]
        missing = [parameter for parameter in self.parameters if parameter.needed and parameter.name not in given]
        if missing or len({*given}) < len([name for name in given if not self._is_many(name)]):
            raise UsageError(f"{self.name}() is called with the wrong operands.", todo=f"Write {self.usage}.")
        for parameter, node in pairs:
            self._require_kind(parameter, node)
        return pairs

    def _is_many(self, name: str) -> bool:
        return any(parameter.many for parameter in self.parameters if parameter.name == name)

    def _require_kind(self, parameter: Parameter, node: ast.expr) -> None:
        """Stop if an operand that must be a literal is computed, or of another kind."""
        if parameter.is_operand or parameter.kind in (KEYS, SCOPE):
            return
        kinds = LITERALS.get(parameter.kind, (str,))
        value = literal_value(node)
        values = value if parameter.kind == LABELS and isinstance(value, tuple) else (value,)
        if not all(isinstance(part, kinds) and not isinstance(part, bool) for part in values):
            word = WORDS[parameter.kind.removesuffix(" | None")]
            raise UsageError(f"{self.name}() needs {word} for {parameter.name}.", todo=f"Write {self.usage}.")


def literal_value(node: ast.expr) -> Any:
    """Return the value of a literal; None for anything else."""
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        value = literal_value(node.operand)
        return -value if isinstance(value, int | float) else None
    if isinstance(node, ast.Tuple | ast.List):
        return tuple(map(literal_value, node.elts))
    return node.value if isinstance(node, ast.Constant) else None


REGISTERED: dict[str, Function] = {}


def function(
    group: str, *, needs: tuple[str, ...] = (), by_row: bool = True, keeps: bool = False
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Declare a function of the language.

    Its name, operands and help are those of the Python function: the first line of the docstring is `usage:
    description`, and the lines under `Examples` are shown and tested.

    Parameters
    ----------
    group, needs, by_row, keeps
        As `Function` explains them.
    """

    def declare(compute: Callable[..., Any]) -> Callable[..., Any]:
        name = compute.__name__.rstrip("_")
        text = inspect.getdoc(compute) or ""
        usage, _, description = text.split("\n\n", 1)[0].replace("\n", " ").partition(": ")
        _, _, after = text.partition("Examples\n--------\n")
        examples = tuple(line.strip() for line in after.split("\n\n", 1)[0].splitlines() if line.strip())
        parameters = tuple(
            make_parameter(parameter)
            for parameter in inspect.signature(compute).parameters.values()
            if parameter.annotation != SCOPE
        )
        REGISTERED[name] = Function(
            name, group, usage, description, examples, compute, parameters, needs, by_row and not needs, keeps
        )
        return compute

    return declare


def make_parameter(declared: inspect.Parameter) -> Parameter:
    """Make a parameter from its Python declaration."""
    many = declared.kind is inspect.Parameter.VAR_POSITIONAL
    return Parameter(
        declared.name.rstrip("_"),
        declared.annotation if isinstance(declared.annotation, str) else declared.annotation.__name__,
        declared.kind is inspect.Parameter.KEYWORD_ONLY,
        declared.default is inspect.Parameter.empty and not many,
        many,
    )
