"""Functions: how one is declared, what its operands may be, and how a call is checked before any data are seen."""

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
CHOICE, KEYS, SCOPE = "Choice", "Keys", "Scope"
WORDS = {"int": "a whole number", "float": "a number", "str": "a text in quotation marks", CHOICE: "columns as a text"}


@dataclass(frozen=True)
class Parameter:
    """One operand of a function.

    Parameters
    ----------
    name
        As it is written in a call, for those that are named.
    kind
        `Column` for anything computed; `int`, `float` or `str` for what is written out; `Choice` for a choice of
        columns as a text; `Keys` for one or several columns that make groups.
    named
        Whether it is given by its name, as in `by=vessel`.
    needed, many
        Whether it must be given, and whether it takes all that follow.
    """

    name: str
    kind: str
    named: bool
    needed: bool
    many: bool

    @property
    def is_operand(self) -> bool:
        """True where it is computed from the table."""
        return self.kind in OPERANDS


@dataclass(frozen=True)
class Function:
    """One function of the language.

    Parameters
    ----------
    name, group
        Its name, and the kind of work it belongs to.
    usage, gives
        How it is written, and what it gives, from the first line of its docstring.
    examples
        Its examples: an expression, and what it is.
    compute
        Does it.
    parameters
        Its operands.
    needs
        What it needs to know beside its operands: `case`, `occasion`.
    by_row
        Whether each row's result depends on that row alone.
    keeps
        Whether its result is a value of its first operand, so that labels and unit follow.
    """

    name: str
    group: str
    usage: str
    gives: str
    examples: tuple[str, ...]
    compute: Callable[..., Any]
    parameters: tuple[Parameter, ...]
    needs: tuple[str, ...]
    by_row: bool
    keeps: bool

    def paired(self, call: ast.Call) -> list[tuple[Parameter, ast.expr]]:
        """The operands of a call, each with the parameter it is for.

        Raises
        ------
        UsageError
            Where they are too few or too many, or one has a name that there is not.
        """
        by_place = [one for one in self.parameters if not one.named]
        by_name = {one.name: one for one in self.parameters if one.named}
        pairs: list[tuple[Parameter, ast.expr]] = []
        for at, node in enumerate(call.args):
            if at >= len(by_place) and not (by_place and by_place[-1].many):
                raise UsageError(f"{self.name}() takes fewer operands.", todo=f"Write {self.usage}.")
            pairs.append((by_place[min(at, len(by_place) - 1)], node))
        for keyword in call.keywords:
            if keyword.arg not in by_name:
                known = f"; it knows {', '.join(by_name)}" if by_name else ""
                raise UsageError(f"{self.name}() has no {keyword.arg}={known}.", todo=f"Write {self.usage}.")
            pairs.append((by_name[str(keyword.arg)], keyword.value))
        given = [parameter.name for parameter, _ in pairs]
        wanting = [one for one in self.parameters if one.needed and one.name not in given]
        if wanting or len({*given}) < len([name for name in given if not self._is_many(name)]):
            raise UsageError(f"{self.name}() takes other operands.", todo=f"Write {self.usage}.")
        for parameter, node in pairs:
            self._require_kind(parameter, node)
        return pairs

    def _is_many(self, name: str) -> bool:
        return any(one.many for one in self.parameters if one.name == name)

    def _require_kind(self, parameter: Parameter, node: ast.expr) -> None:
        """Stop where what has to be written out is computed, or is of another kind."""
        if parameter.is_operand or parameter.kind in (KEYS, SCOPE):
            return
        kinds = LITERALS.get(parameter.kind, (str,))
        value = literal(node)
        if not isinstance(value, kinds) or isinstance(value, bool):
            word = WORDS[parameter.kind.removesuffix(" | None")]
            raise UsageError(f"{self.name}() needs {word} for {parameter.name}.", todo=f"Write {self.usage}.")


def literal(node: ast.expr) -> Any:
    """The value that is written out; None where it is none."""
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        value = literal(node.operand)
        return -value if isinstance(value, int | float) else None
    return node.value if isinstance(node, ast.Constant) else None


REGISTERED: dict[str, Function] = {}


def function(
    group: str, *, needs: tuple[str, ...] = (), by_row: bool = True, keeps: bool = False
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Declare a function of the language.

    Its name, its operands and what is shown of it are those of the Python function below: the first line of the
    docstring is `usage: what it gives`, and the lines under `Examples` are shown and tested.

    Parameters
    ----------
    group, needs, by_row, keeps
        As `Function` explains them.
    """

    def declare(compute: Callable[..., Any]) -> Callable[..., Any]:
        name = compute.__name__.rstrip("_")
        text = inspect.getdoc(compute) or ""
        usage, _, gives = text.split("\n\n", 1)[0].replace("\n", " ").partition(": ")
        _, _, after = text.partition("Examples\n--------\n")
        examples = tuple(line.strip() for line in after.split("\n\n", 1)[0].splitlines() if line.strip())
        parameters = tuple(
            parameter_of(one) for one in inspect.signature(compute).parameters.values() if one.annotation != SCOPE
        )
        REGISTERED[name] = Function(
            name, group, usage, gives, examples, compute, parameters, needs, by_row and not needs, keeps
        )
        return compute

    return declare


def parameter_of(declared: inspect.Parameter) -> Parameter:
    """An operand from how Python declares it."""
    many = declared.kind is inspect.Parameter.VAR_POSITIONAL
    return Parameter(
        declared.name.rstrip("_"),
        declared.annotation if isinstance(declared.annotation, str) else declared.annotation.__name__,
        declared.kind is inspect.Parameter.KEYWORD_ONLY,
        declared.default is inspect.Parameter.empty and not many,
        many,
    )
