"""A draft of a dictionary: what a table itself shows of its variables."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes, Dictionary
from lomrix.core.table.distinct import distinct_cells, texts_not_listed
from lomrix.core.table.missing_guess import likely_missing_codes
from lomrix.core.table.table import Table
from lomrix.core.table.variable import NOTHING_KNOWN, Variable
from lomrix.core.wording import some_of

# A variable with at most so many different values is likely to have codes.
MOST_CODES = 12


@dataclass(frozen=True)
class Drafted:
    """One variable as the table shows it.

    Parameters
    ----------
    name, type
        The column's.
    span
        Lowest and highest value, where there is an order.
    values
        Its values, where they are few.
    reasons
        Reasons that occur, blank left out.
    codes
        Numbers that look like missing codes.
    entry, labels
        What the file itself says of the variable.
    """

    name: str
    type: str
    span: tuple[str, str] | None
    values: tuple[str, ...]
    reasons: tuple[str, ...]
    codes: tuple[int, ...] = ()
    entry: Variable = NOTHING_KNOWN
    labels: Codes = field(default_factory=dict)


def drafted(table: Table, known: Dictionary) -> list[Drafted]:
    """Every variable of a table that a dictionary does not know yet."""
    return [
        of_column(name, column, table.dictionary)
        for name, column in table.columns.items()
        if known.of(name) == NOTHING_KNOWN
    ]


def of_column(name: str, column: Column, dictionary: Dictionary) -> Drafted:
    """What one column shows, beside what its file says of it."""
    entry, labels = dictionary.of(name), dictionary.labels_of(name)
    codes = likely_missing_codes(column, entry, labels)
    column = column.with_missing(np.isin(column.values, codes), "likely a missing code") if codes else column
    reasons = tuple(reason for reason in column.reason_counts() if reason not in ("blank", "likely a missing code"))
    present = column.take((~column.is_missing).nonzero()[0])
    span: tuple[str, str] | None = None
    values: tuple[str, ...] = ()
    if len(present) and column.type in ("integer", "number", "date", "datetime"):
        ends = present.values[[present.values.argmin(), present.values.argmax()]]
        low, high = Column.of(column.type, ends).to_text().to_pylist()
        span = (low, high)
    if len(present) and column.type in ("integer", "string"):
        _, texts, _ = distinct_cells(present)
        if len(texts) <= MOST_CODES and (column.type == "string" or len(texts) < len(present) / 2):
            values = tuple(sorted(texts, key=lambda text: (len(text), text)))
    return Drafted(name, column.type, span, values, reasons, tuple(codes), entry, labels)


def misfits(table: Table, dictionary: Dictionary) -> list[tuple[str, str, str]]:
    """Variables whose list of codes does not fit: name, values without a label, labels never used."""
    found = []
    for name, column in table.columns.items():
        labels = dictionary.labels_of(name)
        if not labels:
            continue
        without = texts_not_listed(column, list(labels))
        _, texts, _ = distinct_cells(column)
        unused = [f"{code} {labels[code]}" for code in CodeList(labels).unused(texts)]
        if without or unused:
            found.append((name, some_of(without, 8) or "none", some_of(unused, 8) or "none"))
    return found
