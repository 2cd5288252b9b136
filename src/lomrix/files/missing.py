"""Missing cells in written files: empty, or a code that the dictionary gives; why, stands in the descriptor."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.table.code_use import times_used
from lomrix.core.table.column import Column
from lomrix.core.table.notes import FIRST_ROW
from lomrix.core.table.reasons import BLANK, MOST_REASONS, Why
from lomrix.core.table.variable import Variable
from lomrix.files.missing_words import InCells


@dataclass(frozen=True)
class Missing:
    """How the missing cells of one column stand in a file.

    Parameters
    ----------
    texts
        The text that stands in the cell for each reason that has one.
    empty
        The reason of empty cells; their commonest one, where there are several.
    runs
        Rows of the empty cells that are missing for another reason, such as `2-9 14 20-31`: counted as a sheet
        counts them, the header being row 1.
    """

    texts: Mapping[str, str] = field(default_factory=dict)
    empty: str = BLANK
    runs: Mapping[str, str] = field(default_factory=dict)


def missing_of(column: Column, variable: Variable, in_cells: InCells = "empty", *, with_runs: bool = True) -> Missing:
    """How a column's missing cells are written.

    Parameters
    ----------
    column
        The column.
    variable
        What the dictionary says of it: a reason to which it gives a code is written as that code, unless the code is
        a value of the column.
    in_cells
        `empty` cells for all other reasons, or their `words`.
    with_runs
        Whether rows are wanted where empty cells have several reasons.
    """
    counts = column.reason_counts()
    if in_cells == "words":
        return Missing(words_of(column, variable), BLANK)
    texts: dict[str, str] = {}
    for code, reason in variable.missing.items():
        if reason in counts and reason not in texts and reason != BLANK and not times_used(column, code):
            texts[reason] = code
    left = {reason: count for reason, count in counts.items() if reason not in texts}
    empty = max(left, key=lambda reason: left[reason]) if left else BLANK
    others = [reason for reason in left if reason != empty] if with_runs else []
    return Missing(texts, empty, {reason: runs_of(column, reason) for reason in others})


def words_of(column: Column, variable: Variable) -> dict[str, str]:
    """A word for each reason of a column: its code, else itself; in brackets until it is no value of the column."""
    codes: dict[str, str] = {}
    for code, reason in variable.missing.items():
        codes.setdefault(reason, code)
    words: dict[str, str] = {}
    for reason in column.reason_counts():
        word = "" if reason == BLANK else codes.get(reason, reason)
        while word and (times_used(column, word) or word in words.values()):
            word = f"[{word}]"
        if word:
            words[reason] = word
    return words


def number_of_runs(column: Column) -> int:
    """How many runs of cells that are missing for one reason a column has."""
    if column.why is None:
        return 0
    starts = column.why[1:] != column.why[:-1]
    return int(np.count_nonzero(starts & (column.why[1:] != 0))) + int(column.why[:1].any())


def runs_of(column: Column, reason: str) -> str:
    """The rows in which a column is missing for a reason, as runs."""
    if column.why is None or reason not in column.reasons:
        return ""
    here = column.why == column.reasons.index(reason) + 1
    edges = np.flatnonzero(np.diff(here.astype(np.int8), prepend=np.int8(0), append=np.int8(0)))
    first, last = edges[::2] + FIRST_ROW, edges[1::2] - 1 + FIRST_ROW
    starts, ends = (pa.array(rows).cast(pa.string()) for rows in (first, last))
    texts = pc.if_else(pa.array(first == last), starts, pc.binary_join_element_wise(starts, ends, "-"))
    return " ".join(texts.to_pylist())


def rows_of_runs(text: str, rows: int) -> npt.NDArray[np.int64]:
    """The rows that runs name, counted from 0; those that a table of so many rows does not have are left out."""
    spans = pa.array([text]).cast(pa.string())
    found = pc.extract_regex(
        pc.split_pattern(spans, " ").flatten(), r"^(?P<first>\d{1,18})(?P<rest>-(?P<last>\d{1,18}))?$"
    )
    found = found.drop_null()
    if not len(found):
        return np.zeros(0, np.int64)
    first, last = pc.struct_field(found, "first"), pc.struct_field(found, "last")
    last = pc.if_else(pc.equal(pc.utf8_length(last), 0), first, last)
    ends = (
        np.stack([ends.cast(pa.int64()).to_numpy(zero_copy_only=False) for ends in (first, last)], axis=1) - FIRST_ROW
    )
    ends = ends[(ends[:, 0] >= 0) & (ends[:, 1] < rows) & (ends[:, 0] <= ends[:, 1])]
    lengths = ends[:, 1] - ends[:, 0] + 1
    return np.asarray(np.arange(int(lengths.sum())) + np.repeat(ends[:, 0] - np.cumsum(lengths) + lengths, lengths))


def with_reasons(column: Column, missing: Missing, window: range | None = None, rows: int | None = None) -> Column:
    """A column that was read with blanks, its cells missing for the reasons that are told apart in the descriptor.

    Parameters
    ----------
    column
        The column as read; cells that are missing for want of a text in them are `blank`.
    missing
        What the descriptor says.
    window
        Which rows of the file were read; all where None.
    rows
        Number of rows of the whole file, where a window was read.
    """
    if column.why is None or BLANK not in column.reasons or (missing.empty == BLANK and not missing.runs):
        return column
    blank = column.why == column.reasons.index(BLANK) + 1
    kept = tuple(reason for reason in column.reasons if reason != BLANK)
    reasons = tuple(dict.fromkeys([*kept, missing.empty, *missing.runs]))[:MOST_REASONS]
    numbers = np.array([0, *(reasons.index(one if one != BLANK else missing.empty) + 1 for one in column.reasons)])
    why: Why = numbers.astype(np.uint8)[column.why]
    start = 0 if window is None else window.start
    for reason, text in missing.runs.items():
        if reason not in reasons:
            continue
        named = rows_of_runs(text, len(column) if rows is None else rows) - start
        named = named[(named >= 0) & (named < len(column))]
        # A run speaks of empty cells only; what has a value is left alone.
        why[named[blank[named]]] = reasons.index(reason) + 1
    return Column(column.type, column.stored, why, reasons, column.pool)
