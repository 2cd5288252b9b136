"""Findings: what a check found, rule by rule, with the rows concerned."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import counted
from lomrix.core.arrays.statistics import quantiles
from lomrix.core.arrays.text_bytes import SPACE, bytes_at, has_byte, offsets_and_data
from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.language.evaluate import condition
from lomrix.core.language.parse import choices_used, names_used, parsed
from lomrix.core.nearest import nearest
from lomrix.core.rows.keys import row_codes, unordered_codes
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.distinct import mixed_decimals, not_listed
from lomrix.core.table.missing_guess import likely_missing_codes
from lomrix.core.table.notes import plural
from lomrix.core.table.selection import columns_by_name
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.core.text.resemblance import resemblance
from lomrix.core.text.stray import StrayCells, stray_cells
from lomrix.core.wording import some_of

# Outer fences stand this many quartile distances beyond the quartiles.
FENCE = 3.0
LEAST_VALUES = 12
# Keys of another shape are told where at least this share of the keys has one shape.
ONE_SHAPE = 0.9
# Texts from this length on are no keys that have a shape.
LONGEST = 64
SHAPE_SAMPLE = 10_000
# So many cells tell what a column of text resembles.
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
    text
        What was expected, in words.
    breaks
        Whether a rule is broken; else it is only worth a look.
    variable
        The column whose cells are to be mended, where that is not `column`.
    shape
        What most keys look like.
    of_numbers
        Whether the other cells are numbers.
    is_elsewhere
        Whether it is a rule for another file, which the table has no column of.
    """

    rule: str
    column: str
    rows: Array
    text: str
    breaks: bool = True
    variable: str = ""
    shape: str = ""
    of_numbers: bool = True
    is_elsewhere: bool = False


def all_findings(table: Table, key: tuple[str, ...], case: tuple[str, ...]) -> list[Finding]:
    """Everything that the rules find, the worst first."""
    found = [*key_findings(table, key)]

    judged: dict[str, Column] = {}

    def of_column(name: str) -> list[Finding]:
        entry, column = table.dictionary.of(name), table[name]
        stray = stray_cells(column, entry) if column.type == "string" else None
        told: list[Finding] = []
        if stray is not None:
            # What can be judged is judged, whatever stands in the cells beside it.
            told = [stray_finding(name, stray)]
            judged[name] = stray.others
        told += text_findings(name, column, entry, is_key=name in key) if column.type == "string" else []
        column = stray.others if stray is not None else column
        return [*told, *column_findings(name, column, entry, table.dictionary)]

    # Columns are independent, and arrays leave the other processor free.
    with ThreadPoolExecutor() as workers:
        found += [finding for one in workers.map(of_column, table.names) for finding in one]
    found += case_findings(table, case)
    found += own_rules(table, judged)
    order = [
        "key-missing",
        "key-repeated",
        "key-shape",
        "case-changes",
        "text-in-numbers",
        "text-in-dates",
        "not-whole",
        "not-listed",
        "out-of-range",
    ]
    place = {rule: at for at, rule in enumerate(order)}
    return sorted(found, key=lambda one: (not one.breaks, place.get(one.rule, len(order)), -len(one.rows)))


def key_findings(table: Table, key: tuple[str, ...]) -> Iterator[Finding]:
    """Keys that are missing or stand in several rows."""
    if not key:
        return
    codes, size = row_codes(table, key)
    name = ", ".join(key)
    for one in key:
        gone = np.flatnonzero(table[one].is_missing)
        if len(gone):
            yield Finding("key-missing", one, gone, "every row has a key")
    counts = counted(codes, size)
    rows = np.flatnonzero(np.append(counts > 1, False)[codes])
    if len(rows):
        keys = int(np.count_nonzero(counts > 1))
        yield Finding(
            "key-repeated",
            name,
            rows,
            f"each key stands once; {keys:,} {plural(keys, 'does', 'do')} not",
            variable=key[-1],
        )


