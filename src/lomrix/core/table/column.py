"""Column: values of one type, and for each missing cell the reason."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.combining import PartsDifferError
from lomrix.core.errors import DataError
from lomrix.core.table.numbers import Type
from lomrix.core.table.pool import Pool, chain_pools
from lomrix.core.table.reasons import BLANK, MOST_REASONS, Why, join_reasons, renumber_why

# From this many rows on it pays to sample how often strings repeat.
LARGE = 10_000
# Up to this many reasons are counted one by one, which is faster.
FEW_REASONS = 6

DTYPES: dict[Type, np.dtype[Any]] = {
    "integer": np.dtype(np.int64),
    "number": np.dtype(np.float64),
    "string": np.dtype(np.int32),
    "date": np.dtype("datetime64[D]"),
    "datetime": np.dtype("datetime64[us]"),
    "boolean": np.dtype(np.bool_),
}
# The value stored in a missing cell, so that equal columns have equal bytes.
FILLERS: dict[Type, Any] = {
    "integer": 0,
    "number": np.nan,
    "string": -1,
    "date": np.datetime64("NaT"),
    "datetime": np.datetime64("NaT"),
    "boolean": False,
}


@dataclass(frozen=True)
class OneType:
    """The type of a column in a part; uncertain if the part has no value of it."""

    name: Type
    is_certain: bool

    def combine(self, later: OneType) -> OneType:
        """Return the type for both parts."""
        if self.name == later.name or not later.is_certain:
            return replace(self, is_certain=self.is_certain or later.is_certain) if self.name == later.name else self
        if not self.is_certain:
            return later
        if {self.name, later.name} == {"integer", "number"}:
            return OneType("number", is_certain=True)
        raise PartsDifferError(f"{self.name} and {later.name} are no common type.")


@dataclass(frozen=True, slots=True, eq=False)
class Column:
    """One variable's cells."""

    type: Type  # storage type, named as the Table Schema standard names it
    # values, one per row, of the type's dtype; for a string column the positions in `pool`, or None where row i is
    # simply string i of the pool (a column that only passes through is never encoded)
    stored: Array | None
    # one byte per row: 0 for a present cell, k for the k-th reason; None where nothing is missing
    why: Why | None = None
    reasons: tuple[str, ...] = ()  # the reasons that `why` counts
    pool: Pool | None = None  # the strings of a string column

    # ------------------------------------------------------------------ making

    @classmethod
    def of(cls, type_: Type, values: Array, why: Why | None = None, reasons: Sequence[str] = ()) -> Column:
        """Make a column of numbers, dates or booleans; missing cells get the filler."""
        values = np.ascontiguousarray(values, dtype=DTYPES[type_])
        if why is None or not why.any():
            return cls(type_, values)
        missing = why != 0
        if not is_filled(values, missing, type_):
            values = np.where(missing, np.asarray(FILLERS[type_], dtype=DTYPES[type_]), values)
        return cls(type_, values, why, tuple(reasons))

    @classmethod
    def of_strings(
        cls, positions: Array | None, pool: Pool, why: Why | None = None, reasons: Sequence[str] = ()
    ) -> Column:
        """Make a string column from positions in a pool; None if row i is string i of the pool."""
        if why is None or not why.any():
            return cls("string", positions, None, (), pool)
        if positions is not None:
            positions = np.where(why != 0, np.int32(-1), positions).astype(np.int32, copy=False)
        return cls("string", positions, why, tuple(reasons), pool)

    @classmethod
    def of_cells(cls, type_: Type, cells: Iterable[Any], reason: str = BLANK) -> Column:
        """Make a small column from Python values; None is a missing cell."""
        cells = list(cells)
        why = np.array([cell is None for cell in cells], dtype=np.uint8)
        if type_ == "string":
            return cls.of_strings(None, Pool(pa.array(cells, pa.large_string())), why, (reason,))
        filler = FILLERS[type_]
        values = np.array([filler if cell is None else cell for cell in cells], dtype=DTYPES[type_])
        return cls.of(type_, values, why, (reason,))

    @classmethod
    def all_missing(cls, type_: Type, rows: int, reason: str) -> Column:
        """Make a column without any present cell."""
        why = np.ones(rows, dtype=np.uint8)
        values = np.full(rows, FILLERS[type_], dtype=DTYPES[type_])
        if type_ == "string":
            return cls.of_strings(values, Pool.of([]), why, (reason,))
        return cls.of(type_, values, why, (reason,))

    # ----------------------------------------------------------------- looking

    def __len__(self) -> int:
        if self.stored is not None:
            return len(self.stored)
        return len(self.pool) if self.pool is not None else 0

    @property
    def values(self) -> Array:
        """Values, one per row; for strings the positions in the pool (-1 where missing)."""
        if self.stored is not None:
            return self.stored
        positions = np.arange(len(self), dtype=np.int32)
        if self.why is not None:
            positions[self.why != 0] = -1
        return positions

    @property
    def strings(self) -> Pool:
        """The pool of a string column."""
        if self.pool is None:
            raise TypeError(f"a column of type {self.type} has no strings")
        return self.pool

    @property
    def is_missing(self) -> npt.NDArray[np.bool_]:
        """True where the cell is missing."""
        if self.why is None:
            return np.zeros(len(self), dtype=np.bool_)
        return np.asarray(self.why != 0)

    @property
    def is_without_values(self) -> bool:
        """True if every cell is missing, or there is none: such a column fits any type."""
        return self.missing_count == len(self)

    def fit_type(self, type_: Type) -> Column:
        """Return a column without values in another type, keeping its reasons; any other column unchanged."""
        if not self.is_without_values or self.type == type_:
            return self
        blank = Column.all_missing(type_, len(self), "blank")
        return Column(type_, blank.values, self.why, self.reasons, blank.pool)

    @property
    def is_constant(self) -> bool:
        """True if all rows share one present cell in memory: what is computed for one holds for all."""
        return len(self) > 1 and self.why is None and self.stored is not None and self.stored.strides == (0,)

    @property
    def missing_count(self) -> int:
        """Number of missing cells."""
        return 0 if self.why is None else int(np.count_nonzero(self.why))

    def reason_counts(self) -> dict[str, int]:
        """How many cells are missing for each reason that occurs, in the order of their names."""
        if self.why is None:
            return {}
        if len(self.reasons) == 1:
            return {self.reasons[0]: self.missing_count} if self.missing_count else {}
        if len(self.reasons) <= FEW_REASONS:
            counts = [np.count_nonzero(self.why == number + 1) for number in range(len(self.reasons))]
        else:
            counts = np.bincount(self.why, minlength=len(self.reasons) + 1)[1:].tolist()
        found = {reason: int(count) for reason, count in zip(self.reasons, counts, strict=True) if count}
        return dict(sorted(found.items()))

    def cells(self, rows: Array | None = None) -> list[Any]:
        """Return Python values, None where missing; of the given rows, or of all."""
        part = self if rows is None else self.take(rows)
        missing = part.is_missing
        if part.type == "string":
            texts = part.to_arrow().to_pylist()
            return [None if gone else text for gone, text in zip(missing, texts, strict=True)]
        return [None if gone else value for gone, value in zip(missing, part.values.tolist(), strict=True)]

    def reason_cells(self, rows: Array) -> list[str | None]:
        """Return the reason in each of the given rows; None where the cell is present."""
        if self.why is None:
            return [None] * len(rows)
        return [self.reasons[number - 1] if number else None for number in self.why[rows].tolist()]

    def first_text(self) -> str | None:
        """Return the first cell as text; None if it is missing or there is none."""
        text: str | None = next(iter(self.slice(0, 1).to_text().to_pylist()), None)
        return text

    def same_as(self, other: Column) -> bool:
        """Return whether both have the same type, values and reasons, cell by cell."""
        if self.type != other.type or len(self) != len(other):
            return False
        reasons = join_reasons(self.reasons, other.reasons)
        if self.missing_count != other.missing_count:
            return False
        if self.why is not None and other.why is not None:
            mine = renumber_why(self.why, self.reasons, reasons)
            if not np.array_equal(mine, renumber_why(other.why, other.reasons, reasons)):
                return False
        if self.type == "string":
            return bool(self.to_arrow().equals(other.to_arrow()))
        return bool(np.array_equal(self.values, other.values, equal_nan=self.type not in ("integer", "boolean")))

    def to_arrow(self) -> pa.Array:
        """Return the column as an Arrow array, missing cells as nulls."""
        mask = None if self.why is None else self.why != 0
        if self.type != "string":
            return pa.array(np.ascontiguousarray(self.values), mask=mask)
        if self.stored is None:
            return self.strings.strings
        return self.strings.strings.take(pa.array(self.stored, mask=mask))

    # ---------------------------------------------------------------- changing

    def encode(self) -> Column:
        """Return a string column whose pool holds each string once; other columns unchanged."""
        if self.type != "string" or (self.stored is not None and self.strings.is_distinct):
            return self
        numbers, pool = self.strings.distinct()
        if self.stored is None:
            positions = numbers
            if self.why is not None:
                positions = np.where(self.why != 0, np.int32(-1), numbers)
        elif len(numbers) == 0:
            positions = self.stored
        else:
            positions = np.where(self.stored < 0, np.int32(-1), numbers[self.stored])
        return Column("string", positions, self.why, self.reasons, pool)

    def sort_reasons(self) -> Column:
        """Return the column with just the reasons that occur, in the order of their names."""
        if self.why is None:
            return self
        counts = self.reason_counts()
        if tuple(counts) == self.reasons:
            return self
        numbers = np.zeros(len(self.reasons) + 1, np.uint8)
        numbers[1:] = [list(counts).index(reason) + 1 if reason in counts else 0 for reason in self.reasons]
        return Column(self.type, self.stored, numbers[self.why], tuple(counts), self.pool)

    def compact(self) -> Column:
        """Return a string column whose pool holds exactly the strings that occur, each once."""
        column = self.encode()
        if column.type != "string":
            return column
        counts = np.bincount(column.values[column.values >= 0], minlength=len(column.strings))
        if counts.all():
            return column
        used = np.flatnonzero(counts)
        new_position = np.full(len(counts) + 1, -1, np.int32)  # the last position is for missing cells
        new_position[used] = np.arange(len(used), dtype=np.int32)
        pool = Pool(column.strings.strings.take(pa.array(used)), is_distinct=True)
        return Column("string", new_position[column.values], column.why, column.reasons, pool)

    def broadcast(self, rows: int) -> Column:
        """Return a column of the given length that shares this column's only cell in memory."""
        return Column(self.type, np.broadcast_to(self.values, rows), pool=self.pool)

    def materialize(self) -> Column:
        """Return the column with memory for each row, also if all rows shared one cell."""
        if self.stored is None or self.stored.flags.c_contiguous:
            return self
        return Column(self.type, np.ascontiguousarray(self.stored), self.why, self.reasons, self.pool)

    def slice(self, start: int, stop: int) -> Column:
        """Return the rows from `start` up to `stop`, without copying."""
        why = None if self.why is None else self.why[start:stop]
        if self.stored is None:
            return Column("string", None, why, self.reasons, Pool(self.strings.strings[start:stop]))
        return Column(self.type, self.stored[start:stop], why, self.reasons, self.pool)

    def encode_if_repetitive(self) -> Column:
        """Encode if a sample shows that few strings are distinct, so that looking them up stays in the cache."""
        if self.type != "string" or self.strings.is_distinct or not self.strings.seems_repetitive():
            return self
        return self.encode()

    def take(self, rows: Array) -> Column:
        """Return the given rows (positions, each 0 or more), in that order."""
        # Few texts are taken themselves, unless they are known to repeat: a pool of all would be carried along.
        repeats = self.type == "string" and self.strings.is_encoded and 2 * len(self.strings.distinct()[1]) <= len(rows)
        few = self.type == "string" and self.stored is None and not repeats and 2 * len(rows) <= len(self)
        column = self.encode_if_repetitive() if len(rows) > LARGE and not few else self
        column = column.encode() if repeats else column
        why = None if column.why is None else column.why[rows]
        if why is not None and not why.any():
            why = None
        reasons = column.reasons if why is not None else ()
        if few:
            return Column("string", None, why, reasons, Pool(self.strings.strings.take(pa.array(rows))))
        values, pool = column.values[rows], column.pool
        if pool is not None and 2 * len(rows) <= len(pool):
            used, index = np.unique(values, return_inverse=True)
            missing = int(np.searchsorted(used, 0))
            values = (index - missing).astype(np.int32)
            pool = Pool(pool.strings.take(pa.array(used[missing:])), is_distinct=pool.is_distinct)
        return Column(column.type, values, why, reasons, pool)

    def repeat(self, times: int | Array) -> Column:
        """Repeat every cell; `times` is one number for all rows or one for each."""
        values = np.repeat(self.values, times)
        why = None if self.why is None else np.repeat(self.why, times)
        if why is not None and not why.any():
            why = None
        return Column(self.type, values, why, self.reasons if why is not None else (), self.pool)

    def take_or(self, rows: Array, reason: str) -> Column:
        """Return the given rows; where a position is negative the cell is missing with `reason`."""
        absent = rows < 0
        if not absent.any():
            return self.take(rows)
        column = self.encode_if_repetitive() if len(rows) > LARGE else self
        reasons = join_reasons(self.reasons, (reason,))
        if len(self) == 0:
            return Column.all_missing(self.type, len(rows), reason)
        values = column.values[rows]
        values[absent] = FILLERS[self.type]
        why = np.zeros(len(rows), dtype=np.uint8) if column.why is None else column.why[rows]
        why[absent] = reasons.index(reason) + 1
        return Column(column.type, values, why, reasons, column.pool)

    def with_missing_of(self, other: Column) -> Column:
        """Return the column with the missing cells of another one also missing, for the other's reasons."""
        if other.why is None:
            return self
        result = self.clear_missing(other.is_missing)
        for number, reason in enumerate(other.reasons, start=1):
            result = result.with_missing(other.why == number, reason)
        return result

    def with_missing(self, cells: npt.NDArray[np.bool_], reason: str) -> Column:
        """Return the column with more cells missing for `reason`; cells already missing stay as they are."""
        cells = cells & ~self.is_missing
        if not cells.any():
            return self
        reasons = join_reasons(self.reasons, (reason,))
        if len(reasons) > MOST_REASONS:
            raise DataError(
                f"A column has more than {MOST_REASONS} reasons for missing cells.",
                todo="Give fewer different missing codes in the dictionary.",
            )
        why = np.zeros(len(self), dtype=np.uint8) if self.why is None else self.why.copy()
        why[cells] = reasons.index(reason) + 1
        values = self.values.copy()
        values[cells] = FILLERS[self.type]
        return Column(self.type, values, why, reasons, self.pool)

    def clear_missing(self, cells: npt.NDArray[np.bool_]) -> Column:
        """Return the column with some missing cells present again (holding the filler), to be given another reason."""
        if self.why is None:
            return self
        why = np.where(cells, np.uint8(0), self.why)
        kept = why.any()
        return Column(self.type, self.stored, why if kept else None, self.reasons if kept else (), self.pool)

    def widen(self, type_: Type) -> Column:
        """Return the column as another type without loss, as chosen by `common_type`; anything as strings.

        Raises TypeError if the type cannot be widened to the one asked for.
        """
        if type_ == self.type:
            return self
        if self.missing_count == len(self):
            gone = np.full(len(self), FILLERS[type_], dtype=DTYPES[type_])
            return Column(type_, gone, self.why, self.reasons, Pool.of([]) if type_ == "string" else None)
        if (self.type, type_) == ("integer", "number"):
            return Column.of("number", self.values.astype(np.float64), self.why, self.reasons)
        if (self.type, type_) == ("number", "integer") and has_whole_numbers(self):
            return Column.of("integer", np.nan_to_num(self.values).astype(np.int64), self.why, self.reasons)
        if (self.type, type_) == ("date", "datetime"):
            return Column.of("datetime", self.values.astype(DTYPES["datetime"]), self.why, self.reasons)
        if type_ == "string":
            return Column.of_strings(None, Pool(self.to_text()), self.why, self.reasons)
        raise TypeError(f"{self.type} does not widen to {type_}")

    def to_text(self) -> pa.Array:
        """Return the cells as an Arrow string array, nulls where missing; whole numbers without a decimal point, and
        whole seconds without a fraction.
        """
        array = self.to_arrow()
        if self.type == "datetime":
            seconds = array.cast(pa.timestamp("s"), safe=False).cast(pa.large_string())
            has_fraction = (self.values.astype(np.int64) % 1_000_000 != 0) & ~self.is_missing
            if not has_fraction.any():
                return seconds
            return pc.if_else(pa.array(has_fraction), array.cast(pa.large_string()), seconds)
        return array.cast(pa.large_string())


