"""Describe every column, the keys, and the columns that look like repeated measures."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.matching import counted as counted_codes
from lomrix.core.errors import Proposal
from lomrix.core.rows.candidate_keys import candidate_keys, nearly_keys
from lomrix.core.rows.keys import unordered_codes
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.profile.settings import Profile
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.code_list import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.distinct import distinct_cells, mixed_decimals, nearly_same_texts, texts_not_listed
from lomrix.core.table.header_guess import Guess, guessed_families
from lomrix.core.table.missing_guess import likely_missing_codes
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

COMMONEST = 4
MOST_GROUPS = 3
# Labels are shortened where so many signs are the same.
LEAST_SHARED = 8
HEADS = ("column", "type", "missing", "distinct", "range or commonest values", "label")


def profiled(step: Profile, tables: Inputs, wanted: Collection[str]) -> Result:
    """Describe the table; the result's table has one row per column."""
    table = tables.one()
    names = sorted(table.names) if step.sort == "name" else table.names
    with ThreadPoolExecutor() as workers:
        rows = list(workers.map(lambda name: row_of(table, name, step.as_labels), names))
    keys = candidate_keys(table)
    guess = guessed_families(table.names)
    present = sum(int(np.count_nonzero(~column.is_missing)) for column in table.columns.values())
    missing = sum(count for column in table.columns.values() for count in column.reason_counts().values())
    advice = []
    if guess is not None:
        measures = {name for found in guess.measures.values() for name in found}
        case = tuple(key for key in keys if " + " not in key and key not in measures)[:1]
        advice.append(Proposal("to-long", guess.settings(case)))
    none = "none, no column and no pair tells all rows apart" if len(table) > 1 else "none to be seen in so few rows"
    told = some_of(keys, 4) if keys else none
    account = Account(
        "profile",
        f"{counted(len(table), 'row', 'rows')}, {counted(len(table.names), 'column', 'columns')}. "
        f"Candidate keys: {told}.",
        (Balance("cells", len(table) * len(table.names), (("with a value", present), ("missing", missing))),),
        {
            "rows": len(table), "keys": keys, "labels": {name: table.dictionary.of(name).label for name in names},
            "repeated_measures": guess.measures if guess is not None else {},
        },
        (Listing("columns", HEADS, tuple(with_short_labels(rows, guess))), *families_listing(table, guess)),
        tuple(notes_on(table)),
        tuple(advice),
    )  # fmt: skip
    return Result(table_of(rows), account)


def row_of(table: Table, name: str, as_labels: bool) -> tuple[object, ...]:
    """One column as it is described."""
    column = table[name]
    missing = ", ".join(f"{count:,} {reason}" for reason, count in column.reason_counts().items())
    count, shown = described(column, table.dictionary.labels_of(name), as_labels)
    return (name, column.type, missing or "none", count, shown, table.dictionary.of(name).label)


def families_listing(table: Table, guess: Guess | None) -> tuple[Listing, ...]:
    """The columns that look like one measure at several occasions."""
    if guess is None:
        return ()
    rows: list[tuple[object, ...]] = []
    for measure, found in guess.measures.items():
        label = common_beginning([table.dictionary.of(name).label for name in found]).rstrip(" ,;:")
        rows.append((measure, len(found), " ".join(found[:6]) + (" …" if len(found) > 6 else ""), label))
    heads = ("measure", "columns", "found in", "label")
    if not any(row[-1] for row in rows):
        heads, rows = heads[:-1], [row[:-1] for row in rows]  # type: ignore[assignment]
    return (Listing("likely repeated measures", heads, tuple(rows)),)


def common_beginning(labels: Sequence[str]) -> str:
    """What several labels have in common at their beginning, up to a whole word.

    Examples
    --------
    >>> common_beginning(["Sleep in 24 hours, month 3", "Sleep in 24 hours, month 12"])
    'Sleep in 24 hours, '
    """
    first, last = min(labels), max(labels)
    length = next((at for at, (one, other) in enumerate(zip(first, last, strict=False)) if one != other), len(first))
    shared = first[:length]
    if len(labels) > 1 and shared in labels:
        return shared
    comma = shared.rfind(", ")
    return shared[: comma + 2] if comma >= 0 else shared[: shared.rfind(" ") + 1]


