"""Make a table ready for another program: codes in missing cells, and for bare files only numbers."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError
from lomrix.core.rows.keys import text_order
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.export.settings import AUTO, Export, codes_said
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.code_use import times_used
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note
from lomrix.core.table.numbers import is_number
from lomrix.core.table.pool import Pool
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table
from lomrix.core.text.reading import matches

CANDIDATES = ("-9", "-99", "-999", "-9999", "-99999", "-999999", "-9999999", "-99999999")


@dataclass(frozen=True)
class Recoding:
    """What became of one column on its way to a bare file.

    Parameters
    ----------
    how
        In words, such as `texts became codes`.
    texts
        Where texts were given codes: the texts of the codes 1, 2, 3 …
    """

    how: str = ""
    texts: tuple[str, ...] = ()


@dataclass(frozen=True)
class Prepared:
    """How a reader has to understand what was exported.

    Parameters
    ----------
    missing_code
        The one code that stands for every missing cell; empty where there is none.
    recodings
        By column, what became of it.
    labels
        What the dictionary said before the columns were recoded.
    """

    missing_code: str = ""
    recodings: Mapping[str, Recoding] = field(default_factory=dict)
    labels: Dictionary = field(default_factory=Dictionary)


def prepared(step: Export, tables: Inputs, wanted: Collection[str]) -> Result:
    """Recode the table; how it has to be understood is an extra, `reading`."""
    table = tables.one()
    if step.columns:
        table = table.only(chosen_columns(step.columns, table.types(), table.name))
    recodings: dict[str, Recoding] = {}
    ready = table
    everywhere, by_reason = codes_said(step.missing_code)
    if step.form == "bare":
        numeric = {name: as_numbers(column, table.dictionary.labels_of(name)) for name, column in table.columns.items()}
        recodings = {name: recoding for name, (_, recoding) in numeric.items() if recoding.how}
        ready = table.with_columns({name: column for name, (column, _) in numeric.items()})
        everywhere = everywhere or AUTO
    if everywhere == AUTO:
        everywhere = free_code(ready) if any(column.missing_count for column in ready.columns.values()) else ""
    refuse_used_codes(ready, [code for code in (everywhere, *by_reason.values()) if code])
    columns = {name: coded(column, everywhere, by_reason) for name, column in ready.columns.items()}
    made = replace(ready, columns=columns, dictionary=with_codes_used(ready, columns, everywhere, by_reason))
    reading = Prepared(everywhere, recodings, table.dictionary)
    return Result(made, account_of(step, table, made, reading, by_reason), {"reading": reading})


def refuse_used_codes(table: Table, codes: list[str]) -> None:
    """Stop where a code is a value of some column.

    Raises
    ------
    DataError
        With the column, and a code that is free.
    """
    for code in codes:
        for name, column in table.columns.items():
            used = times_used(column, code)
            if used:
                raise DataError(
                    f"{code} cannot stand for missing: it is a value of {name}.",
                    where=f"{used:,} {'cell holds' if used == 1 else 'cells hold'} {code}",
                    todo=f"{free_code(table)} is free in all columns: say ‹missing_code=auto›, or name it.",
                )


def account_of(step: Export, before: Table, made: Table, reading: Prepared, by_reason: Mapping[str, str]) -> Account:
    """What was recoded: cells with a value, and the missing ones by what they became."""
    rows_made = Balance("rows", len(before), (("made ready", len(made)),), quiet=True)
    missing = sum(column.missing_count for column in before.columns.values())
    left = sum(column.missing_count for column in made.columns.values())
    coded_cells = sum(
        int(np.count_nonzero(before[name].is_missing & ~column.is_missing)) for name, column in made.columns.items()
    )
    kept = sum(
        int(np.count_nonzero(~before[name].is_missing & ~column.is_missing)) for name, column in made.columns.items()
    )
    rows = missing_rows(before, made, by_reason, reading.missing_code)
    listings = [Listing("missing cells", ("reason", "cells", "written as"), rows)] if rows else []
    if reading.recodings:
        how = tuple((name, recoding.how) for name, recoding in reading.recodings.items())
        listings.append(Listing("columns turned into numbers", ("column", "how"), how))
    return Account(
        "export",
        f"{len(made):,} rows and {len(made.names)} columns made ready, {step.form}.",
        (
            rows_made,
            Balance("cells", len(before) * len(before.names), (("with a value", kept), ("missing", missing))),
            Balance("missing cells", missing, (("written as a code", coded_cells), ("left empty", left))),
        ),
        {
            "form": step.form,
            "missing_code": reading.missing_code,
            "missing_codes_by_reason": dict(by_reason),
            "rows": len(made),
            "columns": made.names,
        },
        tuple(listings),
        tuple(empty_dates(made, bool(reading.missing_code or by_reason))),
    )


def missing_rows(
    before: Table, made: Table, by_reason: Mapping[str, str], everywhere: str
) -> tuple[tuple[str, int, str], ...]:
    """Each reason with its cells and what is written for them; columns that take no code stand apart."""
    counts: dict[tuple[str, str], int] = {}
    for name, column in before.columns.items():
        is_left = made[name].missing_count == column.missing_count
        for reason, count in column.reason_counts().items():
            code = by_reason.get(reason, everywhere)
            told = code if code and not is_left else "an empty cell"
            counts[reason, told] = counts.get((reason, told), 0) + count
    return tuple((reason, count, told) for (reason, told), count in counts.items())


def empty_dates(made: Table, has_codes: bool) -> list[Note]:
    """Columns of dates with missing cells, which take no code."""
    dates = [
        name for name, column in made.columns.items() if column.type in ("date", "datetime") and column.missing_count
    ]
    if not dates or not has_codes:
        return []
    return [Note(f"missing dates are left empty, a code is no date: {', '.join(dates)}.", kind="empty-dates")]


def with_codes_used(
    table: Table, columns: Mapping[str, Column], everywhere: str, by_reason: dict[str, str]
) -> Dictionary:
    """The dictionary with the missing codes that now stand in the columns, in place of the old ones."""
    dictionary, coded = table.dictionary, set[str]()
    for name, column in table.columns.items():
        codes: dict[str, str] = {}
        if columns[name] is not column:
            for reason in column.reason_counts():
                code = by_reason.get(reason, everywhere)
                if code:
                    # One code for several reasons can only say that the cell is missing.
                    codes[code] = reason if code not in codes else "missing"
        if codes or table.dictionary.of(name).missing:
            dictionary = dictionary.with_variable(name, table.dictionary.of(name).with_(missing=codes))
        coded |= {name} if codes else set()
    return dictionary.with_coded(coded)


def as_numbers(column: Column, labels: Mapping[str, str]) -> tuple[Column, Recoding]:
    """A column of any type as numbers, and how that was done."""
    why, reasons = column.why, column.reasons
    if column.type == "boolean":
        return Column.of("integer", column.values.astype(np.int64), why, reasons), Recoding("false 0, true 1")
    if column.type in ("date", "datetime"):
        unit = "D" if column.type == "date" else "s"
        digits = (
            np.datetime_as_string(column.values.astype(f"datetime64[{unit}]")) if len(column) else np.zeros(0, "U8")
        )
        digits[column.is_missing] = "0"
        for sign in "-T:" if len(column) else "":
            digits = np.strings.replace(digits, sign, "")
        how = "dates as yyyymmdd" if unit == "D" else "dates and times as yyyymmddhhmmss"
        return Column.of("integer", digits.astype(np.int64), why, reasons), Recoding(how)
    if column.type != "string":
        return column, Recoding()
    column = column.compact()
    strings = column.strings.strings
    numbers = _ids_as_numbers(strings)
    if numbers is not None:
        widths = set(pc.utf8_length(strings).to_pylist())
        how = "digits as numbers, leading zeros dropped" if begins_with_zero(strings) else "digits as numbers"
        how += f"; the texts had {widths.pop()} digits" if len(widths) == 1 else ""
        return Column.of("integer", _spread(numbers, column.values), why, reasons), Recoding(how)
    # Texts that the dictionary lists come first, in its order; the others follow in the order of text.
    listed = np.array([at for at in (strings.index(text).as_py() for text in labels) if at >= 0], np.int64)
    order = text_order(strings)
    order = np.concatenate([listed, order[~np.isin(order, listed)]])
    code_of = np.zeros(len(strings), np.int64)
    code_of[order] = np.arange(1, len(strings) + 1)
    how = f"texts became codes 1 to {len(strings):,}" if len(strings) else "no text in it: every cell is missing"
    return Column.of("integer", _spread(code_of, column.values), why, reasons), Recoding(
        how, tuple(strings.take(pa.array(order, pa.int64())).to_pylist())
    )


def begins_with_zero(strings: pa.Array) -> bool:
    """True where a text of digits would lose a zero as a number."""
    return bool(matches(strings, r"0\d+").any())


def _ids_as_numbers(strings: pa.Array) -> npt.NDArray[np.int64] | None:
    """Texts of digits as numbers, where no two of them become one; else None."""
    if not len(strings) or not matches(strings, r"\d{1,15}").all():
        return None
    numbers = strings.cast(pa.int64()).to_numpy(zero_copy_only=False)
    return numbers if len(np.unique(numbers)) == len(numbers) else None


def _spread(of_distinct: npt.NDArray[np.int64], positions: Array) -> npt.NDArray[np.int64]:
    numbers: npt.NDArray[np.int64] = np.append(of_distinct, 0)[positions]  # the last place answers for a missing cell
    return numbers


def free_code(table: Table) -> str:
    """The first usual code that no column holds as a value.

    Raises
    ------
    DataError
        Where all of them are used.
    """
    for code in CANDIDATES:
        if not any(times_used(column, code) for column in table.columns.values()):
            return code
    raise DataError("All usual missing codes are values of some column.", todo="Name one: ‹missing_code=NUMBER›.")


def coded(column: Column, everywhere: str, by_reason: dict[str, str]) -> Column:
    """The column with codes in its missing cells; a reason without a code stays missing."""
    if column.why is None or column.type in ("date", "datetime"):
        return column
    codes = {number: by_reason.get(reason, everywhere) for number, reason in enumerate(column.reasons, start=1)}
    codes = {number: code for number, code in codes.items() if code and (column.why == number).any()}
    if not codes:
        return column
    if column.type in ("integer", "number") and all(is_number(code) for code in codes.values()):
        if column.type == "integer" and any("." in code for code in codes.values()):
            column = column.widened("number")
        values = column.values.copy()
        for number, code in codes.items():
            values[column.why == number] = float(code) if column.type == "number" else int(code)
        return Column.of(column.type, values, still_missing(column, codes), column.reasons)
    column = column.widened("string")
    pool, why = column.strings, still_missing(column, codes)
    texts = list(dict.fromkeys(codes.values()))
    longer = Pool(pa.concat_arrays([pool.strings, pa.array(texts, pa.large_string())]))
    positions = column.values.copy()
    assert column.why is not None
    for number, code in codes.items():
        positions[column.why == number] = len(pool) + texts.index(code)
    return Column.of_strings(positions, longer, why, column.reasons)


def still_missing(column: Column, codes: dict[int, str]) -> npt.NDArray[np.uint8]:
    """The reasons of the cells that get no code."""
    assert column.why is not None
    return np.where(np.isin(column.why, list(codes)), np.uint8(0), column.why)
