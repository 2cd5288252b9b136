"""Findings in the cells of a column: some rows at a time, by what all cells of the column decide."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays.order_statistics import find_quantiles
from lomrix.core.arrays.text_bytes import SPACE, bytes_at, get_buffers, has_byte
from lomrix.core.arrays.types import Array, Mask
from lomrix.core.rows.column_survey import MOST_ENDS, iterate_blocks, iterate_values
from lomrix.core.steps.check.finding import Finding
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.distinct import FEW, find_not_listed
from lomrix.core.table.missing_guess import LEAST_OTHERS, guess_missing_codes, is_usual_code
from lomrix.core.table.numbers import Type
from lomrix.core.table.variable import Variable
from lomrix.core.text.similarity import find_similarity
from lomrix.core.text.stray import StrayCells

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
NO_DETAILS: Mapping[str, Any] = {}


class FoundRows:
    """The rows that rules find, rule by rule and block by block."""

    def __init__(self) -> None:
        self.rows: dict[tuple[str, int | None], list[Array]] = defaultdict(list)

    def add(self, rule: str, start: int, rows: Array, code: int | None = None) -> None:
        """Add rows of a block; of missing codes those of one code."""
        if len(rows):
            self.rows[rule, code].append(rows + start)

    def report(
        self, rule: str, column: str, details: Mapping[str, Any] = NO_DETAILS, *, breaks: bool = True
    ) -> Iterator[Finding]:
        """Yield what a rule found in all blocks, if anything."""
        rows = self.rows.get((rule, details.get("code")))
        if rows:
            yield Finding(rule, column, np.concatenate(rows), details, breaks)


# --------------------------------------------------------------------- values


def check_values(name: str, column: Column, entry: Variable, dictionary: Dictionary) -> Iterator[Finding]:
    """Check the values of one column."""
    labels = dictionary.labels_of(name)
    listed, found = [*entry.allowed, *labels], FoundRows()
    if column.type == "string":
        for start, block in iterate_texts(column) if listed else ():
            found.add("not-listed", start, find_not_listed(block, listed))
        yield from found.report("not-listed", name, {"values": listed})
        return
    is_measure = column.type != "boolean" and not listed
    codes = guess_missing_codes(choose_ends(column), entry, labels) if is_measure else []
    usual = Usual.of(column) if is_measure else None
    for start, block in iterate_blocks(column):
        unlisted = find_not_listed(block, listed) if listed else np.zeros(0, np.int64)
        outside = find_out_of_range(block, entry)
        outside[unlisted] = False
        is_far = usual.find_far(block) & ~outside if usual is not None else outside & False
        for code in codes:
            is_code = (block.values == code) & ~block.is_missing
            is_far &= ~is_code
            found.add("missing-code", start, np.flatnonzero(is_code), code)
        found.add("not-listed", start, unlisted)
        found.add("out-of-range", start, np.flatnonzero(outside))
        found.add("far-from-others", start, np.flatnonzero(is_far))
    limits = {"minimum": entry.minimum, "maximum": entry.maximum}
    yield from found.report("not-listed", name, {"values": listed})
    yield from found.report("out-of-range", name, {end: limit for end, limit in limits.items() if limit is not None})
    for code in codes:
        yield from found.report("missing-code", name, {"code": code}, breaks=False)
    if usual is not None:
        yield from found.report("far-from-others", name, usual.describe(column.type), breaks=False)
    if column.type == "number":
        yield from check_decimals(name, column, entry)


def check_decimals(name: str, column: Column, entry: Variable) -> Iterator[Finding]:
    """Find decimals where whole numbers are declared, or usual."""
    found, count = FoundRows(), 0
    rule = "not-whole" if entry.type == "integer" else "mixed-decimals"
    most = FEW * (len(column) - column.missing_count) if rule == "mixed-decimals" else len(column)
    for start, block in iterate_blocks(column):
        rows = np.flatnonzero(~block.is_missing & (block.values != np.floor(block.values)))
        found.add(rule, start, rows)
        count += len(rows)
        if count > most:
            return
    yield from found.report(rule, name, breaks=rule == "not-whole")


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


def choose_ends(column: Column) -> Column:
    """Return the lowest and highest values that could be missing codes, each as often as it matters; none if neither
    the lowest nor the highest is a usual code.
    """
    kept = np.zeros(0, column.values.dtype)
    is_number = column.type in ("integer", "number")
    ends = [
        end for values in iterate_values(column) if is_number and len(values) for end in (values.min(), values.max())
    ]
    if ends and (is_usual_code(min(ends)) or is_usual_code(max(ends))):
        for values in iterate_values(column):
            distinct, counts = np.unique(np.concatenate([kept, values]), return_counts=True)
            if len(distinct) > 2 * MOST_ENDS:
                distinct, counts = (np.append(each[:MOST_ENDS], each[-MOST_ENDS:]) for each in (distinct, counts))
            kept = np.repeat(distinct, np.minimum(counts, LEAST_OTHERS))
    return Column.of(column.type, kept)


@dataclass
class Usual:
    """The fences of a column, beyond which values are far from the others, and the values between them.

    References
    ----------
    J. W. Tukey, "Exploratory Data Analysis" (Addison-Wesley, 1977), section 2D: values more than three times the
    distance of the quartiles beyond a quartile are "far out". Where all values are positive they must be so among
    the logarithms too, since a long tail to the right is usual in times, counts and blood values.
    """

    fences: tuple[float, float]
    fences_of_logarithms: tuple[float, float] | None
    ends: list[Array] = field(default_factory=list)  # the lowest and highest usual value of each block

    @classmethod
    def of(cls, column: Column) -> Usual | None:
        """Find the fences of a column; None if nothing can be far out: few values, or equal quartiles."""
        count = len(column) - column.missing_count
        if count < LEAST_VALUES:
            return None
        is_positive = min(values.min() for values in iterate_values(column) if len(values)) > 0
        scales = [np.asarray, np.log] if is_positive and column.type not in ("date", "datetime") else [np.asarray]
        fences = []
        for first, third in find_quantiles(lambda: iterate_values(column), count, (0.25, 0.75), *scales):
            if first == third:
                return None
            reach = FENCE * (third - first)
            fences.append((first - reach, third + reach))
        return cls(fences[0], fences[1] if len(fences) > 1 else None)

    def find_far(self, block: Column) -> Mask:
        """Return True for the cells beyond the fences."""
        is_present = ~block.is_missing
        values = block.values[is_present]
        numbers = values.astype(np.int64) if values.dtype.kind == "M" else values
        beyond = is_beyond(numbers, self.fences)
        if self.fences_of_logarithms is not None and beyond.any():
            beyond &= is_beyond(np.log(numbers), self.fences_of_logarithms)
        if not beyond.all():
            usual = values[~beyond] if beyond.any() else values
            self.ends.append(np.array([usual.min(), usual.max()]))
        result = np.zeros(len(block), np.bool_)
        result[is_present] = beyond
        return result

    def describe(self, type_: Type) -> dict[str, str | None]:
        """Return the lowest and the highest usual value of the blocks that were looked at, as text."""
        values = np.concatenate(self.ends)  # the quartiles are usual, so that there is one
        low, high = Column.of(type_, np.array([values.min(), values.max()])).to_text().to_pylist()
        return {"minimum": low, "maximum": high}


def is_beyond(values: Array, fences: tuple[float, float]) -> Mask:
    """Return True beyond the fences."""
    return np.asarray((values < fences[0]) | (values > fences[1]))


# ---------------------------------------------------------------------- texts


def report_strays(name: str, stray: StrayCells) -> Finding:
    """Report cells that are unlike the others."""
    rule = "text-in-numbers" if stray.type in ("number", "integer") else "text-in-dates"
    return Finding(rule, name, np.flatnonzero(stray.cells), {"type": stray.type})


def iterate_texts(column: Column) -> Iterator[tuple[int, Column]]:
    """Yield the texts some rows at a time, with the first row of each block; all rows if they share a pool."""
    return iterate_blocks(column) if column.stored is None else iter([(0, column)])


def find_texts(column: Column, find: Callable[[pa.Array], Mask]) -> Array:
    """Return the rows whose text is found."""
    rows = []
    for start, block in iterate_texts(column):
        is_found = find(block.strings.strings)
        if is_found.any():
            rows.append(start + np.flatnonzero(np.append(is_found, False)[block.values]))
    return np.concatenate(rows) if rows else np.zeros(0, np.int64)


def check_texts(name: str, column: Column, entry: Variable, *, is_key: bool) -> Iterator[Finding]:
    """Find spaces around texts, keys of another shape, and what a text resembles."""
    if not is_key:
        sample = column.take(np.arange(min(len(column), TEXT_SAMPLE))).to_arrow().to_pylist()
        similarity = find_similarity(name, Counter(text for text in sample if text is not None))
        # The form of its dates is already known.
        if similarity is not None and not (similarity.kind == "unclear-date" and entry.form):
            rows = find_texts(column, similarity.cells)
            yield Finding(similarity.kind, name, rows, {"advice": similarity.text}, breaks=False)
    with_spaces = find_texts(column, are_in_spaces)
    if len(with_spaces):
        yield Finding("spaces-around", name, with_spaces)
    if is_key and (shape := find_shape(column)):
        odd = find_texts(column, partial(have_other_shape, shape=shape))
        if len(odd) <= (1 - ONE_SHAPE) * (len(column) - column.missing_count):
            odd = np.setdiff1d(odd, with_spaces)
            if len(odd):
                yield Finding("key-shape", name, odd, {"shape": shape.decode("latin-1")})


def are_in_spaces(strings: pa.Array) -> Mask:
    """Return True for texts that begin or end with a space."""
    if not has_byte(strings, b" "):
        return np.zeros(len(strings), np.bool_)
    return np.asarray((bytes_at(strings, 0) == SPACE) | (bytes_at(strings, -1) == SPACE))


def find_shape(column: Column) -> bytes:
    """Return the shape of most texts, digits as 0 and letters as A: the most frequent length, and at each of its
    positions the most frequent kind of the first texts; empty if there is none.
    """
    lengths = np.zeros(LONGEST + 1, np.int64)
    for _, block in iterate_texts(column):
        lengths += np.bincount(np.minimum(measure(block.strings.strings), LONGEST), minlength=LONGEST + 1)
    lengths[0] = 0
    usual = int(lengths.argmax())
    if not lengths.any() or usual == LONGEST:
        return b""
    first = np.zeros((0, usual), np.uint8)
    for _, block in iterate_texts(column):
        starts, raw = get_buffers(block.strings.strings)
        same = np.flatnonzero(measure(block.strings.strings) == usual)[: SHAPE_SAMPLE - len(first)]
        first = np.concatenate([first, CHARACTER_KINDS[raw[starts[same][:, None] + np.arange(usual)]]])
        if len(first) == SHAPE_SAMPLE:
            break
    return bytes(int(np.bincount(kinds).argmax()) for kinds in first.T)


def have_other_shape(strings: pa.Array, shape: bytes) -> Mask:
    """Return True for texts of another shape; blank ones are not."""
    starts, raw = get_buffers(strings)
    lengths = measure(strings)
    same, result = np.flatnonzero(lengths == len(shape)), (lengths > 0) & (lengths != len(shape))
    for position, kind in enumerate(shape):
        result[same[CHARACTER_KINDS[raw[starts[same] + position]] != kind]] = True
    return np.asarray(result)


def measure(strings: pa.Array) -> Array:
    """Return the bytes of each text."""
    return np.asarray(np.diff(get_buffers(strings)[0]))


def list_character_kinds() -> npt.NDArray[np.uint8]:
    """Return for each byte its kind in a shape: digits are 0, letters A, others themselves."""
    kinds = np.arange(256, dtype=np.uint8)
    for first, last, kind in ((48, 57, "0"), (65, 90, "A"), (97, 122, "A"), (128, 255, "A")):
        kinds[first : last + 1] = ord(kind)
    return kinds


CHARACTER_KINDS = list_character_kinds()