def with_short_labels(rows: Sequence[tuple[object, ...]], guess: Guess | None) -> list[tuple[object, ...]]:
    """The described columns; of labels in a family that begin alike only the first is told whole."""
    labels = {str(row[0]): str(row[-1]) for row in rows}
    for found in guess.measures.values() if guess is not None else ():
        shared = common_beginning([labels[name] for name in found])
        if len(found) > 1 and len(shared) >= LEAST_SHARED:
            labels |= {name: "… " + labels[name].removeprefix(shared) for name in found[1:]}
    return [(*row[:-1], labels[str(row[0])]) for row in rows]


def notes_on(table: Table) -> list[Note]:
    """What a person should look at."""
    notes = nearly_keys(table)
    for name, column in table.columns.items():
        if column.type == "number" and len(rows := mixed_decimals(column)):
            examples = tuple((int(row) + table.first_row, float(column.values[row])) for row in rows[:5])
            notes.append(Note("all other cells are whole numbers.", name, examples, "mixed-decimals", len(rows)))
        labels = table.dictionary.labels_of(name)
        if codes := likely_missing_codes(column, table.dictionary.of(name), labels):
            told = ", ".join(map(str, codes))
            text = f"{told} {plural(len(codes), 'stands', 'stand')} apart from all others and "
            text += plural(len(codes), "looks like a missing code", "look like missing codes")
            text += f"; if so, say ‹missing_text={','.join(map(str, codes))}› or declare it in a dictionary."
            rows = np.flatnonzero(np.isin(column.values, codes) & ~column.is_missing)
            notes.append(
                Note(
                    text, name, tuple((int(row) + table.first_row, None) for row in rows[:5]), "missing-code", len(rows)
                )
            )
        for group in nearly_same_texts(column)[:MOST_GROUPS]:
            told = ", ".join(f'"{text}" ({count:,})' for text, count in group)
            text = f"texts that differ by capitals or blanks only: {told}."
            notes.append(Note(text, name, (), "nearly-same", sum(count for _, count in group)))
        if labels and (without := texts_not_listed(column, list(labels))):
            text = f"values without a label: {some_of(without, 10)}."
            notes.append(Note(text, name, (), "no-label", len(without)))
    return notes


def table_of(rows: list[tuple[object, ...]]) -> Table:
    """The description as a table."""
    heads = ("column", "type", "missing", "distinct", "values", "label")
    columns = {
        head: Column.of_cells("integer" if head == "distinct" else "string", [row[at] or None for row in rows])
        for at, head in enumerate(heads)
    }
    return Table(columns, name="profile")


def described(column: Column, labels: Codes, as_labels: bool) -> tuple[int, str]:
    """Number of distinct values, and the range or the commonest values."""
    if column.missing_count == len(column):
        return 0, ""
    if column.type in ("number", "date", "datetime") or (column.type == "integer" and not labels):
        values = column.values if column.why is None else column.values[~column.is_missing]
        distinct = key_codes.distinct_values(values)
        if column.type == "number":
            return len(distinct), f"{distinct[0]:g} to {distinct[-1]:g}"
        return len(distinct), f"{distinct[0]} to {distinct[-1]}"
    codes, size = unordered_codes(column)
    distinct_count = int(np.count_nonzero(counted_codes(codes, size)))
    if distinct_count > max(20, len(column) // 2):
        rows = np.flatnonzero(codes >= 0)
        return distinct_count, "such as " + ", ".join(column.take(rows[[0, len(rows) // 2]]).to_text().to_pylist())
    _, texts, counts = distinct_cells(column)
    order = np.argsort(-counts, kind="stable")
    told = []
    for at in order[:COMMONEST]:
        label = CodeList(labels).label_of(texts[at])
        shown = (label or texts[at]) if as_labels else texts[at] + (f" {label}" if label else "")
        told.append(f"{shown} ({counts[at]:,})")
    return len(texts), ", ".join(told) + (" …" if len(texts) > COMMONEST else "")
