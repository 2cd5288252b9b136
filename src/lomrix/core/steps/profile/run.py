"""Describe every column, the keys, and the columns that look like repeated measures."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.matching import count_codes as counted_codes
from lomrix.core.combining import MOST_EXAMPLES
from lomrix.core.errors import Proposal
from lomrix.core.rows.candidate_keys import find_candidate_keys, note_near_keys
from lomrix.core.rows.keys import encode_cells
from lomrix.core.steps.account import Account, Balance, Listing, Part
from lomrix.core.steps.profile.settings import Profile
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.dictionary import Codes
from lomrix.core.table.distinct import encode_as_texts, find_mixed_decimals, find_near_duplicates, find_texts_not_listed
from lomrix.core.table.header_guess import Guess, guess_families
from lomrix.core.table.missing_guess import guess_missing_codes
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

# Columns that are described at once: each takes memory of its own.
WORKERS = 2
MOST_FREQUENT = 4
MOST_GROUPS = 3
# Labels are shortened if at least this many characters are the same.
LEAST_SHARED = 8
HEADS = ("column", "type", "missing", "distinct", "range or most frequent values", "label")


def profile(step: Profile, tables: Inputs, wanted: Collection[str]) -> Result:
    """Describe the table; the result has one row per column."""
    table = tables.get_one()
    names = sorted(table.names) if step.sort == "name" else table.names
    with ThreadPoolExecutor(WORKERS) as workers:
        rows = list(workers.map(lambda name: describe_column(table, name, step.as_labels), names))
    keys = find_candidate_keys(table)
    guess = guess_families(table.names)
    present = sum(int(np.count_nonzero(~column.is_missing)) for column in table.columns.values())
    missing = sum(count for column in table.columns.values() for count in column.reason_counts().values())
    advice = []
    if guess is not None:
        measures = {name for columns in guess.measures.values() for name in columns}
        case = tuple(key for key in keys if " + " not in key and key not in measures)[:1]
        families = [[table[name] for name in columns] for columns in guess.measures.values()]
        if all(common_type(columns) for columns in families):
            advice.append(Proposal("to-long", guess.settings(case)))
        else:
            words = "first mend the text among the numbers of one measure"
            advice.append(Proposal("check", {"key": case}, outputs={"draft_ledger": "ledger.csv"}, words=words))
    no_keys = "none, no column and no pair uniquely identifies rows" if len(table) > 1 else "unknown with so few rows"
    key_text = shorten_list(keys, 4) if keys else no_keys
    account = Account(
        "profile",
        f"{pluralize(len(table), 'row')}, {pluralize(len(table.names), 'column')}. "
        f"Candidate keys: {key_text}.",
        (
            Balance(
                "cells", len(table) * len(table.names), (Part("kept", present, "present"), Part("missing", missing))
            ),
        ),
        {
            "rows": len(table), "keys": keys, "labels": {name: table.dictionary.of(name).label for name in names},
            "repeated_measures": guess.measures if guess is not None else {},
        },
        (Listing("columns", HEADS, tuple(shorten_labels(rows, guess))), *list_families(table, guess)),
        tuple(make_notes(table)),
        tuple(advice),
    )  # fmt: skip
    return Result(make_table(rows), account)


def describe_column(table: Table, name: str, as_labels: bool) -> tuple[object, ...]:
    """Describe one column as a row."""
    column = table[name]
    missing = ", ".join(f"{count:,} {reason}" for reason, count in column.reason_counts().items())
    count, values = summarize_values(column, table.dictionary.labels_of(name), as_labels)
    return (name, column.type, missing or "none", count, values, table.dictionary.of(name).label)


def list_families(table: Table, guess: Guess | None) -> tuple[Listing, ...]:
    """List the columns that look like one measure at several occasions."""
    if guess is None:
        return ()
    rows: list[tuple[object, ...]] = []
    for measure, columns in guess.measures.items():
        label = find_common_prefix([table.dictionary.of(name).label for name in columns]).rstrip(" ,;:")
        rows.append((measure, len(columns), " ".join(columns[:6]) + (" …" if len(columns) > 6 else ""), label))
    heads = ("measure", "columns", "names", "label")
    if not any(row[-1] for row in rows):
        heads, rows = heads[:-1], [row[:-1] for row in rows]  # type: ignore[assignment]
    return (Listing("likely repeated measures", heads, tuple(rows)),)


def find_common_prefix(labels: Sequence[str]) -> str:
    """Return the common beginning of several labels, up to a whole word.

    >>> find_common_prefix(["Sleep in 24 hours, month 3", "Sleep in 24 hours, month 12"])
    'Sleep in 24 hours, '
    """
    first, last = min(labels), max(labels)
    length = next(
        (index for index, (left, right) in enumerate(zip(first, last, strict=False)) if left != right), len(first)
    )
    shared = first[:length]
    if len(labels) > 1 and shared in labels:
        return shared
    comma = shared.rfind(", ")
    return shared[: comma + 2] if comma >= 0 else shared[: shared.rfind(" ") + 1]


def shorten_labels(rows: Sequence[tuple[object, ...]], guess: Guess | None) -> list[tuple[object, ...]]:
    """Shorten labels of a family that begin alike; only the first is shown in full."""
    labels = {str(row[0]): str(row[-1]) for row in rows}
    for columns in guess.measures.values() if guess is not None else ():
        shared = find_common_prefix([labels[name] for name in columns])
        if len(columns) > 1 and len(shared) >= LEAST_SHARED:
            labels |= {name: "… " + labels[name].removeprefix(shared) for name in columns[1:]}
    return [(*row[:-1], labels[str(row[0])]) for row in rows]


def make_notes(table: Table) -> list[Note]:
    """Note what a person should look at."""
    notes = note_near_keys(table)
    for name, column in table.columns.items():
        if column.type == "number" and len(rows := find_mixed_decimals(column)):
            examples = table.show_rows(rows, column.values[rows[:MOST_EXAMPLES]].tolist())
            notes.append(Note("all other cells are whole numbers.", name, examples, "mixed-decimals", len(rows)))
        labels = table.dictionary.labels_of(name)
        if codes := guess_missing_codes(column, table.dictionary.of(name), labels):
            shown = ", ".join(map(str, codes))
            text = f"{shown} {plural(len(codes), 'is', 'are')} far from all others and "
            text += plural(len(codes), "looks like a missing code", "look like missing codes")
            text += f"; if so, use ‹missing_text={','.join(map(str, codes))}› or declare it in a dictionary."
            rows = np.flatnonzero(np.isin(column.values, codes) & ~column.is_missing)
            notes.append(Note(text, name, table.show_rows(rows), "missing-code", len(rows)))
        for group in find_near_duplicates(column)[:MOST_GROUPS]:
            shown = ", ".join(f'"{text}" ({count:,})' for text, count in group)
            text = f"texts that differ only in capitals or spaces: {shown}."
            notes.append(Note(text, name, (), "nearly-same", sum(count for _, count in group)))
        if labels and (unlabelled := find_texts_not_listed(column, list(labels))):
            text = f"values without a label: {shorten_list(unlabelled, 10)}."
            notes.append(Note(text, name, (), "no-label", len(unlabelled)))
    return notes


def make_table(rows: list[tuple[object, ...]]) -> Table:
    """Return the description as a table."""
    heads = ("column", "type", "missing", "distinct", "values", "label")
    columns = {
        head: Column.of_cells("integer" if head == "distinct" else "string", [row[index] or None for row in rows])
        for index, head in enumerate(heads)
    }
    return Table(columns, name="profile")


def summarize_values(column: Column, labels: Codes, as_labels: bool) -> tuple[int, str]:
    """Return the number of distinct values, and the range or the most frequent values."""
    if column.missing_count == len(column):
        return 0, ""
    if column.type in ("number", "date", "datetime") or (column.type == "integer" and not labels):
        values = column.values if column.why is None else column.values[~column.is_missing]
        distinct = key_codes.find_distinct(values)
        if column.type == "number":
            return len(distinct), f"{distinct[0]:g} to {distinct[-1]:g}"
        low, high = Column.of(column.type, distinct[[0, -1]]).to_text().to_pylist()
        return len(distinct), f"{low} to {high}"
    codes, size = encode_cells(column)
    distinct_count = int(np.count_nonzero(counted_codes(codes, size)))
    if distinct_count > max(20, len(column) // 2):
        rows = np.flatnonzero(codes >= 0)
        return distinct_count, "such as " + ", ".join(column.take(rows[[0, len(rows) // 2]]).to_text().to_pylist())
    _, texts, counts = encode_as_texts(column)
    order = np.argsort(-counts, kind="stable")
    parts = []
    for index in order[:MOST_FREQUENT]:
        label = CodeList(labels).label_of(texts[index])
        text = (label or texts[index]) if as_labels else texts[index] + (f" {label}" if label else "")
        parts.append(f"{text} ({counts[index]:,})")
    return len(texts), ", ".join(parts) + (" …" if len(texts) > MOST_FREQUENT else "")
