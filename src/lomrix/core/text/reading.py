"""From text cells to a typed column: numbers, dates and missing cells."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import text_bytes
from lomrix.core.arrays.types import Array
from lomrix.core.characters import HARDLY_MEANT
from lomrix.core.combining import MOST_EXAMPLES, Words
from lomrix.core.table.column import DTYPES, Column
from lomrix.core.table.notes import FIRST_ROW, Note, plural, pluralize
from lomrix.core.table.numbers import Type
from lomrix.core.table.pool import Pool, to_positions
from lomrix.core.table.reasons import BLANK, Why
from lomrix.core.table.variable import NO_ENTRY, Variable
from lomrix.core.text import rules
from lomrix.core.text.dates import LAST_LIKELY_YEAR, find_late_years, limit_years, parse_dates_in_forms
from lomrix.core.text.numbers import parse_numbers
from lomrix.core.text.similarity import MOSTLY, find_similarity, guess_number_type, guess_type
from lomrix.core.text.values import (
    ARROW_TYPES,
    choose_sample,
    get_values,
    has_ids,
    make_mask,
    match_texts,
    parse_iso_dates,
    to_integers,
)
from lomrix.core.wording import format_operand

# Cells sampled to choose the type to try; a few suffice to try numbers, since all cells are then checked.
SAMPLE = 1500
GLANCE = 12
# First bytes of characters that are hardly meant.
UNUSUAL = (b"\xc2", b"\xe2", b"\xef", b"\xcc", b"\xcd")
NO_STRAYS: Mapping[str, int] = {}
KINDS = {
    "integer": ("a number", "numbers"),
    "number": ("a number", "numbers"),
    "boolean": ("true or false", "true or false"),
}


@dataclass
class Reading:
    """One column being read; `shown` are the cells as notes show them, where `strings` is made from them."""

    name: str
    strings: pa.Array
    variable: Variable = NO_ENTRY
    date_format: str = ""
    decimal: str = "."
    thousands: str = ""
    tokens: bool = True
    shown: pa.Array | None = None
    notes: list[Note] = field(default_factory=list)

    # ------------------------------------------------------------- entry

    def read(self) -> Column:
        """Return the typed column, leaving notes for the user in `notes`."""
        for read_separated in (self._read_thousands, self._read_decimal_separator):
            column = read_separated()
            if column is not None:
                return column
        self._clear_blank_cells()
        if self.strings.null_count == len(self.strings):
            return self._make_blank_column()
        declared = self.variable.type
        if declared == "string":
            return self._as_strings()
        if self.date_format:
            return self._read_distinct(declared or "date")
        likely_type = declared or guess_number_type(self.sample_kinds(GLANCE))
        column_ = self.cast(likely_type) if likely_type in ("integer", "number") else None
        column_ = column_ or self._read_as(self._choose_type())
        if column_.type == "number" and declared is None:
            self.note_points()
        return column_

    def _choose_type(self) -> Type:
        """Return the declared type, or the one that a sample suggests."""
        sample, declared = self.sample_kinds(SAMPLE), self.variable.type
        if declared is not None:
            return declared
        if set(sample) == {"token"} and not self._has_only_symbols():
            return "string"
        type_ = guess_type(sample)
        return "number" if type_ == "integer" and sample["number"] else type_

    def _read_as(self, type_: Type) -> Column:
        """Read the texts as a type if they fit it, else as text."""
        if type_ == "string":
            self._note_similarity()
            return self._as_strings()
        if type_ == "boolean":
            return self._read_distinct(type_)
        return self.cast(type_) or self._cast_with_words(type_) or self._read_distinct(type_)

    def _read_thousands(self) -> Column | None:
        """Read numbers with a thousands separator; None if there are none."""
        separator, texts = self.thousands, self.strings
        if separator == " " and not text_bytes.is_ascii(texts):
            texts = pc.replace_substring_regex(texts, r"[\x{a0}\x{202f}]", " ")
        if not separator or not text_bytes.has_byte(texts, separator.encode()):
            return None
        point = re.escape(self.decimal)
        grouped = f"^[+-]?\\d{{1,3}}({re.escape(separator)}\\d{{3}})+({point}\\d+)?$"
        fits = pc.fill_null(pc.match_substring_regex(pc.utf8_trim_whitespace(texts), grouped), False)
        strings = pc.if_else(fits, pc.replace_substring(texts, separator, ""), self.strings)
        return self._read_inner(Reading(
            self.name, strings, self.variable, "", self.decimal, tokens=self.tokens, shown=self.strings
        ))  # fmt: skip

    def _read_inner(self, inner: Reading) -> Column | None:
        """Read the texts without their separators, if they are numbers or have stray cells to note."""
        column = inner.read()
        if column.type in ("integer", "number"):
            self.notes += inner.notes
            return column
        if not any(note.kind == "stray-text" for note in inner.notes):
            return None
        self._clear_blank_cells()
        self.notes += [note for note in inner.notes if note.kind != "spaces-around"]
        return self._as_strings()

    def _read_decimal_separator(self) -> Column | None:
        """Read numbers whose decimal separator is not a point; None if there are none."""
        if self.decimal == ".":
            return None
        if not text_bytes.has_byte(self.strings, self.decimal.encode()):
            return None
        points = pc.fill_null(pc.match_substring(self.strings, "."), False)
        dotted = pc.replace_substring(self.strings, self.decimal, ".")
        strings = pc.if_else(points, pc.replace_substring(self.strings, ".", "\N{ONE DOT LEADER}"), dotted)
        shown = self.strings if self.shown is None else self.shown
        return self._read_inner(Reading(self.name, strings, self.variable, tokens=self.tokens, shown=shown))

    def _has_only_symbols(self) -> bool:
        """Return False if a token is a word such as none or absent: alone in a column it may be a value."""
        texts = (text.strip().casefold() for text in self.sample(SAMPLE))
        return not any(text in rules.WORDS_FOR_MISSING and text not in self.variable.missing for text in texts)

    def _make_blank_column(self) -> Column:
        type_ = self.variable.type or "string"
        return Column.all_missing(type_, len(self.strings), BLANK)

    def _clear_blank_cells(self) -> None:
        """Turn cells that hold only spaces into blank cells, and note spaces around texts."""
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
                "spaces-around",
                Words(
                    "{cells:cell begins|cells begin} or {cells:=ends|end} with a space; texts are compared as they "
                    "are.",
                    cells=len(rows),
                ),
                rows,
            )

    def sample(self, size: int) -> Counter[str]:
        """Count the first cells and some of the others by text; blanks are not counted."""
        some = self.strings.take(pa.array(choose_sample(len(self.strings), size)))
        return Counter(text for text in some.to_pylist() if text is not None)

    def sample_kinds(self, size: int) -> Counter[str]:
        """Count what kinds of text a sample has."""
        kinds: Counter[str] = Counter()
        for text, count in self.sample(size).items():
            kinds["token" if text in self.variable.missing else rules.classify_text(text)] += count
        return kinds

    # ---------------------------------------------------------- the quick ways

    def cast(self, type_: Type, strings: pa.Array | None = None) -> Column | None:
        """Cast all cells at once if every present one is plain; None otherwise."""
        strings = self.strings if strings is None else strings
        if type_ == "integer" and any(text_bytes.has_byte(strings, byte) for byte in (b"x", b"X")):
            return None  # the library reads 0x10 as 16; for people it is text
        try:
            array = strings.cast(ARROW_TYPES[type_])
        except pa.ArrowInvalid:
            if type_ == "integer" and self.variable.type is None:
                return to_integers(self.cast("number", strings), strings)
            return None
        values = get_values(array, type_)
        why = None if not array.null_count else array.is_null().to_numpy(zero_copy_only=False).view(np.uint8)
        if type_ in ("integer", "number") and not self._keeps_every_digit(type_, strings, values, why):
            return None
        if self.variable.type is None and has_ids(strings):
            return None
        if (
            type_ == "number"
            and any(text_bytes.has_byte(strings, byte) for byte in (b"e", b"E"))
            and (values == 0).any()
        ):
            return None  # a number too small for float64 may be among the zeros
        return self._apply_missing_codes(Column.of(type_, values, why, (BLANK,)))

    def _keeps_every_digit(self, type_: Type, strings: pa.Array, values: Array, why: Why | None) -> bool:
        """Return False if a cell has leading zeros, over 15 digits or no finite value, so that the text holds more."""
        # A missing integer is stored as 0, which has one digit.
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
        """Cast numbers or dates with missing-value tokens among them; None if there are other words."""
        words = ~text_bytes.may_be_number(self.strings)
        words &= ~self.strings.is_null().to_numpy(zero_copy_only=False)
        if not words.any():
            return None
        rows = np.flatnonzero(words)
        encoded = self.strings.take(pa.array(rows)).dictionary_encode()
        reasons = {text: self.get_reason(text) for text in encoded.dictionary.to_pylist()}
        if any(reason is None for reason in reasons.values()):
            return None
        numbers_only = pc.if_else(pa.array(words), pa.scalar(None, pa.large_string()), self.strings)
        column = self.cast(type_, numbers_only)
        if column is None:
            return None
        positions = to_positions(encoded.indices)
        column = column.clear_missing(words)
        for index, (text, reason) in enumerate(reasons.items()):
            cells = rows[positions == index]
            column = column.with_missing(make_mask(cells, len(self.strings)), str(reason))
            self._note_token(text, cells)
        return column

    # ------------------------------------------------------------- the full way

    def _read_distinct(self, type_: Type) -> Column:
        """Examine each distinct text: number, date, token or stray."""
        column = Column.of_strings(None, Pool(self.strings), *self._blank_reasons()).encode()
        positions, texts = column.values, pc.utf8_trim_whitespace(column.strings.strings)
        counts = np.bincount(positions[positions >= 0], minlength=len(texts))
        type_, parsed, fits = self.parse(type_, texts)
        others = np.flatnonzero(~fits)
        reasons = dict(
            zip(others.tolist(), map(self.get_reason, texts.take(pa.array(others)).to_pylist()), strict=True)
        )
        stray = np.array([index for index, reason in reasons.items() if reason is None], dtype=np.int64)
        if len(stray):
            kept = match_texts(texts.take(pa.array(stray)), rules.ID_LIKE)
            # Leading zeros or many digits: ids, not numbers with typing errors.
            if self.variable.type is not None or not kept.any():
                self._note_stray(type_, stray, counts, positions, int(counts[fits].sum()))
            sample = stray[:SAMPLE]
            self._note_similarity(
                dict(zip(texts.take(pa.array(sample)).to_pylist(), counts[sample].tolist(), strict=True))
            )
            return self._as_strings()
        if type_ == "integer" and parsed.dtype != np.int64:
            odd = np.flatnonzero(parsed != np.floor(parsed))
            type_ = "number" if len(odd) or not (np.abs(parsed) < 2**53).all() else type_
            self._note_not_whole(odd, positions)
        if "%y" in self.date_format:
            self._note_late_years(type_, find_late_years(texts, self.date_format), positions)
        result = Column.of(type_, parsed[positions] if len(parsed) else parsed, column.why, column.reasons)
        for index, reason in reasons.items():
            cells = np.flatnonzero(positions == index)
            result = result.with_missing(make_mask(cells, len(positions)), str(reason))
            self._note_token(texts[index].as_py(), cells)
        return self._apply_missing_codes(result)

    def parse(self, type_: Type, texts: pa.Array) -> tuple[Type, Array, npt.NDArray[np.bool_]]:
        """Return the type of distinct texts of a likely type, their values, and whether each has one."""
        values, fits = self.parse_as(type_, texts)
        if type_ == "date" and self.variable.type is None and not (self.date_format or fits.all()):
            timestamps, is_timestamp = self.parse_as("datetime", texts)
            if (is_timestamp & ~fits).any():  # times of day that the sample missed
                return "datetime", timestamps, is_timestamp
        return type_, values, fits

    def parse_as(self, type_: Type, texts: pa.Array) -> tuple[Array, npt.NDArray[np.bool_]]:
        """Return the value of each distinct text, and whether it has one under the rules of the type."""
        if self.date_format:
            return self._parse_dates(type_, texts)
        if type_ == "boolean":
            lower = pc.utf8_lower(texts)
            fits = pc.is_in(lower, value_set=pa.array(["true", "false"], pa.large_string())).to_numpy(
                zero_copy_only=False
            )
            return pc.equal(lower, "true").to_numpy(zero_copy_only=False), fits
        if type_ in ("date", "datetime"):
            is_day = type_ == self.variable.type == "date"
            array = parse_iso_dates(type_, pc.replace_substring_regex(texts, rules.MIDNIGHT, "") if is_day else texts)
        else:
            return parse_numbers(texts, self.variable.type)
        return get_values(array, type_), array.is_valid().to_numpy(zero_copy_only=False)

    def _parse_dates(self, type_: Type, texts: pa.Array) -> tuple[Array, npt.NDArray[np.bool_]]:
        """Parse dates in the stated form, or else as ISO writes them: what Lomrix wrote is read with the dictionary of
        the raw file.
        """
        timestamps, fits = parse_dates_in_forms(texts, self.date_format)
        days = timestamps.astype(DTYPES[type_])
        if fits.all() or self.date_format.startswith("%Y"):  # 2024-05-03 may be the third of May, or not
            return days, fits
        iso = parse_iso_dates("datetime", texts)
        values = get_values(iso.fill_null(0), "datetime").astype("M8[us]")
        is_iso = ~fits & iso.is_valid().to_numpy(zero_copy_only=False) & (values.astype(DTYPES[type_]) == values)
        return np.where(is_iso, values.astype(DTYPES[type_]), days), fits | is_iso

    def _blank_reasons(self) -> tuple[Why | None, tuple[str, ...]]:
        if not self.strings.null_count:
            return None, ()
        return self.strings.is_null().to_numpy(zero_copy_only=False).view(np.uint8), (BLANK,)

    def _as_strings(self) -> Column:
        self._note_characters()
        column = Column.of_strings(None, Pool(self.strings), *self._blank_reasons())
        if not self.variable.missing:
            return column
        column = column.encode()
        for code, reason in self.variable.missing.items():
            position = column.strings.strings.index(code).as_py()
            if position >= 0:
                column = column.with_missing(column.values == position, reason)
        return column

    # --------------------------------------------------------- missing and notes

    def get_reason(self, text: str) -> str | None:
        """Return the reason that a text means among numbers or dates; None if it is not a known token."""
        if text in self.variable.missing:
            return self.variable.missing[text]
        if not text:
            return BLANK
        return text if self.tokens and text.casefold() in rules.USUAL_TOKENS else None

    def _apply_missing_codes(self, column: Column) -> Column:
        """Turn the dictionary's numeric missing codes into reasons."""
        if column.type not in ("integer", "number"):
            return column
        for code, reason in self.variable.missing.items():
            try:
                value = float(code)
            except ValueError:
                continue
            column = column.with_missing(column.values == value, reason)
        return column

    def _note(self, kind: str, text: str, rows: Array, reading: tuple[tuple[str, str], ...] = ()) -> None:
        first_rows = rows[:MOST_EXAMPLES]
        values = (self.strings if self.shown is None else self.shown).take(pa.array(first_rows)).to_pylist()
        examples = tuple(zip((first_rows + FIRST_ROW).tolist(), values, strict=True))
        self.notes.append(Note(text, self.name, examples, kind, len(rows), reading=reading))

    def _note_characters(self) -> None:
        """Note characters that look like others, or cannot be seen, so that texts differ that look the same."""
        if text_bytes.is_ascii(self.strings) or not any(text_bytes.has_byte(self.strings, byte) for byte in UNUSUAL):
            return
        if any(note.kind in ("characters", "thousands") for note in self.notes):
            return
        matches = pc.fill_null(pc.match_substring_regex(self.strings, HARDLY_MEANT), False)
        rows = np.flatnonzero(matches.to_numpy(zero_copy_only=False))
        if len(rows):
            template = (
                "{cells:cell has|cells have} characters that look like others or cannot be seen, such as no-break "
            )
            template += "spaces; texts are compared as they are; derive the plain text: {function}"
            words = Words(template, cells=len(rows), function=f"plain({format_operand(self.name)})")
            self._note("characters", words, rows)

    def _note_token(self, text: str, rows: Array) -> None:
        if text not in self.variable.missing:
            words = Words('"{text}" means missing among the values, {cells:times}.', text=text, cells=len(rows))
            self._note("token", words, rows)

    def _note_stray(self, type_: Type, stray: Array, counts: Array, positions: Array, fitting: int) -> None:
        """Note the cells that keep a column from being numbers or dates, if they are few."""
        cells = int(counts[stray].sum())
        if self.variable.type is None and fitting < MOSTLY * (fitting + cells):
            return
        is_stray = np.zeros(len(counts) + 1, np.bool_)
        is_stray[stray] = True
        rows = np.flatnonzero(is_stray[positions])
        one, many = KINDS.get(type_, (f"a {type_}", f"{type_}s"))
        if fitting:
            count = f"{cells:,} of {cells + fitting:,} cells {plural(cells, f'is not {one}', f'are not {many}')}"
        else:
            count = f"its cells are not {many}"
        self._note("stray-text", f"kept as text: {count}.", rows)

    def _note_not_whole(self, odd: Array, positions: Array) -> None:
        """Note the decimals of a column declared as integer."""
        rows = np.flatnonzero(np.isin(positions, odd))
        if self.variable.type == "integer" and len(rows):
            cells = pluralize(len(rows), "cell has", "cells have")
            self._note("not-whole", f"was declared as integers, but {cells} decimals; read as numbers.", rows)

    def _note_late_years(self, type_: Type, is_late: Array, positions: Array) -> None:
        """Note dates in a future that years of two digits hardly mean."""
        rows = np.flatnonzero(np.append(is_late, False)[positions])
        if len(rows):
            setting = f"{self.name}={type_}:{limit_years(self.date_format)}"
            template = (
                "{cells:date is|dates are} after {last:}, from years of two digits, which are read as 1969 to 2068; "
            )
            template += "if these are of the century before, name the last year that they can mean: {setting}"
            words = Words(template, cells=len(rows), last=str(LAST_LIKELY_YEAR), setting=f"‹type={setting}›")
            self._note("two-digit-years", words, rows, (("type", setting),))

    def _note_similarity(self, strays: Mapping[str, int] = NO_STRAYS) -> None:
        """Note what a column kept as text looks like; `strays` are texts that a sample may miss."""
        similarity = find_similarity(self.name, {**strays, **self.sample(SAMPLE)}, self.decimal, self.thousands)
        if similarity is not None:
            if self.date_format and f":{self.date_format}›" in similarity.text:
                return
            if self.variable.type is not None and similarity.kind == "digits-kept":
                return  # declared as numbers, and not read as such for other reasons
            rows = np.flatnonzero(similarity.cells(self.strings))
            self._note(similarity.kind, similarity.text, rows, similarity.reading)

    def may_be_grouped(self) -> bool:
        """Return whether some numbers have a point, and each such of a sample three digits after it."""
        if self.decimal != "." or not text_bytes.has_byte(self.strings, b"."):
            return False
        with_point = [text.strip() for text in self.sample(SAMPLE) if "." in text]
        return all(re.fullmatch(rules.POINT_GROUP, text) for text in with_point)

    def note_points(self) -> None:
        """Note points that are more likely between thousands: 1.200 beside 900, where a decimal would not end in 0."""
        if not self.may_be_grouped():
            return
        texts = pc.utf8_trim_whitespace(self.strings.fill_null(""))
        is_grouped = match_texts(texts, rules.POINT_GROUP)
        patterns = (r".*\..*", r".*\..*0", r"-?\d{3}")
        with_point, ends_in_zero, others = (match_texts(texts, pattern) for pattern in patterns)
        if (is_grouped == with_point).all() and ends_in_zero.any() and others.any():
            text = (
                "looks like whole numbers with a point between thousands, and is read as decimals; if they are whole, "
            )
            self._note("thousands", text + "use ‹thousands=.› and ‹decimal=,›", np.flatnonzero(is_grouped))


def read_text_column(
    name: str,
    strings: pa.Array,
    variable: Variable = NO_ENTRY,
    date_format: str = "",
    decimal: str = ".",
    thousands: str = "",
    *,
    tokens: bool = True,
) -> tuple[Column, list[Note]]:
    """Read text cells as a typed column; also return notes for the user.

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
    column = reading.read()
    return column, reading.notes