def column_findings(name: str, column: Column, entry: Variable, dictionary: Dictionary) -> Iterator[Finding]:
    """What the values of one column show."""
    listed = [*entry.allowed, *dictionary.labels_of(name)]
    unlisted = np.zeros(0, np.int64)
    if listed:
        rows = unlisted = not_listed(column, listed)
        if len(rows):
            yield Finding("not-listed", name, rows, f"one of {some_of(listed, 8)}")
    if column.type == "string":
        return
    outside = out_of_range(column, entry)
    outside[unlisted] = False
    if outside.any():
        low, high = entry.minimum, entry.maximum
        span = (
            f"{low} to {high}"
            if low is not None and high is not None
            else f"from {low}"
            if high is None
            else f"to {high}"
        )
        yield Finding("out-of-range", name, np.flatnonzero(outside), span)
    if column.type in ("number", "integer", "date", "datetime") and not listed:
        far, fences = far_out(column)
        far &= ~outside
        codes = likely_missing_codes(column, entry, dictionary.labels_of(name))
        for code in codes:
            rows = np.flatnonzero((column.values == code) & ~column.is_missing)
            far[rows] = False
            words = f"{code} stands apart from all others and looks like a missing code"
            yield Finding("missing-code", name, rows, words, breaks=False)
        if far.any():
            yield Finding("far-from-others", name, np.flatnonzero(far), f"most lie within {fences}", breaks=False)
    if column.type == "number":
        rows = mixed_decimals(column)
        if entry.type == "integer":
            odd = ~column.is_missing & (column.values != np.floor(column.values))
            yield from [Finding("not-whole", name, np.flatnonzero(odd), "whole numbers")] if odd.any() else []
        elif len(rows):
            yield Finding("mixed-decimals", name, rows, "all others are whole numbers", breaks=False)


def stray_finding(name: str, stray: StrayCells) -> Finding:
    """Cells that are not like the others."""
    of_numbers = stray.type in ("number", "integer")
    words = "numbers" if of_numbers else f"{stray.type}s"
    return Finding(
        "text-in-numbers" if of_numbers else "text-in-dates", name, np.flatnonzero(stray.cells),
        f"the other cells are {words}", of_numbers=of_numbers,
    )  # fmt: skip


def text_findings(name: str, column: Column, entry: Variable, *, is_key: bool) -> Iterator[Finding]:
    """Blanks around texts, keys of another shape, and what a text resembles."""
    if not is_key:
        sample = column.take(np.arange(min(len(column), TEXT_SAMPLE))).to_arrow().to_pylist()
        found = resemblance(name, Counter(text for text in sample if text is not None))
        # How its dates are written was said already.
        if found is not None and not (found.kind == "unclear-date" and entry.form):
            yield Finding(found.kind, name, np.flatnonzero(found.cells(column.to_arrow())), found.text, breaks=False)
    around = blanks_around(column)
    if len(around):
        yield Finding("blanks-around", name, around, "no blank before or after the text")
    if is_key:
        odd, shape = odd_shapes(column)
        odd = np.setdiff1d(odd, around)
        if len(odd):
            yield Finding("key-shape", name, odd, f"most keys look like {shape}", shape=shape)


def blanks_around(column: Column) -> Array:
    """Rows whose text begins or ends with a blank."""
    strings = column.strings.strings
    if not has_byte(strings, b" "):
        return np.zeros(0, np.int64)
    there = (bytes_at(strings, 0) == SPACE) | (bytes_at(strings, -1) == SPACE)
    if not there.any():
        return np.zeros(0, np.int64)
    return np.flatnonzero(np.append(there, False)[column.values])


def odd_shapes(column: Column) -> tuple[Array, str]:
    """Rows whose text has another shape than nearly all others (digits as 0, letters as A), and that shape."""
    nothing = np.zeros(0, np.int64), ""
    if column.strings.shaped() is not None:
        return nothing
    strings = column.strings.strings
    starts, raw = offsets_and_data(strings)
    lengths = np.diff(starts)
    valid = np.flatnonzero(lengths > 0)
    if not len(valid):
        return nothing
    usual = int(np.bincount(np.minimum(lengths[valid], LONGEST)).argmax())
    if usual >= LONGEST:
        return nothing
    same = valid[lengths[valid] == usual]
    # One look at each place of the keys of the usual length; the shape is that of the commonest sign there.
    odd = np.ones(len(strings), np.bool_)
    odd[same] = False
    odd[lengths == 0] = False
    if len(same) == len(strings):
        signs = raw[starts[0] : starts[-1]].reshape(len(strings), usual)
    else:
        signs = raw[starts[same][:, None] + np.arange(usual)]
    shape = bytearray()
    for place in range(usual):
        kinds = KINDS_OF_SIGNS[signs[:, place]]
        commonest = int(np.bincount(kinds[:SHAPE_SAMPLE]).argmax())
        odd[same[kinds != commonest]] = True
        shape.append(commonest)
    rows = np.flatnonzero(odd if column.stored is None else np.append(odd, False)[column.values])
    present = len(column) - column.missing_count
    return (rows, shape.decode("latin-1")) if len(rows) <= (1 - ONE_SHAPE) * present else nothing


def kinds_of_signs() -> npt.NDArray[np.uint8]:
    """For each byte what stands for it in a shape: digits are 0, letters A, other signs themselves."""
    kinds = np.arange(256, dtype=np.uint8)
    for first, last, sign in ((48, 57, "0"), (65, 90, "A"), (97, 122, "A"), (128, 255, "A")):
        kinds[first : last + 1] = ord(sign)
    return kinds


KINDS_OF_SIGNS = kinds_of_signs()


