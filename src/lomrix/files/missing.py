"""Missing cells in written files: empty, or a code of the dictionary; the reasons are in the descriptor."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.table.column import Column
from lomrix.core.table.labelled import count_code
from lomrix.core.table.notes import FIRST_ROW
from lomrix.core.table.reasons import BLANK, MOST_REASONS, Why
from lomrix.core.table.variable import Variable


@dataclass(frozen=True)
class MissingPlan:
    """How the missing cells of one column are written."""

    # the text that stands in the cell for each reason that has one
    texts: Mapping[str, str] = field(default_factory=dict)
    empty: str = BLANK  # the reason of empty cells; their commonest one, where there are several
    # rows of the empty cells that are missing for another reason, such as `2-9 14 20-31`: counted as a sheet counts
    # them, the header being row 1
    runs: Mapping[str, str] = field(default_factory=dict)


def plan_missing(
    column: Column, variable: Variable, in_cells: InCells = "empty", *, with_runs: bool = True
) -> MissingPlan:
    """Plan how a column's missing cells are written.

    A reason with a code in the dictionary is written as that code, unless it is a value of the column; other reasons as
    `in_cells` says, `empty` or `words`. `with_runs` requests rows if empty cells have several reasons.
    """
    counts = column.reason_counts()
    if in_cells == "words":
        return MissingPlan(choose_words(column, variable), BLANK)
    texts: dict[str, str] = {}
    for code, reason in variable.missing.items():
        if reason in counts and reason not in texts and reason != BLANK and not count_code(column, code):
            texts[reason] = code
    without_code = {reason: count for reason, count in counts.items() if reason not in texts}
    empty = max(without_code, key=lambda reason: without_code[reason]) if without_code else BLANK
    others = [reason for reason in without_code if reason != empty] if with_runs else []
    return MissingPlan(texts, empty, {reason: format_runs(column, reason) for reason in others})


def choose_words(column: Column, variable: Variable) -> dict[str, str]:
    """Return a word for each reason of a column: its code, else the reason, in brackets if it is also a value."""
    codes: dict[str, str] = {}
    for code, reason in variable.missing.items():
        codes.setdefault(reason, code)
    words: dict[str, str] = {}
    for reason in column.reason_counts():
        text = "" if reason == BLANK else codes.get(reason, reason)
        while text and (count_code(column, text) or text in words.values()):
            text = f"[{text}]"
        if text:
            words[reason] = text
    return words


def count_runs(column: Column) -> int:
    """Count the runs of cells that are missing for one reason."""
    if column.why is None:
        return 0
    starts = column.why[1:] != column.why[:-1]
    return int(np.count_nonzero(starts & (column.why[1:] != 0))) + int(column.why[:1].any())


def format_runs(column: Column, reason: str) -> str:
    """Format the rows in which a column is missing for a reason, as runs."""
    if column.why is None or reason not in column.reasons:
        return ""
    has_reason = column.why == column.reasons.index(reason) + 1
    edges = np.flatnonzero(np.diff(has_reason.astype(np.int8), prepend=np.int8(0), append=np.int8(0)))
    first, last = edges[::2] + FIRST_ROW, edges[1::2] - 1 + FIRST_ROW
    starts, ends = (pa.array(rows).cast(pa.string()) for rows in (first, last))
    texts = pc.if_else(pa.array(first == last), starts, pc.binary_join_element_wise(starts, ends, "-"))
    return " ".join(texts.to_pylist())


def parse_runs(text: str, rows: int) -> npt.NDArray[np.int64]:
    """Return the rows of runs, from 0; those beyond `rows` are left out."""
    spans = pa.array([text]).cast(pa.string())
    matches = pc.extract_regex(
        pc.split_pattern(spans, " ").flatten(), r"^(?P<first>\d{1,18})(?P<rest>-(?P<last>\d{1,18}))?$"
    )
    matches = matches.drop_null()
    if not len(matches):
        return np.zeros(0, np.int64)
    first, last = pc.struct_field(matches, "first"), pc.struct_field(matches, "last")
    last = pc.if_else(pc.equal(pc.utf8_length(last), 0), first, last)
    limits = (
        np.stack([limits.cast(pa.int64()).to_numpy(zero_copy_only=False) for limits in (first, last)], axis=1)
        - FIRST_ROW
    )
    limits = limits[(limits[:, 0] >= 0) & (limits[:, 1] < rows) & (limits[:, 0] <= limits[:, 1])]
    lengths = limits[:, 1] - limits[:, 0] + 1
    return np.asarray(np.arange(int(lengths.sum())) + np.repeat(limits[:, 0] - np.cumsum(lengths) + lengths, lengths))


def apply_reasons(column: Column, missing: MissingPlan, window: range | None = None, rows: int | None = None) -> Column:
    """Set the reasons of blanks from the descriptor.

    `window` gives the rows of the file that were read (None for all), `rows` the number of rows of the whole file.
    """
    if column.why is None or BLANK not in column.reasons or (missing.empty == BLANK and not missing.runs):
        return column
    blank = column.why == column.reasons.index(BLANK) + 1
    kept = tuple(reason for reason in column.reasons if reason != BLANK)
    reasons = tuple(dict.fromkeys([*kept, missing.empty, *missing.runs]))[:MOST_REASONS]
    numbers = np.array(
        [0, *(reasons.index(reason if reason != BLANK else missing.empty) + 1 for reason in column.reasons)]
    )
    why: Why = numbers.astype(np.uint8)[column.why]
    start = 0 if window is None else window.start
    for reason, text in missing.runs.items():
        if reason not in reasons:
            continue
        run_rows = parse_runs(text, len(column) if rows is None else rows) - start
        run_rows = run_rows[(run_rows >= 0) & (run_rows < len(column))]
        # A run is about empty cells only; present cells are left alone.
        why[run_rows[blank[run_rows]]] = reasons.index(reason) + 1
    return Column(column.type, column.stored, why, reasons, column.pool)


# `empty`, or the `words` of their reasons.
InCells = Literal["empty", "words"]
