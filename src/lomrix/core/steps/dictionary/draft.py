"""A draft of a dictionary: what a table itself shows about its variables."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes, Dictionary
from lomrix.core.table.distinct import encode_as_texts, find_texts_not_listed
from lomrix.core.table.missing_guess import guess_missing_codes
from lomrix.core.table.table import Table
from lomrix.core.table.variable import NO_ENTRY, Variable
from lomrix.core.wording import shorten_list

# A variable with at most this many distinct values probably has codes.
MOST_CODES = 12


@dataclass(frozen=True)
class DraftVariable:
    """One variable as the table shows it."""

    name: str  # the column's
    type: str
    span: tuple[str, str] | None  # lowest and highest value, where there is an order
    values: tuple[str, ...]  # its values, where they are few
    reasons: tuple[str, ...]  # reasons that occur, blank left out
    codes: tuple[int, ...] = ()  # numbers that look like missing codes
    entry: Variable = NO_ENTRY  # what the file itself says of the variable
    labels: Codes = field(default_factory=dict)


def draft_variables(table: Table, known: Dictionary) -> list[DraftVariable]:
    """Return every variable that a dictionary does not know yet."""
    return [
        draft_variable(name, column, table.dictionary)
        for name, column in table.columns.items()
        if known.of(name) == NO_ENTRY
    ]


def draft_variable(name: str, column: Column, dictionary: Dictionary) -> DraftVariable:
    """Return what one column shows, and what its file says of it."""
    entry, labels = dictionary.of(name), dictionary.labels_of(name)
    codes = guess_missing_codes(column, entry, labels)
    column = column.with_missing(np.isin(column.values, codes), "likely a missing code") if codes else column
    reasons = tuple(reason for reason in column.reason_counts() if reason not in ("blank", "likely a missing code"))
    present = column.take((~column.is_missing).nonzero()[0])
    span: tuple[str, str] | None = None
    values: tuple[str, ...] = ()
    if len(present) and column.type in ("integer", "number", "date", "datetime"):
        extremes = present.values[[present.values.argmin(), present.values.argmax()]]
        low, high = Column.of(column.type, extremes).to_text().to_pylist()
        span = (low, high)
    if len(present) and column.type in ("integer", "string"):
        _, texts, _ = encode_as_texts(present)
        if len(texts) <= MOST_CODES and (column.type == "string" or len(texts) < len(present) / 2):
            values = tuple(sorted(texts, key=lambda text: (len(text), text)))
    return DraftVariable(name, column.type, span, values, reasons, tuple(codes), entry, labels)


def find_misfits(table: Table, dictionary: Dictionary) -> list[tuple[str, str, str]]:
    """Return variables whose codes do not fit: name, values without a label, unused labels."""
    result = []
    for name, column in table.columns.items():
        labels = dictionary.labels_of(name)
        if not labels:
            continue
        unlabelled = find_texts_not_listed(column, list(labels))
        _, texts, _ = encode_as_texts(column)
        unused = [f"{code} {labels[code]}" for code in CodeList(labels).unused(texts)]
        if unlabelled or unused:
            result.append((name, shorten_list(unlabelled, 8) or "none", shorten_list(unused, 8) or "none"))
    return result
