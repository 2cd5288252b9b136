"""Numbers and dates as text in a stated form: decimal places, decimal separator, date form."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.rounding import round_decimals
from lomrix.core.arrays.types import Array
from lomrix.core.steps.delivery import TextForm
from lomrix.core.table.column import Column
from lomrix.core.table.numbers import is_number


def format_cells(column: Column, form: TextForm, codes: Sequence[str] = ()) -> pa.Array | None:
    """Format a column of numbers or dates; None if the form changes nothing.

    Missing codes among the values are written unchanged; the text of missing cells is arbitrary.
    """
    if column.type == "number" and (form.digits is not None or form.decimal != "."):
        return format_numbers(column.values, form, codes)
    if column.type in ("date", "datetime") and form.date_form and len(column):
        return pc.strftime(column.to_arrow().cast(pa.timestamp("us")), format=form.date_form).cast(pa.large_string())
    return None


def format_numbers(values: Array, form: TextForm, codes: Sequence[str] = ()) -> pa.Array:
    """Format numbers, each distinct one once.

    >>> format_numbers(np.array([2.675, -0.001, 3.0, -9.0]), TextForm(decimal=",", digits=2), ("-9",)).to_pylist()
    ['2,68', '0,00', '3,00', '-9']
    """
    distinct, positions = np.unique(values, return_inverse=True)
    if form.digits is None:
        texts = Column.of("number", distinct).to_text()
    else:
        rounded = round_decimals(distinct, form.digits)
        texts = pa.array(np.char.mod(f"%.{form.digits}f", rounded).tolist(), pa.large_string())
        texts = pc.replace_substring_regex(texts, r"^-(0(\.0*)?)$", r"\1")
    if form.decimal != ".":
        texts = pc.replace_substring(texts, ".", form.decimal)
    kept = {float(code): code for code in codes if is_number(code)}
    for value, code in kept.items():
        texts = pc.if_else(pa.array(distinct == value), code, texts)
    return texts.take(pa.array(positions))
