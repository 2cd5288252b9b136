"""Codes in the cells of missing values: which are free, which conflict, and the columns that hold them."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from typing import TypeVar

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.combining import Extreme
from lomrix.core.errors import DataError
from lomrix.core.steps.cells_in_form import format_cells
from lomrix.core.steps.delivery import TextForm
from lomrix.core.steps.export.missing_codes import MissingCodes
from lomrix.core.steps.export.numbers import TextNumbers
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.labelled import count_code
from lomrix.core.table.numbers import is_number, is_whole
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table

T = TypeVar("T")
CANDIDATES = ("-9", "-99", "-999", "-9999", "-99999", "-999999", "-9999999", "-99999999")


@dataclass(frozen=True)
class Unlabelled:
    """A value without a label: how many cells hold it, and the number of the first one's row."""

    count: int
    first_row: Extreme


@dataclass(frozen=True)
class Occurring:
    """What the columns of a table hold, as far as missing codes are chosen by it: their reasons with numbers of cells,
    and how many cells hold a code as a value, counted in advance if the table is worked on in parts; the values
    without a label of columns that show labels; and the texts that become numbers.
    """

    reasons: Mapping[str, Mapping[str, int]]
    codes: Mapping[str, Mapping[str, int]] = field(default_factory=dict)
    columns: Mapping[str, Column] = field(default_factory=dict)
    unlabelled: Mapping[str, Mapping[str, Unlabelled]] = field(default_factory=dict)
    texts: Mapping[str, TextNumbers] = field(default_factory=dict)

    @classmethod
    def of(cls, table: Table, codes: Collection[str] | None = None) -> Occurring:
        """Count the reasons of a table, and these codes in advance, or any code when it is needed."""
        reasons = {name: column.reason_counts() for name, column in table.columns.items()}
        if codes is None:
            return cls(reasons, {}, table.columns)
        counts = {
            name: {code: count for code in codes if (count := count_code(column, code))}
            for name, column in table.columns.items()
        }
        return cls(reasons, counts)

    def rename(self, old_names: Mapping[str, str]) -> Occurring:
        """Return it for columns with other names, given the old name of each."""
        new_names = {old: new for new, old in old_names.items()}

        def rename(by_column: Mapping[str, T]) -> dict[str, T]:
            return {new_names.get(name, name): value for name, value in by_column.items()}

        return Occurring(rename(self.reasons), rename(self.codes), self.columns, texts=rename(self.texts))

    def count(self, name: str, code: str) -> int:
        """Count the cells of a column that hold a code as a value."""
        if name in self.texts:
            return self.texts[name].count(code)
        return count_code(self.columns[name], code) if name in self.columns else self.codes[name].get(code, 0)


def require_unused_codes(dictionary: Dictionary, occurring: Occurring, missing: MissingCodes) -> None:
    """Stop if a missing code is also a value of its column.

    Raises DataError with the column, and a code that is free.
    """
    for name, reasons in occurring.reasons.items():
        for code in missing.list_codes(name, reasons):
            used = occurring.count(name, code)
            if used:
                raise DataError(
                    f"{code} cannot mean missing: it is a value of {name}.",
                    where=f"{used:,} {'cell holds' if used == 1 else 'cells hold'} {code}",
                    todo=f"{find_free_code(dictionary, occurring)} is free in all columns: use ‹missing_code=auto›, "
                    "or name it.",
                )


def find_free_code(dictionary: Dictionary, occurring: Occurring, taken: Collection[str] = ()) -> str:
    """Return the first usual code that no column holds or could hold as a value, and that is not in `taken`.

    Raises DataError if all of them are used.
    """
    for code in CANDIDATES:
        if code not in taken and not any(
            occurring.count(name, code) or could_hold(dictionary, name, code) for name in occurring.reasons
        ):
            return code
    raise DataError("All usual missing codes are values of some column.", todo="Name one: ‹missing_code=NUMBER›.")


def could_hold(dictionary: Dictionary, name: str, code: str) -> bool:
    """Return whether the dictionary allows a code as a value: within the limits, or one of its codes.

    >>> from lomrix.core.table.variable import Variable
    >>> known = Dictionary({"celsius": Variable(minimum=-40, maximum=45), "age": Variable(minimum=0)})
    >>> [could_hold(known, name, "-9") for name in ("celsius", "age", "other")]
    [True, False, False]
    """
    entry = dictionary.of(name)
    if code in entry.allowed or CodeList(dictionary.labels_of(name)).code_of(code) is not None:
        return True
    low, high = entry.minimum, entry.maximum
    if not isinstance(low, int | float):
        return False
    return low <= float(code) and (not isinstance(high, int | float) or float(code) <= high)


def choose_codes(table: Table, occurring: Occurring, missing: MissingCodes) -> dict[str, dict[str, str]]:
    """Return for each column the codes of its missing cells by reason; dates take no code."""
    return {
        name: {
            reason: code
            for reason in occurring.reasons[name]
            if column.type not in ("date", "datetime") and (code := missing.get_code(name, reason))
        }
        for name, column in table.columns.items()
    }


def make_coded_dictionary(table: Table, coded: Mapping[str, Mapping[str, str]]) -> Dictionary:
    """Return the dictionary with the missing codes now in the columns, instead of the old ones."""
    dictionary = table.dictionary
    for name, code_by_reason in coded.items():
        codes: dict[str, str] = {}
        for reason, code in code_by_reason.items():
            # One code for several reasons can only say that the cell is missing.
            codes[code] = reason if code not in codes else "missing"
        if codes or table.dictionary.of(name).missing:
            dictionary = dictionary.with_variable(name, table.dictionary.of(name).with_parts(missing=codes))
    return dictionary.with_coded({name for name, codes in coded.items() if codes})


def fill_codes(column: Column, code_by_reason: Mapping[str, str], form: TextForm) -> Column:
    """Put codes into the missing cells; a reason without a code stays missing.

    A code that is a word, or not a whole number among integers, makes the column one of text in the stated form.
    """
    if not code_by_reason:
        return column
    codes = {
        number: code_by_reason[reason]
        for number, reason in enumerate(column.reasons, start=1)
        if reason in code_by_reason
    }
    fits = is_whole if column.type == "integer" else is_number
    if column.type in ("integer", "number") and all(map(fits, code_by_reason.values())):
        if column.why is None:
            return column
        values = column.values.copy()
        for number, code in codes.items():
            values[column.why == number] = float(code) if column.type == "number" else int(code)
        return Column.of(column.type, values, keep_missing(column, codes), column.reasons)
    texts_in_form = format_cells(column, form)
    if texts_in_form is None:
        column = column.widen("string")
    else:
        column = Column.of_strings(None, Pool(texts_in_form), column.why, column.reasons)
    if column.why is None:
        return column
    pool, why = column.strings, keep_missing(column, codes)
    texts = list(dict.fromkeys(codes.values()))
    longer = Pool(pa.concat_arrays([pool.strings, pa.array(texts, pa.large_string())]))
    positions = column.values.copy()
    for number, code in codes.items():
        positions[column.why == number] = len(pool) + texts.index(code)
    return Column.of_strings(positions, longer, why, column.reasons)


def keep_missing(column: Column, codes: dict[int, str]) -> npt.NDArray[np.uint8]:
    """Return the reasons of the cells that get no code."""
    assert column.why is not None
    return np.where(np.isin(column.why, list(codes)), np.uint8(0), column.why)
