"""Evaluate an expression over the columns of a table, array by array."""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable
from typing import Any

import numpy as np

from lomrix.core.arrays.exact import WHOLE_ARITHMETIC, any_mask, negate, power
from lomrix.core.errors import UsageError, naming_columns
from lomrix.core.language.function import Parameter, literal_value
from lomrix.core.language.operands import (
    Mask,
    add_days,
    align,
    choose_by_condition,
    make_constant,
    make_result,
    merge_reasons,
    rank_texts,
    subtract_times,
    to_floats,
    to_time,
)
from lomrix.core.language.parse import add_pointer, find_names, get_column_name, get_function, parse
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column
from lomrix.core.table.comparison import encode_texts
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


def evaluate(text: str, table: Table | Scope) -> Column:
    """Evaluate an expression over a table (or Scope, where cases and occasions matter).

    Missing in, missing out: a cell with a missing operand is missing, with that operand's reason. But a false operand
    decides an `and`, and a true one an `or`. Integers stay exact; overflow and undefined values are missing,
    `undefined`.

    Raises UsageError if the expression does not fit the table.
    """
    text = text.strip()
    tree, scope = parse(text), table if isinstance(table, Scope) else Scope(table)
    # Overflow is reported as undefined, not by NumPy on the screen.
    with np.errstate(all="ignore"), naming_columns(find_names(tree)):
        return blank_empty_texts(Evaluation(scope, text).evaluate(tree).materialize())


def blank_empty_texts(column: Column) -> Column:
    """Make empty texts blank, as they would be after writing and reading."""
    if column.type != "string" or column.strings.strings.index("").as_py() < 0:
        return column
    column = column.encode()
    return column.with_missing(column.values == column.strings.strings.index("").as_py(), BLANK)


def evaluate_condition(text: str, table: Table | Scope) -> Column:
    """Evaluate an expression that must be true or false.

    Raises UsageError if it is of another type.
    """
    column = evaluate(text, table)
    if column.is_without_values:
        column = column.fit_type("boolean")
    if column.type != "boolean":
        raise UsageError(f"The condition is {column.type}, not true or false: {text}", todo="Compare it: age >= 16")
    return column


