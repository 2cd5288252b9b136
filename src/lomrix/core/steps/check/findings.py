"""Findings of a check, rule by rule, with the rows concerned."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import count_codes
from lomrix.core.arrays.statistics import quantiles
from lomrix.core.arrays.text_bytes import SPACE, bytes_at, get_buffers, has_byte
from lomrix.core.arrays.threads import map_in_threads
from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import evaluate_condition
from lomrix.core.language.parse import find_choices, find_names, parse
from lomrix.core.nearest import find_nearest_names
from lomrix.core.rows.keys import encode_cells, encode_rows
from lomrix.core.rows.spells import Spells
from lomrix.core.steps.settings import parse_spell
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.distinct import find_mixed_decimals, find_not_listed
from lomrix.core.table.missing_guess import guess_missing_codes
from lomrix.core.table.selection import choose_by_name
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.text.similarity import find_similarity
from lomrix.core.text.stray import StrayCells, find_stray_cells

# Outer fences are this many interquartile ranges beyond the quartiles.
FENCE = 3.0
LEAST_VALUES = 12
# Keys of another shape are reported if at least this share of the keys has one shape.
ONE_SHAPE = 0.9
# Longer texts are not keys with a shape.
LONGEST = 64
SHAPE_SAMPLE = 10_000
# Cells sampled to see what a column of text resembles.
TEXT_SAMPLE = 1_500


@dataclass(frozen=True)
class Finding:
    """One rule that some cells break, or that makes them worth a look.

    Parameters
    ----------
    rule
        The rule's word.
    column
        The column concerned; empty for a rule over the row.
    rows
        Row numbers concerned, counted from 0.
    details
        What was expected, as plain values; `check.wording` puts it into words.
    breaks
        Whether a rule is broken; else it is only worth a look.
    variable
        The column whose cells are to be mended, where that is not `column`.
    is_for_other_file
        Whether it is a rule for another file, which the table has no column of.
    first_rows
        For repeated keys, the first row with the key of each row.
    """

    rule: str
    column: str
    rows: Array
    details: Mapping[str, Any] = field(default_factory=dict)
    breaks: bool = True
    variable: str = ""
    is_for_other_file: bool = False
    first_rows: Array | None = None


def find_all(table: Table, key: tuple[str, ...], case: tuple[str, ...], spell: str = "") -> list[Finding]:
    """Return everything that the rules find, the worst first."""
    findings = [*check_keys(table, key)]

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
    findings += check_cases(table, case)
    findings += check_spells(table, case, *parse_spell(spell)) if spell else []
    findings += check_rules(table, without_strays)
    order = [
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


def check_keys(table: Table, key: tuple[str, ...]) -> Iterator[Finding]:
    """Find keys that are missing or repeated."""
    if not key:
        return
    codes, size = encode_rows(table, key)
    name = ", ".join(key)
    for key_column in key:
        missing_rows = np.flatnonzero(table[key_column].is_missing)
        if len(missing_rows):
            yield Finding("key-missing", key_column, missing_rows)
    counts = count_codes(codes, size)
    rows = np.flatnonzero(np.append(counts > 1, False)[codes])
    if len(rows):
        keys = int(np.count_nonzero(counts > 1))
        first = np.zeros(size, np.int64)
        first[codes[rows[::-1]]] = rows[::-1]
        first_rows = first[codes[rows]]
        yield Finding("key-repeated", name, rows, {"keys": keys}, variable=key[-1], first_rows=first_rows)


def check_values(name: str, column: Column, entry: Variable, dictionary: Dictionary) -> Iterator[Finding]:
    """Check the values of one column."""
    listed = [*entry.allowed, *dictionary.labels_of(name)]
    unlisted = find_not_listed(column, listed) if listed else np.zeros(0, np.int64)
    if len(unlisted):
        yield Finding("not-listed", name, unlisted, {"values": listed})
    if column.type == "string":
        return
    outside = find_out_of_range(column, entry)
    outside[unlisted] = False
    if outside.any():
        limits = {"minimum": entry.minimum, "maximum": entry.maximum}
        details = {end: limit for end, limit in limits.items() if limit is not None}
        yield Finding("out-of-range", name, np.flatnonzero(outside), details)
    if column.type != "boolean" and not listed:
        codes = guess_missing_codes(column, entry, dictionary.labels_of(name))
        yield from find_unusual(name, column, outside, codes)
    if column.type == "number":
        yield from check_decimals(name, column, entry)


def find_unusual(name: str, column: Column, outside: npt.NDArray[np.bool_], codes: Sequence[int]) -> Iterator[Finding]:
    """Find values that look like missing codes, and others that are far from most."""
    is_far, usual = find_far_out(column)
    is_far &= ~outside
    for code in codes:
        rows = np.flatnonzero((column.values == code) & ~column.is_missing)
        is_far[rows] = False
        yield Finding("missing-code", name, rows, {"code": code}, breaks=False)
    if is_far.any():
        yield Finding("far-from-others", name, np.flatnonzero(is_far), usual, breaks=False)


def check_decimals(name: str, column: Column, entry: Variable) -> Iterator[Finding]:
    """Find decimals where whole numbers are declared, or usual."""
    if entry.type == "integer":
        finding = Finding(
            "not-whole", name, np.flatnonzero(~column.is_missing & (column.values != np.floor(column.values)))
        )
    else:
        finding = Finding("mixed-decimals", name, find_mixed_decimals(column), breaks=False)
    if len(finding.rows):
        yield finding


def report_strays(name: str, stray: StrayCells) -> Finding:
    """Report cells that are unlike the others."""
    rule = "text-in-numbers" if stray.type in ("number", "integer") else "text-in-dates"
    return Finding(rule, name, np.flatnonzero(stray.cells), {"type": stray.type})


def check_texts(name: str, column: Column, entry: Variable, *, is_key: bool) -> Iterator[Finding]:
    """Find spaces around texts, keys of another shape, and what a text resembles."""
    if not is_key:
        sample = column.take(np.arange(min(len(column), TEXT_SAMPLE))).to_arrow().to_pylist()
        similarity = find_similarity(name, Counter(text for text in sample if text is not None))
        # The form of its dates is already known.
        if similarity is not None and not (similarity.kind == "unclear-date" and entry.form):
            rows = np.flatnonzero(similarity.cells(column.to_arrow()))
            yield Finding(similarity.kind, name, rows, {"advice": similarity.text}, breaks=False)
    with_spaces = find_surrounding_spaces(column)
    if len(with_spaces):
        yield Finding("spaces-around", name, with_spaces)
    if is_key:
        odd, shape = find_odd_shapes(column)
        odd = np.setdiff1d(odd, with_spaces)
        if len(odd):
            yield Finding("key-shape", name, odd, {"shape": shape})


def find_surrounding_spaces(column: Column) -> Array:
    """Return the rows whose text begins or ends with a space."""
    strings = column.strings.strings
    if not has_byte(strings, b" "):
        return np.zeros(0, np.int64)
    has_space = (bytes_at(strings, 0) == SPACE) | (bytes_at(strings, -1) == SPACE)
    if not has_space.any():
        return np.zeros(0, np.int64)
    return np.flatnonzero(np.append(has_space, False)[column.values])


def find_odd_shapes(column: Column) -> tuple[Array, str]:
    """Return the rows whose text is unlike nearly all others (digits as 0, letters as A), and their shape."""
    none = np.zeros(0, np.int64), ""
    if column.strings.shaped() is not None:
        return none
    strings = column.strings.strings
    starts, raw = get_buffers(strings)
    lengths = np.diff(starts)
    valid = np.flatnonzero(lengths > 0)
    if not len(valid):
        return none
    usual = int(np.bincount(np.minimum(lengths[valid], LONGEST)).argmax())
    if usual >= LONGEST:
        return none
    same = valid[lengths[valid] == usual]
    # Go through the positions of keys of the usual length; the shape takes the most frequent kind at each.
    odd = np.ones(len(strings), np.bool_)
    odd[same] = False
    odd[lengths == 0] = False
    if len(same) == len(strings):
        characters = raw[starts[0] : starts[-1]].reshape(len(strings), usual)
    else:
        characters = raw[starts[same][:, None] + np.arange(usual)]
    shape = bytearray()
    for position in range(usual):
        kinds = CHARACTER_KINDS[characters[:, position]]
        usual_kind = int(np.bincount(kinds[:SHAPE_SAMPLE]).argmax())
        odd[same[kinds != usual_kind]] = True
        shape.append(usual_kind)
    rows = np.flatnonzero(odd if column.stored is None else np.append(odd, False)[column.values])
    present = len(column) - column.missing_count
    return (rows, shape.decode("latin-1")) if len(rows) <= (1 - ONE_SHAPE) * present else none


def list_character_kinds() -> npt.NDArray[np.uint8]:
    """Return for each byte its kind in a shape: digits are 0, letters A, others themselves."""
    kinds = np.arange(256, dtype=np.uint8)
    for first, last, kind in ((48, 57, "0"), (65, 90, "A"), (97, 122, "A"), (128, 255, "A")):
        kinds[first : last + 1] = ord(kind)
    return kinds


CHARACTER_KINDS = list_character_kinds()


def find_out_of_range(column: Column, entry: Variable) -> npt.NDArray[np.bool_]:
    """Return True for the cells outside minimum and maximum."""
    outside = np.zeros(len(column), np.bool_)
    is_time = column.type in ("date", "datetime")
    for bound, is_beyond in ((entry.minimum, np.less), (entry.maximum, np.greater)):
        if bound is None or is_time == isinstance(bound, int | float) or column.type == "boolean":
            continue
        limit: Any = np.datetime64(str(bound)) if is_time else bound
        outside |= ~column.is_missing & is_beyond(column.values, limit)
    return outside


def find_far_out(column: Column) -> tuple[npt.NDArray[np.bool_], dict[str, str | None]]:
    """Return True for cells beyond the outer fences, and minimum and maximum of the others as text.

    References
    ----------
    J. W. Tukey, "Exploratory Data Analysis" (Addison-Wesley, 1977), section 2D: values more than three times the
    distance of the quartiles beyond a quartile are "far out". Where all values are positive they must be so among
    the logarithms too, since a long tail to the right is usual in times, counts and blood values.
    """
    result = np.zeros(len(column), np.bool_)
    is_time = column.type in ("date", "datetime")
    present = None if column.why is None else ~column.is_missing
    values = column.values if present is None else column.values[present]
    values = values.astype(np.int64) if is_time else values
    if len(values) < LEAST_VALUES:
        return result, {}
    beyond = is_beyond_fences(values)
    if beyond.any() and not is_time and values.min() > 0:
        beyond &= is_beyond_fences(np.log(values))
    if not beyond.any():
        return result, {}
    result[slice(None) if present is None else present] = beyond
    ends = values.min(where=~beyond, initial=values.max()), values.max(where=~beyond, initial=values.min())
    low, high = Column.of(column.type, np.array(ends).astype(column.values.dtype)).to_text().to_pylist()
    return result, {"minimum": low, "maximum": high}


def is_beyond_fences(values: Array) -> npt.NDArray[np.bool_]:
    """Return True beyond the outer fences; nothing is beyond if the quartiles are equal."""
    first, third = quantiles(values, (0.25, 0.75))
    if first == third:
        return np.zeros(len(values), np.bool_)
    reach = FENCE * (third - first)
    return np.asarray((values < first - reach) | (values > third + reach))


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


def check_cases(table: Table, case: tuple[str, ...]) -> Iterator[Finding]:
    """Find variables of the case that vary within a case."""
    if not case:
        return
    names = [name for name in table.names if table.dictionary.of(name).level == "case" and name not in case]
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
            is_true = evaluate_condition(text, table)
        except UsageError as error:
            yield Finding(name, "", np.arange(len(table)), {"condition": text, "error": error.what})
            continue
        rows = np.flatnonzero(~is_true.values & ~is_true.is_missing)
        if len(rows):
            yield Finding(name, "", rows, {"condition": text})


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
