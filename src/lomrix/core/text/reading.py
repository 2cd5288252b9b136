"""From text cells to a typed column: what is a number, a date, a missing cell, and what only looks like one."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import cast

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import text_bytes
from lomrix.core.arrays.types import Array
from lomrix.core.table.column import DTYPES, Column
from lomrix.core.table.joined import joined_whys
from lomrix.core.table.notes import FIRST_ROW, Note, counted, plural, times
from lomrix.core.table.pool import Pool, positions_of
from lomrix.core.table.reasons import BLANK, Why
from lomrix.core.table.types import Type
from lomrix.core.table.variable import NOTHING_KNOWN, Variable
from lomrix.core.text import rules
from lomrix.core.text.dates import dates_in_forms
from lomrix.core.text.likely import likely_number, likely_type
from lomrix.core.text.resemblance import MOSTLY, resemblance
from lomrix.core.text.values import ARROW_TYPES, as_whole, mask_of, matches, parsed_dates, values_of

# So many cells say which type to try; a glance at a few is enough to try numbers, which the cells then decide.
SAMPLE = 1500
GLANCE = 12
# Columns of up to so many rows are put together at once.
FEW_ROWS = 50_000
MOST_EXAMPLES = 5
NO_STRAYS: Mapping[str, int] = {}
# As `map` does.
Each = Callable[[Callable[[pa.Array], Column | None], Iterable[pa.Array]], Iterable[Column | None]]


@dataclass
class Reading:
    """One column on its way from text to values; the methods narrow it down.

    Parameters
    ----------
    name
        The column's name, for the notes.
    strings
        Arrow large_string array; nulls are blank cells.
    variable
        What the dictionary says of it: type and missing codes.
    date_format
        How its dates are written, where that was said.
    decimal, thousands
        The separator before decimal places, and that between thousands.
    tokens
        Whether words such as n/a are missing cells among numbers and dates.
    shown
        The cells as notes show them, where `strings` is made from them.
    """

    name: str
    strings: pa.Array
    variable: Variable = NOTHING_KNOWN
    date_format: str = ""
    decimal: str = "."
    thousands: str = ""
    tokens: bool = True
    shown: pa.Array | None = None
    notes: list[Note] = field(default_factory=list)

    # ------------------------------------------------------------- the way in

    def column(self) -> Column:
        """The typed column; what a person should look at is left in `notes`."""
        for separated in (self._with_thousands, self._with_decimal_sign):
            column = separated()
            if column is not None:
                return column
        self._blanks_to_nulls()
        if self.strings.null_count == len(self.strings):
            return self._all_blank()
        declared = self.variable.type
        if declared == "string":
            return self._as_strings()
        if self.date_format:
            return self._by_distinct(declared or "date")
        quick = declared or likely_number(self.sample_kinds(GLANCE))
        plain = self._cast(quick) if quick in ("integer", "number") else None
        if plain is not None:
            return plain
        sample = self.sample_kinds(SAMPLE)
        type_ = declared or likely_type(sample)
        if declared is None and set(sample) == {"token"} and not self._only_signs():
            type_ = "string"
        if type_ == "string":
            self._note_resemblance()
            return self._as_strings()
        if type_ == "boolean":
            return self._by_distinct(type_)
        if type_ == "integer" and sample["number"]:
            type_ = "integer" if declared else "number"
        return self._cast(type_) or self._cast_with_words(type_) or self._by_distinct(type_)

    def _with_thousands(self) -> Column | None:
        """A column of numbers with a separator between thousands; None where it is none."""
        sign = self.thousands
        if not sign or not text_bytes.has_byte(self.strings, sign.encode()):
            return None
        point = re.escape(self.decimal)
        grouped = f"^[+-]?\\d{{1,3}}({re.escape(sign)}\\d{{3}})+({point}\\d+)?$"
        fits = pc.fill_null(pc.match_substring_regex(pc.utf8_trim_whitespace(self.strings), grouped), False)
        strings = pc.if_else(fits, pc.replace_substring(self.strings, sign, ""), self.strings)
        return self._column_of(Reading(
            self.name, strings, self.variable, "", self.decimal, tokens=self.tokens, shown=self.strings
        ))  # fmt: skip

    def _column_of(self, read: Reading) -> Column | None:
        """What the texts without their separators are, where that is numbers or says why not."""
        column = read.column()
        if column.type in ("integer", "number"):
            self.notes += read.notes
            return column
        if not any(note.kind == "stray-text" for note in read.notes):
            return None
        self.notes += read.notes
        self._blanks_to_nulls()
        return self._as_strings()

    def _with_decimal_sign(self) -> Column | None:
        """A column of numbers whose decimal sign is no point; None where it is none or has points only.

        A point is no decimal sign then: a cell such as 1.234 may be a thousand, and is never taken for a number.
        """
        if self.decimal == ".":
            return None
        if not text_bytes.has_byte(self.strings, self.decimal.encode()):
            return None
        points = pc.fill_null(pc.match_substring(self.strings, "."), False)
        dotted = pc.replace_substring(self.strings, self.decimal, ".")
        strings = pc.if_else(points, pc.replace_substring(self.strings, ".", "\N{ONE DOT LEADER}"), dotted)
        shown = self.strings if self.shown is None else self.shown
        return self._column_of(Reading(self.name, strings, self.variable, tokens=self.tokens, shown=shown))

    def _only_signs(self) -> bool:
        """False where some token is a word of its own, such as none or absent: alone in a column it may be a value."""
        found = (text.strip().casefold() for text in self.sample(SAMPLE))
        return not any(text in rules.WORDS_FOR_MISSING and text not in self.variable.missing for text in found)

    def _all_blank(self) -> Column:
        type_ = self.variable.type or "string"
        return Column.all_missing(type_, len(self.strings), BLANK)

    def _blanks_to_nulls(self) -> None:
        """Cells that hold nothing but white space are blank; trailing blanks are told."""
        if len(self.strings) == 0 or not text_bytes.has_byte(self.strings, b" "):
            return
        starts_blank = text_bytes.bytes_at(self.strings, 0) == text_bytes.SPACE
        ends_blank = text_bytes.bytes_at(self.strings, -1) == text_bytes.SPACE
        if starts_blank.any():
            rows = np.flatnonzero(starts_blank)
            empty = pc.equal(pc.utf8_trim_whitespace(self.strings.take(pa.array(rows))), "")
            blank = np.zeros(len(self.strings), np.bool_)
            blank[rows] = empty.to_numpy(zero_copy_only=False)
            self.strings = pc.if_else(pa.array(blank), pa.scalar(None, pa.large_string()), self.strings)
            starts_blank &= ~blank
            ends_blank &= ~blank
        around = starts_blank | ends_blank
        if around.any():
            rows = np.flatnonzero(around)
            self._note(
                "blanks-around",
                f"{counted(len(rows), 'cell begins', 'cells begin')} or "
                f"{plural(len(rows), 'ends', 'end')} with a blank; texts are compared as they stand.",
                rows,
            )

    def sample(self, size: int) -> Counter[str]:
        """The first cells and some of the others, by text; blanks do not count."""
        rows = len(self.strings)
        some = self.strings
        if rows > size:
            spread = np.concatenate([np.arange(size // 3), np.linspace(0, rows - 1, size).astype(np.int64)])
            some = self.strings.take(pa.array(np.unique(spread)))
        return Counter(text for text in some.to_pylist() if text is not None)

    def sample_kinds(self, size: int) -> Counter[str]:
        """What kinds of text there are in a sample."""
        kinds: Counter[str] = Counter()
        for text, count in self.sample(size).items():
            kinds["token" if text in self.variable.missing else rules.kind_of(text)] += count
        return kinds

    # ---------------------------------------------------------- the quick ways

    def _cast(self, type_: Type, strings: pa.Array | None = None) -> Column | None:
        """All cells at once where every present one is plain; None where one is not."""
        strings = self.strings if strings is None else strings
        if type_ == "integer" and any(text_bytes.has_byte(strings, sign) for sign in (b"x", b"X")):
            return None  # 0x10 is 16 to the library, and a text to people
        try:
            array = strings.cast(ARROW_TYPES[type_])
        except pa.ArrowInvalid:
            if type_ == "integer" and self.variable.type is None:
                return as_whole(self._cast("number", strings), strings)
            return None
        values = values_of(array, type_)
        why = None if not array.null_count else array.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
        if type_ in ("integer", "number") and not self._keeps_every_digit(type_, strings, values, why):
            return None
        if self.variable.type is None and has_id_like(strings):
            return None
        if (
            type_ == "number"
            and any(text_bytes.has_byte(strings, sign) for sign in (b"e", b"E"))
            and (values == 0).any()
        ):
            return None  # a number too small to be held may be among the zeros
        return self._with_missing_codes(Column.of(type_, values, why, (BLANK,)))

    def _keeps_every_digit(self, type_: Type, strings: pa.Array, values: Array, why: Why | None) -> bool:
        """False where a cell has leading zeros, over 15 digits or no finite value, so that text says more."""
        # Of whole numbers a missing one is 0, which costs one digit; where it is not, the digits do not fit either.
        whole = type_ == "integer"
        present = values if why is None or whole else values[why == 0]
        if not len(present):
            return True
        low, high = present.min(), present.max()
        if not (np.isfinite(low) and np.isfinite(high)):
            return False
        if self.variable.type is not None:
            return True
        if max(high, -low) >= 1e15:
            return False
        if type_ == "number":
            return not text_bytes.has_leading_zeros(strings)
        digits = text_bytes.decimal_length(present, int(low), int(high)) - strings.null_count
        return text_bytes.total_length(strings) == digits

    def _cast_with_words(self, type_: Type) -> Column | None:
        """Numbers or dates with missing tokens between them; None where other words are there."""
        words = ~text_bytes.begins_like_a_number(self.strings)
        words &= ~self.strings.is_null().to_numpy(zero_copy_only=False)
        if not words.any():
            return None
        rows = np.flatnonzero(words)
        encoded = self.strings.take(pa.array(rows)).dictionary_encode()
        reasons = {text: self._reason_of(text) for text in encoded.dictionary.to_pylist()}
        if any(reason is None for reason in reasons.values()):
            return None
        numbers_only = pc.if_else(pa.array(words), pa.scalar(None, pa.large_string()), self.strings)
        column = self._cast(type_, numbers_only)
        if column is None:
            return None
        positions = positions_of(encoded.indices)
        column = column.cleared(words)
        for place, (text, reason) in enumerate(reasons.items()):
            cells = rows[positions == place]
            column = column.with_missing(mask_of(cells, len(self.strings)), str(reason))
            self._note_token(text, cells)
        return column

    # ------------------------------------------------------------- the full way

    def _by_distinct(self, type_: Type) -> Column:
        """Look at each distinct text: number, date, token or stray."""
        column = Column.of_strings(None, Pool(self.strings), *self._blank_why()).encoded()
        positions, texts = column.values, pc.utf8_trim_whitespace(column.strings.strings)
        counts = np.bincount(positions[positions >= 0], minlength=len(texts))
        type_, parsed, fits = self.parsed(type_, texts)
        others = np.flatnonzero(~fits)
        reasons = dict(
            zip(others.tolist(), map(self._reason_of, texts.take(pa.array(others)).to_pylist()), strict=True)
        )
        stray = np.array([place for place, reason in reasons.items() if reason is None], dtype=np.int64)
        if len(stray):
            kept = matches(texts.take(pa.array(stray)), rules.ID_LIKE)
            # Leading zeros or very long: ids, not numbers with slips among them.
            if self.variable.type is not None or not kept.any():
                self._note_stray(type_, stray, counts, positions, int(counts[fits].sum()))
            some = stray[:SAMPLE]
            self._note_resemblance(
                dict(zip(texts.take(pa.array(some)).to_pylist(), counts[some].tolist(), strict=True))
            )
            return self._as_strings()
        if type_ == "integer" and parsed.dtype != np.int64:
            odd = np.flatnonzero(parsed != np.floor(parsed))
            type_ = "number" if len(odd) or not (np.abs(parsed) < 2**53).all() else type_
            self._note_not_whole(odd, positions)
        result = Column.of(type_, parsed[positions] if len(parsed) else parsed, column.why, column.reasons)
        for place, reason in reasons.items():
            cells = np.flatnonzero(positions == place)
            result = result.with_missing(mask_of(cells, len(positions)), str(reason))
            self._note_token(texts[place].as_py(), cells)
        return self._with_missing_codes(result)

    def parsed(self, type_: Type, texts: pa.Array) -> tuple[Type, Array, npt.NDArray[np.bool_]]:
        """The type that distinct texts of a likely type have, their values, and whether each has one."""
        values, fits = self._parsed(type_, texts)
        if type_ == "date" and self.variable.type is None and not (self.date_format or fits.all()):
            moments, are = self._parsed("datetime", texts)
            if (are & ~fits).any():  # hours that no sample shows
                return "datetime", moments, are
        return type_, values, fits

    def _parsed(self, type_: Type, texts: pa.Array) -> tuple[Array, npt.NDArray[np.bool_]]:
        """Value of each distinct text, and whether it has one under the rules of the type."""
        if self.date_format:
            moments, fits = dates_in_forms(texts, self.date_format)
            return moments.astype(DTYPES[type_]), fits
        if type_ == "boolean":
            lower = pc.utf8_lower(texts)
            fits = pc.is_in(lower, value_set=pa.array(["true", "false"], pa.large_string())).to_numpy(
                zero_copy_only=False
            )
            return pc.equal(lower, "true").to_numpy(zero_copy_only=False), fits
        if type_ in ("date", "datetime"):
            array = parsed_dates(type_, texts)
        else:
            return self._parsed_numbers(texts)
        return values_of(array, type_), array.is_valid().to_numpy(zero_copy_only=False)

    def _parsed_numbers(self, texts: pa.Array) -> tuple[Array, npt.NDArray[np.bool_]]:
        fits = matches(texts, rules.NUMBER)
        if self.variable.type is None:
            fits &= ~matches(texts, rules.ID_LIKE)
        whole = bool(matches(texts, rules.WHOLE)[fits].all())
        plain = pc.utf8_ltrim(pc.if_else(pa.array(fits), texts, "0"), "+")
        if whole:
            try:
                return plain.cast(pa.int64()).to_numpy(zero_copy_only=False), fits
            except pa.ArrowInvalid:  # over 18 digits
                if self.variable.type == "integer":
                    return self._parsed_integers(plain, fits)
        values = np.array(plain.cast(pa.float64()).to_numpy(zero_copy_only=False))
        fits &= np.isfinite(values)
        # A number that is not nought and too small to be held is no number, rather than nought.
        fits &= (values != 0) | ~matches(texts, rules.NOT_NOUGHT)
        return np.where(fits, values, 0.0), fits

    def _parsed_integers(self, plain: pa.Array, fits: npt.NDArray[np.bool_]) -> tuple[Array, npt.NDArray[np.bool_]]:
        """Whole numbers of up to 18 digits, and those of 19 that can be held."""
        try:
            return plain.cast(pa.int64()).to_numpy(zero_copy_only=False), fits
        except pa.ArrowInvalid:
            holds = np.array([-(2**63) <= int(text) < 2**63 for text in plain.to_pylist()])
            values = pc.if_else(pa.array(holds), plain, "0").cast(pa.int64()).to_numpy(zero_copy_only=False)
            return values, fits & holds

    def _blank_why(self) -> tuple[Why | None, tuple[str, ...]]:
        if not self.strings.null_count:
            return None, ()
        return self.strings.is_null().to_numpy(zero_copy_only=False).view(np.uint8), (BLANK,)

    def _as_strings(self) -> Column:
        column = Column.of_strings(None, Pool(self.strings), *self._blank_why())
        if not self.variable.missing:
            return column
        column = column.encoded()
        for code, reason in self.variable.missing.items():
            place = column.strings.strings.index(code).as_py()
            if place >= 0:
                column = column.with_missing(column.values == place, reason)
        return column

    # --------------------------------------------------------- missing and notes

    def _reason_of(self, text: str) -> str | None:
        """The reason that a text stands for among numbers or dates; None for a text that is not known as one."""
        if text in self.variable.missing:
            return self.variable.missing[text]
        if not text:
            return BLANK
        return text if self.tokens and text.casefold() in rules.USUAL_TOKENS else None

    def _with_missing_codes(self, column: Column) -> Column:
        """Turn the dictionary's missing codes that are numbers into reasons."""
        if column.type not in ("integer", "number"):
            return column
        for code, reason in self.variable.missing.items():
            try:
                value = float(code)
            except ValueError:
                continue
            column = column.with_missing(column.values == value, reason)
        return column

    def _note(self, kind: str, text: str, rows: Array) -> None:
        some = rows[:MOST_EXAMPLES]
        values = (self.strings if self.shown is None else self.shown).take(pa.array(some)).to_pylist()
        examples = tuple(zip((some + FIRST_ROW).tolist(), values, strict=True))
        self.notes.append(Note(text, self.name, examples, kind, len(rows)))

    def _note_token(self, text: str, rows: Array) -> None:
        if text not in self.variable.missing:
            self._note("token", f'"{text}" is taken as missing among the values, {times(len(rows))}.', rows)

    def _note_stray(self, type_: Type, stray: Array, counts: Array, positions: Array, fitting: int) -> None:
        """Tell the cells that keep a column from being numbers or dates, where they are the few."""
        cells = int(counts[stray].sum())
        if self.variable.type is None and fitting < MOSTLY * (fitting + cells):
            return
        is_stray = np.zeros(len(counts) + 1, np.bool_)
        is_stray[stray] = True
        rows = np.flatnonzero(is_stray[positions])
        word = {"integer": "numbers", "number": "numbers", "boolean": "true or false"}.get(type_, f"{type_}s")
        told = f"{counted(cells, 'cell is', 'cells are')} not like the other {fitting:,}, which are {word}"
        self._note("stray-text", f"stays text: {told if fitting else f'its cells are no {word}'}.", rows)

    def _note_not_whole(self, odd: Array, positions: Array) -> None:
        """Tell the decimals of a column that was stated to be whole numbers."""
        rows = np.flatnonzero(np.isin(positions, odd))
        if self.variable.type == "integer" and len(rows):
            cells = counted(len(rows), "cell has", "cells have")
            self._note("not-whole", f"was stated to be whole numbers, but {cells} decimals; read as numbers.", rows)

    def _note_resemblance(self, strays: Mapping[str, int] = NO_STRAYS) -> None:
        """Tell what a column that stays text looks like; the cells that keep it so may stand in no sample."""
        found = resemblance(self.name, {**strays, **self.sample(SAMPLE)}, self.decimal, self.thousands)
        if found is not None:
            if self.date_format and f":{self.date_format}›" in found.text:
                return
            if self.variable.type is not None and found.kind == "digits-kept":
                return  # it was stated to be numbers, and is none for other reasons
            rows = np.flatnonzero(found.cells(self.strings))
            self._note(found.kind, found.text, rows)