def out_of_range(column: Column, entry: Variable) -> npt.NDArray[np.bool_]:
    """True for the cells outside minimum and maximum."""
    outside = np.zeros(len(column), np.bool_)
    is_time = column.type in ("date", "datetime")
    for bound, beyond in ((entry.minimum, np.less), (entry.maximum, np.greater)):
        if bound is None or is_time == isinstance(bound, int | float) or column.type == "boolean":
            continue
        limit: Any = np.datetime64(str(bound)) if is_time else bound
        outside |= ~column.is_missing & beyond(column.values, limit)
    return outside


def far_out(column: Column) -> tuple[npt.NDArray[np.bool_], str]:
    """Cells beyond the outer fences, and the fences in words.

    References
    ----------
    J. W. Tukey, "Exploratory Data Analysis" (Addison-Wesley, 1977), section 2D: values more than three times the
    distance of the quartiles beyond a quartile are "far out". Where all values are positive they must be so among
    the logarithms too, since a long tail to the right is usual in times, counts and blood values.
    """
    nothing = np.zeros(len(column), np.bool_)
    is_time = column.type in ("date", "datetime")
    present = None if column.why is None else ~column.is_missing
    values = column.values if present is None else column.values[present]
    values = values.astype(np.int64) if is_time else values
    if len(values) < LEAST_VALUES:
        return nothing, ""
    beyond = beyond_fences(values)
    if beyond.any() and not is_time and values.min() > 0:
        beyond &= beyond_fences(np.log(values))
    if not beyond.any():
        return nothing, ""
    inside = column.values[~column.is_missing][~beyond]
    nothing[~column.is_missing] = beyond
    return nothing, f"{inside.min()} to {inside.max()}"


def beyond_fences(values: Array) -> npt.NDArray[np.bool_]:
    """True beyond the outer fences; nothing is beyond where the quartiles are equal."""
    first, third = quantiles(values, (0.25, 0.75))
    if first == third:
        return np.zeros(len(values), np.bool_)
    reach = FENCE * (third - first)
    return np.asarray((values < first - reach) | (values > third + reach))


def case_findings(table: Table, case: tuple[str, ...]) -> Iterator[Finding]:
    """Variables of the case that change from row to row of one case."""
    if not case:
        return
    names = [name for name in table.names if table.dictionary.of(name).level == "case" and name not in case]
    codes, size = row_codes(table, case) if names else (np.zeros(0, np.int64), 0)
    for name in names:
        rows = changing(codes, size, table[name])
        if len(rows):
            yield Finding("case-changes", name, rows, f"one value for each {', '.join(case)}")


def changing(codes: Array, count: int, column: Column) -> Array:
    """Rows of the cases in which a column has several values."""
    places, _ = unordered_codes(column)
    rows = np.flatnonzero((codes >= 0) & (places >= 0))
    first = np.full(count, -1, np.int64)
    first[codes[rows][::-1]] = places[rows][::-1]
    differs = np.zeros(count + 1, np.bool_)
    differs[codes[rows][places[rows] != first[codes[rows]]]] = True
    return np.flatnonzero(differs[codes])


def own_rules(table: Table, judged: Mapping[str, Column]) -> Iterator[Finding]:
    """The team's own rules, as far as the table has their columns; stray cells count as missing in them."""
    table = table.with_columns({**table.columns, **judged})
    for name, text in table.dictionary.rules.items():
        lacking = lacking_columns(text, table)
        if lacking is not None:
            words, is_elsewhere = lacking
            told = f"{text} (not judged: no column {words})"
            yield Finding(name, "", np.zeros(0, np.int64), told, not is_elsewhere, is_elsewhere=is_elsewhere)
            continue
        try:
            true = condition(text, table)
        except UsageError as error:
            yield Finding(name, "", np.arange(len(table)), f"{text} (cannot be judged: {error.what})")
            continue
        rows = np.flatnonzero(~true.values & ~true.is_missing)
        if len(rows):
            yield Finding(name, "", rows, text)


def lacking_columns(text: str, table: Table) -> tuple[str, bool] | None:
    """The columns that a rule names and a table lacks; None where it has all.

    Returns
    -------
    The columns in words, and whether the rule is one for another file: the table has none of its columns, nor one of a
    name like theirs.
    """
    tree = parsed(text)
    names = [*names_used(tree), *(words for words in choices_used(tree) if "@" not in words)]
    lacking = [name for name in names if columns_by_name(name, table.names) is None]
    if not lacking:
        return None
    near = any(nearest(name, table.names) for name in lacking)
    return ", ".join(lacking), len(lacking) == len(names) and not near


def value_texts(column: Column, rows: Array) -> list[str | None]:
    """The cells of some rows as text."""
    return list(column.take(rows).to_text().to_pylist()) if len(rows) else []