def is_filled(values: Array, missing: npt.NDArray[np.bool_], type_: Type) -> bool:
    """Return whether every missing cell holds the type's filler."""
    cells = values[missing]
    filler = FILLERS[type_]
    if type_ == "number":
        return bool(np.isnan(cells).all())
    if type_ in ("date", "datetime"):
        return bool(np.isnat(cells).all())
    return bool((cells == filler).all())


def is_exact(values: Array) -> npt.NDArray[np.bool_]:
    """Return for each integer whether float64 holds it exactly."""
    with np.errstate(invalid="ignore"):
        decimals = values.astype(np.float64)
        return np.asarray((np.abs(decimals) < 2.0**63) & (decimals.astype(np.int64) == values))


def has_whole_numbers(column: Column) -> bool:
    """Return whether all present cells of a column of numbers are whole and within 64 bits."""
    values = column.values[~column.is_missing]
    return bool(((np.abs(values) < 2.0**63) & (values == np.floor(values))).all())


def common_type(columns: Iterable[Column], *, keeps_whole: bool = False) -> Type | None:
    """Return the narrowest type that holds all columns without loss; None if there is none.

    A column without any present cell fits every type. With `keeps_whole`, integers beside decimals that are all whole
    stay integers, as in a key.
    """
    columns = list(columns)
    types = {column.type for column in columns if column.missing_count < len(column)}
    decimals = [column for column in columns if column.type == "number"]
    if types == {"integer", "number"} and keeps_whole and all(map(has_whole_numbers, decimals)):
        return "integer"
    return join_types(
        types,
        columns[0].type,
        lambda: all(is_exact(column.values).all() for column in columns if column.type == "integer"),
    )