def has_id_like(strings: pa.Array) -> bool:
    """True where a text that would be a number looks like an id: 12E4, +49123."""
    if not any(text_bytes.has_byte(strings, sign) for sign in (b"E", b"+")):
        return False
    return bool(matches(strings.drop_null(), rules.ID_LIKE).any())


def typed_column(
    name: str,
    strings: pa.Array,
    variable: Variable = NOTHING_KNOWN,
    date_format: str = "",
    decimal: str = ".",
    thousands: str = "",
    *,
    tokens: bool = True,
) -> tuple[Column, list[Note]]:
    """Turn text cells into a typed column.

    Parameters
    ----------
    name
        The column's name, for the notes.
    strings
        Arrow large_string array of the cells; nulls are blank cells.
    variable
        What the dictionary says of the column; its type and missing codes count.
    date_format
        How the dates are written (as in the C standard's strftime), where that was said.
    decimal, thousands
        The separator before the decimal places of numbers, and that between thousands.
    tokens
        Whether words such as n/a are missing cells among numbers and dates.

    Returns
    -------
    The column, and notes on the cells that a person should look at.
    """
    reading = Reading(name, strings, variable, date_format, decimal, thousands, tokens)
    column = reading.column()
    return column, reading.notes


def typed_chunks(
    name: str,
    chunks: pa.ChunkedArray,
    variable: Variable = NOTHING_KNOWN,
    date_format: str = "",
    decimal: str = ".",
    thousands: str = "",
    each: Each = map,
) -> tuple[Column, list[Note]]:
    """Turn text cells that come in several Arrow arrays into one typed column, as `typed_column` does for one.

    Plain numbers are cast array by array, which spares putting all of their text together first; `each` may do so
    side by side.
    """
    if chunks.num_chunks > 1 and len(chunks) > FEW_ROWS and not date_format and decimal == "." and not thousands:
        column = _plain_numbers(name, chunks, variable, each)
        if column is not None:
            return column, []
    # One array always: large strings have room for all.
    whole = cast(pa.Array, chunks.cast(pa.large_string()).combine_chunks())
    return typed_column(name, whole, variable, date_format, decimal, thousands)


def _plain_numbers(name: str, chunks: pa.ChunkedArray, variable: Variable, each: Each) -> Column | None:
    """A column whose every cell is a plain number or a blank; None where one is not."""
    if variable.type not in (None, "integer", "number"):
        return None
    largest = max(chunks.chunks, key=len)
    type_ = variable.type or likely_number(Reading(name, largest, variable).sample_kinds(GLANCE))
    if type_ is None:
        return None

    def plain(chunk: pa.Array) -> Column | None:
        return None if text_bytes.has_byte(chunk, b" ") else Reading(name, chunk, variable)._cast(type_)

    parts = []
    for column in each(plain, chunks.chunks):
        if column is None or column.type != type_:
            return None
        parts.append(column)
    why, reasons = joined_whys(parts)
    return Column(type_, np.concatenate([part.values for part in parts]), why, reasons)
