"""Evaluate: an expression over the columns of a table, array by array."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable
from typing import Any

import numpy as np

from lomrix.core.arrays.exact import WHOLE_ARITHMETIC, either_undefined, negated, power
from lomrix.core.errors import UsageError
from lomrix.core.language.function import Parameter, literal
from lomrix.core.language.operands import (
    Mask,
    aligned,
    as_float,
    as_time,
    chosen,
    constant,
    first_reason,
    made,
    moved_date,
    text_ranks,
    time_between,
)
from lomrix.core.language.parse import called_function, column_named, parsed, pointed
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import text_codes
from lomrix.core.table.reasons import BLANK
from lomrix.core.table.table import Table

COMPARISONS: dict[type[ast.cmpop], Callable[[Any, Any], Any]] = {
    ast.Eq: operator.eq,
    ast.NotEq: operator.ne,
    ast.Lt: operator.lt,
    ast.LtE: operator.le,
    ast.Gt: operator.gt,
    ast.GtE: operator.ge,
}
ARITHMETIC: dict[type[ast.operator], Callable[[Any, Any], Any]] = {
    ast.Add: np.add,
    ast.Sub: np.subtract,
    ast.Mult: np.multiply,
    ast.Div: np.true_divide,
    ast.FloorDiv: np.floor_divide,
    ast.Mod: np.mod,
    ast.Pow: np.power,
}
DIVIDING = (ast.Div, ast.FloorDiv, ast.Mod)
TIMES = ("date", "datetime")


def evaluated(text: str, table: Table | Scope) -> Column:
    """The values of an expression over a table.

    Missing in, missing out: a cell with a missing operand is missing, with that operand's reason. A false
    operand decides an `and`, and a true one an `or`, whatever the other is. Whole numbers stay exact; what 64 bits do
    not hold, and what has no value, is missing, `undefined`.

    Parameters
    ----------
    text
        The expression.
    table
        Its columns are what the names mean; a Scope where cases and occasions count.

    Raises
    ------
    UsageError
        Where the expression does not fit the table.
    """
    text = text.strip()
    # What is beyond the numbers is told as undefined, and not by NumPy on the screen.
    with np.errstate(all="ignore"):
        column = Evaluation(table if isinstance(table, Scope) else Scope(table), text).of(parsed(text)).laid_out()
    return without_empty_texts(column)


def without_empty_texts(column: Column) -> Column:
    """A column whose empty texts are blank, as they would be once they were written and read."""
    if column.type != "string" or column.strings.strings.index("").as_py() < 0:
        return column
    column = column.encoded()
    return column.with_missing(column.values == column.strings.strings.index("").as_py(), BLANK)


def condition(text: str, table: Table | Scope) -> Column:
    """An expression that must be true or false.

    Raises
    ------
    UsageError
        Where it is something else.
    """
    column = evaluated(text, table)
    if column.is_without_values:
        column = column.fitting("boolean")
    if column.type != "boolean":
        raise UsageError(f"The condition is {column.type}, not true or false: {text}", todo="Compare it: age >= 16")
    return column


class Evaluation:
    """One expression being computed."""

    def __init__(self, scope: Scope, text: str) -> None:
        self.scope = scope
        self.table = scope.table
        self.text = text

    def of(self, node: ast.expr) -> Column:
        """The values of a part of the expression."""
        method = getattr(self, f"_{type(node).__name__.lower()}")
        column: Column = self._at(node, lambda: method(node))
        return column

    def _at(self, node: ast.AST, action: Callable[[], Any]) -> Any:
        """Do something on behalf of a part of the expression, to which an error then points."""
        try:
            return action()
        except UsageError as error:
            raise pointed(error, self.text, node) from error

    def _name(self, node: ast.Name) -> Column:
        if node.id not in self.table.columns:
            self._require_no_value(node.id)
        return self.table[node.id]

    def _require_no_value(self, name: str) -> None:
        """Stop where a name that is no column is a value of one, which wants quotation marks, or no name at all."""
        if name.casefold() in ("true", "false"):
            raise UsageError(f"There is no column {name}.", todo=f"Write {name.capitalize()}.")
        for column, cells in self.table.columns.items():
            labels = self.table.dictionary.labels_of(column)
            code = next((code for code, label in labels.items() if label == name), None)
            if cells.type == "string" and cells.strings.strings.index(name).as_py() >= 0:
                raise UsageError(f"There is no column {name}.", todo=f"The value of {column} is written '{name}'.")
            if code is not None:
                raise UsageError(f"There is no column {name}.", todo=f"It labels {code} of {column}: write {code}.")

    def _constant(self, node: ast.Constant) -> Column:
        assert isinstance(node.value, int | float | str)
        if isinstance(node.value, int) and abs(node.value) >= 2**63:
            raise UsageError("The number is too large: 64 bits do not hold it.", todo="Write it with a decimal point.")
        return constant(node.value, len(self.table))

    def _tuple(self, node: ast.Tuple | ast.List) -> Column:
        raise UsageError("A list stands alone here.", todo="Lists follow `in`: month in (0, 3).")

    _list = _tuple

    # ------------------------------------------------------------------- calls

    def _call(self, node: ast.Call) -> Column:
        named = column_named(node)
        if named is not None:
            return self.table[named]
        function = called_function(node)
        self.scope.require(function.needs, function.name)
        placed: list[Any] = [self.scope] if self._wants_scope(function.compute) else []
        by_name: dict[str, Any] = {}
        for parameter, value in function.paired(node):
            if parameter.named:
                by_name[parameter.name + "_" * (parameter.name == "with")] = self._operand(parameter, value)
            else:
                placed.append(self._operand(parameter, value))
        column: Column = function.compute(*placed, **by_name)
        return column

    @staticmethod
    def _wants_scope(compute: Callable[..., Any]) -> bool:
        return "scope" in compute.__annotations__

    def _operand(self, parameter: Parameter, node: ast.expr) -> Any:
        """What a function is given for one of its operands."""
        if parameter.is_operand:
            return self.of(node)
        if parameter.kind == "Choice":
            return self._at(node, lambda: self.scope.columns(str(literal(node))))
        if parameter.kind == "Keys":
            parts = node.elts if isinstance(node, ast.Tuple | ast.List) else [node]
            return tuple(self.of(part) for part in parts)
        return literal(node)

    # -------------------------------------------------------------- arithmetic

    def _number(self, node: ast.expr, column: Column, doing: str) -> Any:
        """The values of an operand as numbers; an error points at it."""
        return self._at(node, lambda: as_float(column, doing))

    def _unaryop(self, node: ast.UnaryOp) -> Column:
        column = self.of(node.operand)
        if isinstance(node.op, ast.Not):
            return made("boolean", ~self._truth(column).values, [column])
        values = self._number(node.operand, column, "A sign")
        if isinstance(node.op, ast.UAdd):
            return column
        if column.type == "integer":
            whole, beyond = negated(column.values)
            return made("integer", whole, [column], beyond)
        return made("number", -values, [column])

    def _binop(self, node: ast.BinOp) -> Column:
        first, second = self.of(node.left), self.of(node.right)
        if {first.type, second.type} & set(TIMES) and isinstance(node.op, ast.Add | ast.Sub):
            return self._of_times(node.op, first, second)
        if first.type == second.type == "string" and isinstance(node.op, ast.Add):
            raise UsageError("Texts are not added.", todo='Put them together with joined(a, b, with="-").')
        if first.type == second.type == "integer":
            whole = self._of_whole(type(node.op).__name__, first, second)
            if whole is not None:
                return whole
        one = self._number(node.left, first, "Arithmetic")
        two = self._number(node.right, second, "Arithmetic")
        zero = two == 0 if isinstance(node.op, DIVIDING) else None
        with np.errstate(all="ignore"):
            values = ARITHMETIC[type(node.op)](one, two if zero is None else np.where(zero, 1, two))
        return made("number", values, [first, second], either_undefined(zero, ~np.isfinite(values)))

    @staticmethod
    def _of_whole(word: str, first: Column, second: Column) -> Column | None:
        """Whole numbers of whole numbers; None where that cannot be."""
        if word in WHOLE_ARITHMETIC:
            values, beyond = WHOLE_ARITHMETIC[word](first.values, second.values)
        elif word == "Pow" and (second.values >= 0).all():
            values, beyond = power(first.values, second.values)
        else:
            return None
        return made("integer", values, [first, second], beyond)

    @staticmethod
    def _of_times(op: ast.operator, first: Column, second: Column) -> Column:
        """A date and a number of days, or the time between two dates."""
        if isinstance(op, ast.Sub) and all(one.type in (*TIMES, "string") for one in (first, second)):
            end, start = as_time(first, "Subtraction"), as_time(second, "Subtraction")
            return time_between(start, end, [end, start])
        time, days = (first, second) if first.type in TIMES else (second, first)
        if days.type != "integer" or (isinstance(op, ast.Sub) and time is second):
            what = "Dates are subtracted from dates, and whole days added to or taken from a date."
            raise UsageError(what, todo="Write left - joined for the days between, or joined + 30.")
        return moved_date(time, days, -1 if isinstance(op, ast.Sub) else 1)

    # -------------------------------------------------------------- conditions

    @staticmethod
    def _truth(column: Column) -> Column:
        column = column.fitting("boolean")
        if column.type != "boolean":
            raise UsageError(
                f"`and`, `or` and `not` need conditions, but an operand is {column.type}.", todo="Compare it: age >= 16"
            )
        return column

    def _condition(self, node: ast.expr) -> Column:
        column = self.of(node)
        truth: Column = self._at(node, lambda: self._truth(column))
        return truth

    def _boolop(self, node: ast.BoolOp) -> Column:
        return join_truths([self._condition(value) for value in node.values], isinstance(node.op, ast.Or))

    def _compare(self, node: ast.Compare) -> Column:
        parts, left = [], node.left
        for op, right in zip(node.ops, node.comparators, strict=True):
            if isinstance(op, ast.In | ast.NotIn):
                parts.append(self._membership(left, right, isinstance(op, ast.NotIn)))
            else:
                parts.append(self._comparison(left, right, COMPARISONS[type(op)]))
            left = right
        return join_truths(parts, False)

    def _comparison(self, left: ast.expr, right: ast.expr, compare: Callable[[Any, Any], Any]) -> Column:
        one, two = self.of(left), self.of(right)
        for side, other, column in ((left, right, one), (right, left, two)):
            self._require_no_label(side, other, column)
        compared: Column = self._at(right, lambda: compared_columns(one, two, compare))
        return compared

    def _require_no_label(self, side: ast.expr, other: ast.expr, column: Column) -> None:
        """Stop where a column of codes is compared with the label of one."""
        if isinstance(side, ast.Name) and isinstance(other, ast.Constant) and column.type != "string":
            labels = self.table.dictionary.labels_of(side.id)
            code = next((code for code, label in labels.items() if label == other.value), None)
            if code is not None:
                told = UsageError(f"{side.id} holds codes, not their labels.", todo=f"Write {code} for {labels[code]}.")
                raise pointed(told, self.text, other)

    def _membership(self, left: ast.expr, right: ast.expr, negated: bool) -> Column:
        if not isinstance(right, ast.Tuple | ast.List) or not right.elts:
            raise UsageError("`in` needs a list of values.", todo="Write month in (0, 3, 6, 12).")
        column = self.of(left)
        found = join_truths([compared_columns(column, self.of(value), operator.eq) for value in right.elts], True)
        return made("boolean", found.values != negated, [found])

    def _ifexp(self, node: ast.IfExp) -> Column:
        return chosen(self._condition(node.test), self.of(node.body), self.of(node.orelse))


def join_truths(parts: list[Column], decisive: bool) -> Column:
    """Conditions joined by `or` (true decides, whatever the others are) or by `and` (false decides).

    References
    ----------
    S. C. Kleene, "Introduction to Metamathematics" (North-Holland, 1952), section 64: strong tables of three values.
    """
    if len(parts) == 1:
        return parts[0]
    decided: Mask = np.zeros(len(parts[0]), np.bool_)
    for part in parts:
        decided |= ~part.is_missing & (part.values == decisive)
    why, reasons = first_reason(parts)
    if why is not None:
        why = np.where(decided, np.uint8(0), why)
    return Column.of("boolean", np.where(decided, decisive, not decisive), why, reasons)


def compared_columns(first: Column, second: Column, compare: Callable[[Any, Any], Any]) -> Column:
    """Whether two operands stand to each other as asked."""
    if {first.type, second.type} == {"integer", "number"}:
        signs = signs_of_difference(first, second)
        return made("boolean", compare(signs, 0), [first, second])
    first, second = aligned(first, second)
    if first.type != "string":
        one, two = first.values, second.values
    elif compare in (operator.eq, operator.ne):
        one, two = text_codes(first, second)
    else:
        one, two = text_ranks(first, second)
    return made("boolean", compare(one, two), [first, second])


def signs_of_difference(first: Column, second: Column) -> Any:
    """Where a whole number and a decimal, or the other way about, are below, equal or above; exact for all digits."""
    if first.type == "number":
        return -signs_of_difference(second, first)
    decimal = np.nan_to_num(second.values)
    below, above = decimal < -(2.0**63), decimal >= 2.0**63
    floor = np.where(below | above, 0, np.floor(decimal)).astype(np.int64)
    signs = (first.values > floor).astype(np.int8) - (first.values < floor)
    signs = np.where((signs == 0) & (decimal > np.floor(decimal)), -1, signs)
    return np.where(below, 1, np.where(above, -1, signs))
