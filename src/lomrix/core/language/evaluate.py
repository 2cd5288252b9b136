"""Evaluate: an expression over the columns of a table, array by array."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable
from typing import Any

import numpy as np

from lomrix.core.errors import UsageError
from lomrix.core.language.functions import FUNCTIONS
from lomrix.core.language.operands import (
    aligned,
    as_float,
    chosen,
    constant,
    first_reason,
    made,
    text_ranks,
)
from lomrix.core.language.parse import parsed
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import text_codes
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
WHOLE = (ast.Add, ast.Sub, ast.Mult, ast.FloorDiv, ast.Mod)


def evaluated(text: str, table: Table) -> Column:
    """The values of an expression over a table.

    Missing in, missing out: a cell with a missing operand is missing, with that operand's reason. A false
    operand decides an `and`, and a true one an `or`, whatever the other is.

    Parameters
    ----------
    text
        The expression.
    table
        Its columns are what the names mean.

    Raises
    ------
    UsageError
        Where the expression does not fit the table.
    """
    return Evaluation(table).of(parsed(text))


def condition(text: str, table: Table) -> Column:
    """An expression that must be true or false.

    Raises
    ------
    UsageError
        Where it is something else.
    """
    column = evaluated(text, table)
    if column.type != "boolean":
        raise UsageError(f"The condition is {column.type}, not true or false: {text}", todo="Compare it: age >= 16")
    return column


class Evaluation:
    """One expression being computed."""

    def __init__(self, table: Table) -> None:
        self.table = table

    def of(self, node: ast.expr) -> Column:
        """The values of a part of the expression."""
        method = getattr(self, f"_{type(node).__name__.lower()}")
        column: Column = method(node)
        return column

    def _name(self, node: ast.Name) -> Column:
        if node.id not in self.table.columns:
            self._require_no_value(node.id)
        return self.table[node.id]

    def _require_no_value(self, name: str) -> None:
        """Stop where a name that is no column is a value of one, which wants quotation marks."""
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
            raise UsageError(f"The number {node.value} is too large.")
        return constant(node.value, len(self.table))

    def _tuple(self, node: ast.Tuple | ast.List) -> Column:
        raise UsageError(f"A list stands alone: {ast.unparse(node)}", todo="Lists follow `in`: month in (0, 3).")

    _list = _tuple

    def _call(self, node: ast.Call) -> Column:
        assert isinstance(node.func, ast.Name)
        name = node.func.id
        if name == "column":
            word = node.args[0] if len(node.args) == 1 else None
            if not isinstance(word, ast.Constant) or not isinstance(word.value, str):
                raise UsageError("column() needs a name in quotation marks.", todo="column('name with blanks')")
            return self.table[word.value]
        if name == "row_number":
            return Column.of("integer", np.arange(1, len(self.table) + 1))
        function = FUNCTIONS.get(name)
        if function is None:
            raise UsageError(f"There is no function {name}().", todo=f"Functions are {', '.join(FUNCTIONS)}.")
        if not function.least <= len(node.args) <= function.most:
            raise UsageError(f"{name}() takes other operands.", todo=f"Write {function.usage}.")
        return function.compute(*(self.of(argument) for argument in node.args))

    # -------------------------------------------------------------- arithmetic

    def _unaryop(self, node: ast.UnaryOp) -> Column:
        column = self.of(node.operand)
        if isinstance(node.op, ast.Not):
            return made("boolean", ~self._truth(column).values, [column])
        values = as_float(column, "A sign")
        if isinstance(node.op, ast.UAdd):
            return column
        return made(column.type, -column.values if column.type == "integer" else -values, [column])

    def _binop(self, node: ast.BinOp) -> Column:
        first, second = self.of(node.left), self.of(node.right)
        if "date" in (first.type, second.type) and isinstance(node.op, ast.Add | ast.Sub):
            return self._date_arithmetic(node.op, first, second)
        kind = type(node.op)
        zero = np.zeros(len(first), np.bool_)
        if kind in (ast.Div, ast.FloorDiv, ast.Mod):
            zero = as_float(second, "Division") == 0
        whole = first.type == second.type == "integer" and kind in WHOLE
        one, two = (
            (first.values, second.values) if whole else (as_float(first, "Arithmetic"), as_float(second, "Arithmetic"))
        )
        with np.errstate(all="ignore"):
            values = ARITHMETIC[kind](one, np.where(zero, 1, two))
            if whole and self._overflows(kind, one, two):
                whole, values = False, ARITHMETIC[kind](one.astype(np.float64), np.where(zero, 1, two))
        if whole:
            return made("integer", values, [first, second], zero)
        return made("number", values, [first, second], zero | ~np.isfinite(values))

    @staticmethod
    def _overflows(kind: type[ast.operator], one: Any, two: Any) -> bool:
        if not len(one):
            return False
        largest = [float(np.abs(array.astype(np.float64)).max()) for array in (one, two)]
        reach = largest[0] * largest[1] if kind is ast.Mult else largest[0] + largest[1]
        return reach >= 2**62

    @staticmethod
    def _date_arithmetic(op: ast.operator, first: Column, second: Column) -> Column:
        """A date and a number of days, or the days between two dates."""
        if first.type == second.type == "date" and isinstance(op, ast.Sub):
            days = (first.values - second.values).astype(np.int64)
            gone = first.is_missing | second.is_missing
            return made("integer", np.where(gone, 0, days), [first, second])
        date, days_column = (first, second) if first.type == "date" else (second, first)
        if days_column.type != "integer" or (isinstance(op, ast.Sub) and date is second):
            raise UsageError("Dates are subtracted from dates, and whole days added to or taken from a date.")
        step = days_column.values.astype("timedelta64[D]")
        return made("date", date.values + step if isinstance(op, ast.Add) else date.values - step, [first, second])

    # -------------------------------------------------------------- conditions

    @staticmethod
    def _truth(column: Column) -> Column:
        column = column.fitting("boolean")
        if column.type != "boolean":
            raise UsageError(f"`and`, `or` and `not` need conditions, but an operand is {column.type}.")
        return column

    def _boolop(self, node: ast.BoolOp) -> Column:
        parts = [self._truth(self.of(value)) for value in node.values]
        decisive = isinstance(node.op, ast.Or)
        decided = np.zeros(len(self.table), np.bool_)
        for part in parts:
            decided |= ~part.is_missing & (part.values == decisive)
        why, reasons = first_reason(parts)
        if why is not None:
            why = np.where(decided, np.uint8(0), why)
        return Column.of("boolean", np.where(decided, decisive, not decisive), why, reasons)

    def _compare(self, node: ast.Compare) -> Column:
        parts, left = [], node.left
        for op, right in zip(node.ops, node.comparators, strict=True):
            if isinstance(op, ast.In | ast.NotIn):
                parts.append(self._membership(left, right, isinstance(op, ast.NotIn)))
            else:
                parts.append(self._comparison(self.of(left), self.of(right), COMPARISONS[type(op)]))
            left = right
        if len(parts) == 1:
            return parts[0]
        return made("boolean", np.logical_and.reduce([part.values for part in parts]), parts)

    @staticmethod
    def _comparison(first: Column, second: Column, compare: Callable[[Any, Any], Any]) -> Column:
        first, second = aligned(first, second)
        if first.type != "string":
            one, two = first.values, second.values
        elif compare in (operator.eq, operator.ne):
            one, two = text_codes(first, second)
        else:
            one, two = text_ranks(first, second)
        return made("boolean", compare(one, two), [first, second])

    def _membership(self, left: ast.expr, right: ast.expr, negated: bool) -> Column:
        if not isinstance(right, ast.Tuple | ast.List):
            raise UsageError("`in` needs a list of values.", todo="Write month in (0, 3, 6, 12).")
        column = self.of(left)
        found = np.zeros(len(self.table), np.bool_)
        for value in right.elts:
            found |= self._comparison(column, self.of(value), operator.eq).values
        return made("boolean", found != negated, [column])

    def _ifexp(self, node: ast.IfExp) -> Column:
        return chosen(self._truth(self.of(node.test)), self.of(node.body), self.of(node.orelse))
