"""Codes in the cells of missing values: which are free, which conflict, and the columns that hold them."""

from __future__ import annotations

from collections.abc import Collection, Mapping

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.errors import DataError
from lomrix.core.steps.cells_in_form import format_cells
from lomrix.core.steps.delivery import TextForm
from lomrix.core.steps.export.missing_codes import MissingCodes
from lomrix.core.table.codes import CodeList
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.labelled import count_code
from lomrix.core.table.numbers import is_number, is_whole
from lomrix.core.table.pool import Pool
from lomrix.core.table.table import Table

CANDIDATES = ("-9", "-99", "-999", "-9999", "-99999", "-999999", "-9999999", "-99999999")


def require_unused_codes(table: Table, missing: MissingCodes) -> None:
    """Stop if a missing code is also a value of its column.

    Raises DataError with the column, and a code that is free.
    """
    for name, column in table.columns.items():
        for code in missing.list_codes(name, column.reason_counts()):
            used = count_code(column, code)
            if used:
                raise DataError(
                    f"{code} cannot mean missing: it is a value of {name}.",
                    where=f"{used:,} {'cell holds' if used == 1 else 'cells hold'} {code}",
                    todo=f"{find_free_code(table)} is free in all columns: use ‹missing_code=auto›, or name it.",
                )


def find_free_code(table: Table, taken: Collection[str] = ()) -> str:
    """Return the first usual code that no column holds or could hold as a value, and that is not in `taken`.

    Raises DataError if all of them are used.
    """
    for code in CANDIDATES:
        if code not in taken and not any(
            count_code(column, code) or could_hold(table.dictionary, name, code)
            for name, column in table.columns.items()
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


def make_coded_dictionary(table: Table, columns: Mapping[str, Column], missing: MissingCodes) -> Dictionary:
    """Return the dictionary with the missing codes now in the columns, instead of the old ones."""
    dictionary, coded_names = table.dictionary, set[str]()
    for name, column in table.columns.items():
        codes: dict[str, str] = {}
        if columns[name] is not column:
            for reason in column.reason_counts():
                code = missing.get_code(name, reason)
                if code:
                    # One code for several reasons can only say that the cell is missing.
                    codes[code] = reason if code not in codes else "missing"
        if codes or table.dictionary.of(name).missing:
            dictionary = dictionary.with_variable(name, table.dictionary.of(name).with_parts(missing=codes))
        coded_names |= {name} if codes else set()
    return dictionary.with_coded(coded_names)


def fill_codes(column: Column, name: str, missing: MissingCodes, form: TextForm) -> Column:
    """Put codes into the missing cells; a reason without a code stays missing.

    A code that is a word, or not a whole number among integers, makes the column one of text in the stated form.
    """
    if column.why is None or column.type in ("date", "datetime"):
        return column
    codes = {number: missing.get_code(name, reason) for number, reason in enumerate(column.reasons, start=1)}
    codes = {number: code for number, code in codes.items() if code and (column.why == number).any()}
    if not codes:
        return column
    fits = is_whole if column.type == "integer" else is_number
    if column.type in ("integer", "number") and all(fits(code) for code in codes.values()):
        values = column.values.copy()
        for number, code in codes.items():
            values[column.why == number] = float(code) if column.type == "number" else int(code)
        return Column.of(column.type, values, keep_missing(column, codes), column.reasons)
    texts_in_form = format_cells(column, form)
    if texts_in_form is None:
        column = column.widen("string")
    else:
        column = Column.of_strings(None, Pool(texts_in_form), column.why, column.reasons)
    pool, why = column.strings, keep_missing(column, codes)
    texts = list(dict.fromkeys(codes.values()))
    longer = Pool(pa.concat_arrays([pool.strings, pa.array(texts, pa.large_string())]))
    positions = column.values.copy()
    assert column.why is not None
    for number, code in codes.items():
        positions[column.why == number] = len(pool) + texts.index(code)
    return Column.of_strings(positions, longer, why, column.reasons)


def keep_missing(column: Column, codes: dict[int, str]) -> npt.NDArray[np.uint8]:
    """Return the reasons of the cells that get no code."""
    assert column.why is not None
    return np.where(np.isin(column.why, list(codes)), np.uint8(0), column.why)