def join_types(types: Collection[Type], without_values: Type, are_exact: Callable[[], bool]) -> Type | None:
    """Return the narrowest type that holds values of all types without loss; None if there is none.

    `without_values` is the type if there are none; `are_exact` says whether decimals hold all the integers.
    """
    if len(types) <= 1:
        return next(iter(types), without_values)
    if {*types} == {"integer", "number"}:
        return "number" if are_exact() else None
    return "datetime" if {*types} == {"date", "datetime"} else None


def choose_cells(first: Column, second: Column, use_second: npt.NDArray[np.bool_]) -> Column:
    """Return row by row the first column's cell, or the second's where `use_second` is true (equal types)."""
    if not use_second.any():
        return first
    reasons = join_reasons(first.reasons, second.reasons)
    why: Why | None = None
    if first.why is not None or second.why is not None:
        empty = np.zeros(len(first), dtype=np.uint8)
        first_why = empty if first.why is None else renumber_why(first.why, first.reasons, reasons)
        second_why = empty if second.why is None else renumber_why(second.why, second.reasons, reasons)
        why = np.where(use_second, second_why, first_why)
    if first.type != "string":
        return Column.of(first.type, np.where(use_second, second.values, first.values), why, reasons)
    pool, start = chain_pools(first.strings, second.strings)
    shifted = np.where(second.values < 0, np.int32(-1), second.values + np.int32(start))
    return Column.of_strings(np.where(use_second, shifted, first.values), pool, why, reasons)
