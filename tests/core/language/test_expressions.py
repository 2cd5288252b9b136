"""Expressions over one small table: what comes of each, cell by cell, or why it is refused.

The expected output is in `expressions.txt`, an expression and then what comes of it.
"""

from __future__ import annotations

import datetime
from pathlib import Path

import numpy as np
import pytest

from lomrix.core.errors import LomrixError
from lomrix.core.language.evaluate import evaluate
from lomrix.core.language.scope import Scope
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from tests.core.steps.test_whole_accounts import read_sections
from tests.tables import table

EXPECTED = Path(__file__).with_name("expressions.txt")
KNOWN = Dictionary({"w": Variable(codes="watches")}, {"watches": {"1": "day", "2": "night"}})
DAYS = [datetime.date(2024, 2, 29), datetime.date(2023, 12, 31), None, datetime.date(2020, 1, 1),
        datetime.date(2024, 3, 30)]  # fmt: skip
VISITS = table(
    "visits", KNOWN, id=["a", "a", "a", "b", "b"], m=[0, 3, 6, 3, 0], x=[2, 4, None, -3, 0],
    y=[0.5, -1.25, 2.5, None, 1e308], big=[2**62, 2**62, 1, -(2**62), 3], t=["day", "Night ", None, "", "gull_m12"],
    w=[1, 2, 2, None, 1], b=[True, False, None, True, False],
    d=DAYS, e=[datetime.date(2024, 3, 31)] * 5, none=[None] * 5, v=[3, 3, 9, 3, None],
)  # fmt: skip


def happening(words: str) -> list[str]:
    """Type and cells, the missing ones as their reasons; or the error."""
    try:
        made = evaluate(words, Scope(VISITS, ("id",), ("m",)))
    except LomrixError as error:
        pointer = [] if error.pointer is None else [f"at: {error.pointer}"]
        lines = [f"error: {error.what}", f"where: {error.where}", *pointer, f"next: {error.todo}"]
        return [line.rstrip() for line in lines]
    return [f"{made.type}: {', '.join(output(made))}"]


def output(column: Column) -> list[str]:
    reasons = column.reason_cells(np.arange(len(column)))
    cells = [f"{cell:.10g}" if isinstance(cell, float) else repr(cell) if isinstance(cell, str) else str(cell)
             for cell in column.cells()]  # fmt: skip
    return [cell if reason is None else f"‹{reason}›" for cell, reason in zip(cells, reasons, strict=True)]


@pytest.mark.parametrize("words", list(read_sections(EXPECTED)))
def test_what_comes_of_an_expression(words: str) -> None:
    assert happening(words) == read_sections(EXPECTED)[words]
