"""Findings of a check, rule by rule, with the rows concerned."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

import numpy as np

from lomrix.core.arrays.matching import count_codes, find_first_rows
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import evaluate_condition
from lomrix.core.language.parse import find_choices, find_names, is_by_row, parse
from lomrix.core.nearest import find_nearest_names
from lomrix.core.rows.keys import encode_cells, encode_rows
from lomrix.core.rows.occurrences import BLOCK
from lomrix.core.rows.partitions import split_by_key
from lomrix.core.rows.spells import Spells
from lomrix.core.steps.check.cells import check_texts, check_values, report_strays
from lomrix.core.steps.check.finding import Finding
from lomrix.core.steps.settings import parse_spell
from lomrix.core.table.column import Column
from lomrix.core.table.selection import choose_by_name
from lomrix.core.table.table import Table
from lomrix.core.text.stray import find_stray_cells


def find_all(table: Table, key: tuple[str, ...], case: tuple[str, ...], spell: str = "") -> list[Finding]:
    """Return everything that the rules find, the worst first."""
    findings = [*find_empty_rows(table, key), *check_keys(table, key)]

    without_strays: dict[str, Column] = {}

    def find_in_column(name: str) -> list[Finding]:
        entry, column = table.dictionary.of(name), table[name]
        stray = find_stray_cells(column, entry) if column.type == "string" else None
        result: list[Finding] = []
        if stray is not None:
            # The other cells are checked in any case.
            result = [report_strays(name, stray)]
            without_strays[name] = stray.others
        result += check_texts(name, column, entry, is_key=name in key) if column.type == "string" else []
        column = stray.others if stray is not None else column
        return [*result, *check_values(name, column, entry, table.dictionary)]

    # Columns are independent, and NumPy releases the lock; each takes memory of its own.
    by_column = map_in_threads(find_in_column, table.names, most=2)
    findings += [finding for one in by_column for finding in one]
    findings += find_in_groups(table, key, case, spell)
    findings += check_rules(table, without_strays)
    order = [
        "empty-row",
        "key-missing",
        "key-repeated",
        "key-shape",
        "case-changes",
        "spell-ends-first",
        "spell-overlap",
        "text-in-numbers",
        "text-in-dates",
        "not-whole",
        "not-listed",
        "out-of-range",
    ]
    rank = {rule: index for index, rule in enumerate(order)}
    return sorted(
        findings, key=lambda finding: (not finding.breaks, rank.get(finding.rule, len(order)), -len(finding.rows))
    )


def find_empty_rows(table: Table, key: tuple[str, ...]) -> Iterator[Finding]:
    """Find rows without any value, as a spreadsheet program leaves them at the end of a file."""
    columns = [*table.columns.values()]
    if len(columns) < 2 or not all(column.missing_count for column in columns):
        return
    found = []
    for start in range(0, len(table), BLOCK):
        blocks = (column.slice(start, min(start + BLOCK, len(table))) for column in columns)
        found.append(np.flatnonzero(np.logical_and.reduce([block.is_missing for block in blocks])) + start)
    rows = np.concatenate(found)
    if len(rows):
        yield Finding("empty-row", "", rows, variable=next(iter((*key, *table.names))))


def check_keys(table: Table, key: tuple[str, ...]) -> Iterator[Finding]:
    """Find keys that are missing."""
    for name in key:
        rows = np.flatnonzero(table[name].is_missing)
        if len(rows):
            yield Finding("key-missing", name, rows)


def find_in_groups(table: Table, key: tuple[str, ...], case: tuple[str, ...], spell: str) -> list[Finding]:
    """Find what concerns several rows of a key or a case; of a large table some keys at a time."""
    ends = parse_spell(spell) if spell else ()
    constant = [name for name in table.names if table.dictionary.of(name).level == "case" and name not in case]

    def find_each() -> Iterator[Finding]:
        for rows, some in split_by_key(table, key):
            yield from (place(finding, rows) for finding in check_repeated(some, key))
        for rows, some in split_by_key(table, case, (*constant, *ends)) if constant or ends else ():
            found = [*check_cases(some, case, constant), *(check_spells(some, case, *ends) if ends else ())]
            yield from (place(finding, rows) for finding in found)

    combined: dict[tuple[str, str], Finding] = {}
    for finding in find_each():
        name = finding.rule, finding.column
        combined[name] = combined[name].combine(finding) if name in combined else finding
    order = {name: index for index, name in enumerate(table.names)}
    return sorted(combined.values(), key=lambda finding: order.get(finding.column, -1))


def place(finding: Finding, rows: Array) -> Finding:
    """Return a finding in some rows of a table as one in the table."""
    first_rows = None if finding.first_rows is None else rows[finding.first_rows]
    return replace(finding, rows=rows[finding.rows], first_rows=first_rows)


def check_repeated(table: Table, key: tuple[str, ...]) -> Iterator[Finding]:
    """Find keys that are repeated."""
    codes, size = encode_rows(table, key)
    counts = count_codes(codes, size)
    rows = np.flatnonzero(np.append(counts > 1, False)[codes])
    if len(rows):
        first = find_first_rows(codes, size)[codes[rows]]
        details = {"keys": int(np.count_nonzero(counts > 1))}
        yield Finding("key-repeated", ", ".join(key), rows, details, variable=key[-1], first_rows=first)


def check_spells(table: Table, case: tuple[str, ...], start: str, end: str) -> Iterator[Finding]:
    """Find spells that end before they start, overlap, have no start, or leave a gap."""
    codes, size = encode_rows(table, case)
    spells = Spells(table, start, end, codes, size)
    for rule, column, rows in (
        ("spell-ends-first", end, np.flatnonzero(spells.is_reversed)),
        ("spell-overlap", start, np.sort(spells.overlaps[0])),
        ("spell-start-missing", start, np.flatnonzero(spells.has_no_start)),
        ("spell-gap", start, np.sort(spells.gaps[0])),
    ):
        if len(rows):
            yield Finding(rule, column, rows, {"start": start, "end": end}, breaks=rule != "spell-gap")


def check_cases(table: Table, case: tuple[str, ...], names: Sequence[str]) -> Iterator[Finding]:
    """Find variables of the case that vary within a case."""
    codes, size = encode_rows(table, case) if names else (np.zeros(0, np.int64), 0)
    for name in names:
        rows = find_varying(codes, size, table[name])
        if len(rows):
            yield Finding("case-changes", name, rows, {"case": list(case)})


def find_varying(codes: Array, count: int, column: Column) -> Array:
    """Return the rows of the cases in which a column has several values."""
    codes_of_values, _ = encode_cells(column)
    rows = np.flatnonzero((codes >= 0) & (codes_of_values >= 0))
    first = np.full(count, -1, np.int64)
    first[codes[rows][::-1]] = codes_of_values[rows][::-1]
    differs = np.zeros(count + 1, np.bool_)
    differs[codes[rows][codes_of_values[rows] != first[codes[rows]]]] = True
    return np.flatnonzero(differs[codes])


def check_rules(table: Table, without_strays: Mapping[str, Column]) -> Iterator[Finding]:
    """Check the team's own rules whose columns the table has; stray cells count as missing."""
    table = table.with_columns({**table.columns, **without_strays})
    for name, text in table.dictionary.rules.items():
        missing = find_missing_columns(text, table)
        if missing is not None:
            columns, is_for_other = missing
            details = {"condition": text, "missing_columns": columns}
            none = np.zeros(0, np.int64)
            yield Finding(name, "", none, details, breaks=not is_for_other, is_for_other_file=is_for_other)
            continue
        try:
            rows = find_untrue(text, table)
        except UsageError as error:
            yield Finding(name, "", np.arange(len(table)), {"condition": text, "error": error.what})
            continue
        if len(rows):
            yield Finding(name, "", rows, {"condition": text})


def find_untrue(text: str, table: Table) -> Array:
    """Return the rows for which a condition is false; some rows at a time if others do not matter."""
    size = BLOCK if is_by_row(parse(text)) else max(len(table), 1)
    rows = []
    for start in range(0, max(len(table), 1), size):
        is_true = evaluate_condition(text, table.slice(start, start + size))
        rows.append(start + np.flatnonzero(~is_true.values & ~is_true.is_missing))
    return np.concatenate(rows)


def find_missing_columns(text: str, table: Table) -> tuple[list[str], bool] | None:
    """Return the columns that a rule names and a table lacks, and whether the rule is for another file: the table has
    none of its columns, nor similar names. None if it has all.
    """
    tree = parse(text)
    names = [*find_names(tree), *(choice for choice in find_choices(tree) if "@" not in choice)]
    missing = [name for name in names if choose_by_name(name, table.names) is None]
    if not missing:
        return None
    near = any(find_nearest_names(name, table.names) for name in missing)
    return missing, len(missing) == len(names) and not near


def format_values(column: Column, rows: Array) -> list[str | None]:
    """Return the cells of some rows as text."""
    return list(column.take(rows).to_text().to_pylist()) if len(rows) else []