class Evaluation:
    """One expression being computed."""

    def __init__(self, scope: Scope, text: str) -> None:
        self.scope = scope
        self.table = scope.table
        self.text = text

    def evaluate(self, node: ast.expr) -> Column:
        """Evaluate a part of the expression."""
        method = getattr(self, f"_{type(node).__name__.lower()}")
        column: Column = self._pointing_at(node, lambda: method(node))
        return column

    def _pointing_at(self, node: ast.AST, action: Callable[[], Any]) -> Any:
        """Do something for a part of the expression, at which an error then points."""
        try:
            return action()
        except UsageError as error:
            raise add_pointer(error, self.text, node) from error

    def _name(self, node: ast.Name) -> Column:
        if node.id not in self.table.columns:
            self._require_no_value(node.id)
        return self.table[node.id]

    def _require_no_value(self, name: str) -> None:
        """Stop with advice if an unknown name is a value of a column, which needs quotation marks."""
        if name.casefold() in ("true", "false"):
            raise UsageError(f"No column {name}.", todo=f"Write {name.capitalize()}.")
        for column, cells in self.table.columns.items():
            labels = self.table.dictionary.labels_of(column)
            code = next((code for code, label in labels.items() if label == name), None)
            if cells.type == "string" and cells.strings.strings.index(name).as_py() >= 0:
                raise UsageError(f"No column {name}.", todo=f"The value of {column} is written '{name}'.")
            if code is not None:
                raise UsageError(f"No column {name}.", todo=f"It labels {code} of {column}: write {code}.")

    def _constant(self, node: ast.Constant) -> Column:
        assert isinstance(node.value, int | float | str)
        if isinstance(node.value, int) and abs(node.value) >= 2**63:
            raise UsageError("The number is too large: 64 bits do not hold it.", todo="Write it with a decimal point.")
        return make_constant(node.value, len(self.table))

    def _tuple(self, node: ast.Tuple | ast.List) -> Column:
        raise UsageError("A list cannot be used here.", todo="A list follows `in`: month in (0, 3).")

    _list = _tuple

    # ------------------------------------------------------------------- calls

    def _call(self, node: ast.Call) -> Column:
        column_name = get_column_name(node)
        if column_name is not None:
            return self.table[column_name]
        function = get_function(node)
        self.scope.require(function.needs, function.name)
        positional: list[Any] = [self.scope] if self._wants_scope(function.compute) else []
        keywords: dict[str, Any] = {}
        for parameter, value in function.pair_operands(node):
            if parameter.named:
                keywords[parameter.name + "_" * (parameter.name == "with")] = self._evaluate_operand(parameter, value)
            else:
                positional.append(self._evaluate_operand(parameter, value))
        column: Column = function.compute(*positional, **keywords)
        return column

    @staticmethod
    def _wants_scope(compute: Callable[..., Any]) -> bool:
        return "scope" in compute.__annotations__

    def _evaluate_operand(self, parameter: Parameter, node: ast.expr) -> Any:
        """Evaluate an operand as its parameter requires."""
        if parameter.is_operand:
            return self.evaluate(node)
        if parameter.kind == "Choice":
            return self._pointing_at(node, lambda: self.scope.choose(str(literal_value(node))))
        if parameter.kind == "Keys":
            parts = node.elts if isinstance(node, ast.Tuple | ast.List) else [node]
            return tuple(self.evaluate(part) for part in parts)
        return literal_value(node)

    # -------------------------------------------------------------- arithmetic

    def _to_numbers(self, node: ast.expr, column: Column, doing: str) -> Any:
        """Return an operand's values as numbers; an error points at it."""
        return self._pointing_at(node, lambda: to_floats(column, doing))

    def _unaryop(self, node: ast.UnaryOp) -> Column:
        column = self.evaluate(node.operand)
        if isinstance(node.op, ast.Not):
            return make_result("boolean", ~self._to_truth(column).values, [column])
        values = self._to_numbers(node.operand, column, "A sign")
        if isinstance(node.op, ast.UAdd):
            return column
        if column.type == "integer":
            result, overflow = negate(column.values)
            return make_result("integer", result, [column], overflow)
        return make_result("number", -values, [column])

    def _binop(self, node: ast.BinOp) -> Column:
        first, second = self.evaluate(node.left), self.evaluate(node.right)
        if {first.type, second.type} & set(TIMES) and isinstance(node.op, ast.Add | ast.Sub):
            return self._compute_times(node.op, first, second)
        if first.type == second.type == "string" and isinstance(node.op, ast.Add):
            raise UsageError("Texts cannot be added.", todo='Use joined(a, b, with="-").')
        if first.type == second.type == "integer":
            result = self._compute_integers(type(node.op).__name__, first, second)
            if result is not None:
                return result
        left = self._to_numbers(node.left, first, "Arithmetic")
        right = self._to_numbers(node.right, second, "Arithmetic")
        zero = right == 0 if isinstance(node.op, DIVIDING) else None
        with np.errstate(all="ignore"):
            values = ARITHMETIC[type(node.op)](left, right if zero is None else np.where(zero, 1, right))
        return make_result("number", values, [first, second], any_mask(zero, ~np.isfinite(values)))

    @staticmethod
    def _compute_integers(operation: str, first: Column, second: Column) -> Column | None:
        """Compute integers from integers; None if the result is not an integer."""
        if operation in WHOLE_ARITHMETIC:
            values, overflow = WHOLE_ARITHMETIC[operation](first.values, second.values)
        elif operation == "Pow" and (second.values >= 0).all():
            values, overflow = power(first.values, second.values)
        else:
            return None
        return make_result("integer", values, [first, second], overflow)

    @staticmethod
    def _compute_times(op: ast.operator, first: Column, second: Column) -> Column:
        """Add days to a date, or subtract two dates."""
        if isinstance(op, ast.Sub) and all(column.type in (*TIMES, "string") for column in (first, second)):
            end, start = to_time(first, "Subtraction"), to_time(second, "Subtraction")
            return subtract_times(start, end, [end, start])
        time, days = (first, second) if first.type in TIMES else (second, first)
        if days.type != "integer" or (isinstance(op, ast.Sub) and time is second):
            message = "Dates can be subtracted from dates, and whole days added to or subtracted from a date."
            raise UsageError(message, todo="Write left - joined for the days between, or joined + 30.")
        return add_days(time, days, -1 if isinstance(op, ast.Sub) else 1)

    # -------------------------------------------------------------- conditions

    @staticmethod
    def _to_truth(column: Column) -> Column:
        column = column.fit_type("boolean")
        if column.type != "boolean":
            raise UsageError(
                f"`and`, `or` and `not` need conditions, but an operand is {column.type}.", todo="Compare it: age >= 16"
            )
        return column

    def _evaluate_condition(self, node: ast.expr) -> Column:
        column = self.evaluate(node)
        truth: Column = self._pointing_at(node, lambda: self._to_truth(column))
        return truth

    def _boolop(self, node: ast.BoolOp) -> Column:
        return join_truths([self._evaluate_condition(value) for value in node.values], isinstance(node.op, ast.Or))

    def _compare(self, node: ast.Compare) -> Column:
        parts, left = [], node.left
        for op, right in zip(node.ops, node.comparators, strict=True):
            if isinstance(op, ast.In | ast.NotIn):
                parts.append(self._compare_list(left, right, isinstance(op, ast.NotIn)))
            else:
                parts.append(self._compare_pair(left, right, COMPARISONS[type(op)]))
            left = right
        return join_truths(parts, False)

    def _compare_pair(self, left: ast.expr, right: ast.expr, compare: Callable[[Any, Any], Any]) -> Column:
        first, second = self.evaluate(left), self.evaluate(right)
        for side, other, column in ((left, right, first), (right, left, second)):
            self._require_no_label(side, other, column)
        compared: Column = self._pointing_at(right, lambda: compare_columns(first, second, compare))
        return compared

    def _require_no_label(self, side: ast.expr, other: ast.expr, column: Column) -> None:
        """Stop if a column of codes is compared with the label of a code."""
        if isinstance(side, ast.Name) and isinstance(other, ast.Constant) and column.type != "string":
            labels = self.table.dictionary.labels_of(side.id)
            code = next((code for code, label in labels.items() if label == other.value), None)
            if code is not None:
                error = UsageError(
                    f"{side.id} holds codes, not their labels.", todo=f"Write {code} for {labels[code]}."
                )
                raise add_pointer(error, self.text, other)

    def _compare_list(self, left: ast.expr, right: ast.expr, negated: bool) -> Column:
        if not isinstance(right, ast.Tuple | ast.List) or not right.elts:
            raise UsageError("`in` needs a list of values.", todo="Write month in (0, 3, 6, 12).")
        column = self.evaluate(left)
        result = join_truths([compare_columns(column, self.evaluate(value), operator.eq) for value in right.elts], True)
        return make_result("boolean", result.values != negated, [result])

    def _ifexp(self, node: ast.IfExp) -> Column:
        return choose_by_condition(
            self._evaluate_condition(node.test), self.evaluate(node.body), self.evaluate(node.orelse)
        )


def join_truths(parts: list[Column], decisive: bool) -> Column:
    """Join conditions by `or` (true decides, whatever the others are) or by `and` (false decides).

    References
    ----------
    S. C. Kleene, "Introduction to Metamathematics" (North-Holland, 1952), section 64: strong tables of three values.
    """
    if len(parts) == 1:
        return parts[0]
    decided: Mask = np.zeros(len(parts[0]), np.bool_)
    for part in parts:
        decided |= ~part.is_missing & (part.values == decisive)
    why, reasons = merge_reasons(parts)
    if why is not None:
        why = np.where(decided, np.uint8(0), why)
    return Column.of("boolean", np.where(decided, decisive, not decisive), why, reasons)


def compare_columns(first: Column, second: Column, compare: Callable[[Any, Any], Any]) -> Column:
    """Compare two operands row by row."""
    if {first.type, second.type} == {"integer", "number"}:
        comparisons = compare_exactly(first, second)
        return make_result("boolean", compare(comparisons, 0), [first, second])
    first, second = align(first, second)
    if first.type != "string":
        left, right = first.values, second.values
    elif compare in (operator.eq, operator.ne):
        left, right = encode_texts(first, second)
    else:
        left, right = rank_texts(first, second)
    return make_result("boolean", compare(left, right), [first, second])


def compare_exactly(first: Column, second: Column) -> Any:
    """Return -1, 0 or 1 for an integer against a float, or the reverse; exact for all digits."""
    if first.type == "number":
        return -compare_exactly(second, first)
    decimal = np.nan_to_num(second.values)
    below, above = decimal < -(2.0**63), decimal >= 2.0**63
    floor = np.where(below | above, 0, np.floor(decimal)).astype(np.int64)
    comparisons = (first.values > floor).astype(np.int8) - (first.values < floor)
    comparisons = np.where((comparisons == 0) & (decimal > np.floor(decimal)), -1, comparisons)
    return np.where(below, 1, np.where(above, -1, comparisons))
