"""Dates in stated forms, and the likely form of dates in an unstated one."""

from __future__ import annotations

import datetime
import re
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays.types import Array
from lomrix.core.errors import UsageError
from lomrix.core.text.values import get_values, match_texts, parse_iso_dates

BETWEEN_FORMS = "|"
# The last year that two digits mean, behind a form: %d.%m.%y..2024 reads 25 as 1925.
LAST_YEAR = re.compile(r"(.*)\.\.([1-9]\d{3})")
# Without it 68 means 2068; years after this one are noted.
LAST_LIKELY_YEAR = 2035
# Forms of timestamps with a UTC offset: as the clock showed them, or converted to UTC.
OFFSET_FORMS = ("local", "utc")
WITH_OFFSET = r"^(?P<clock>.*:\d{2}(?:\.\d+)?) ?(?P<offset>Z|[+-](?:[01]\d|2[0-3])(?::?[0-5]\d)?)$"
EARLIEST = np.datetime64("1000-01-01", "us")
AFTER_LAST = np.datetime64("10000-01-01", "us")
SHORT_MONTHS = frozenset(["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"])
CLOCK = r"(?:[ T](\d{1,2}:\d{2})(:\d{2})?)?"
FORMS = (
    (re.compile(rf"(\d{{1,2}})([/.\-])(\d{{1,2}})\2(\d{{4}}|\d{{2}}){CLOCK}"), "numbers"),
    (re.compile(rf"\d{{4}}([/.])\d{{1,2}}\1\d{{1,2}}{CLOCK}"), "year-first"),
    (re.compile(rf"\d{{1,2}}([ .\-])([A-Za-z]{{3,9}})([ .\-])(\d{{4}}|\d{{2}}){CLOCK}"), "day-month"),
    (re.compile(rf"([A-Za-z]{{3,9}}) \d{{1,2}}(,?) (\d{{4}}|\d{{2}}){CLOCK}"), "month-day"),
)


def is_local(forms: str) -> bool:
    """Return whether timestamps with a UTC offset are to be read as the clock showed them."""
    return "local" in forms.split(BETWEEN_FORMS)


def require_date_forms(text: str) -> None:
    """Stop if a text is not a date form such as `%d/%m/%Y`, `%d/%m/%Y|%d %b %Y` or `local`.

    Raises UsageError naming the invalid part.
    """
    for form in text.split(BETWEEN_FORMS):
        if form in OFFSET_FORMS:
            continue
        plain, last_year = split_last_year(form)
        try:
            datetime.datetime.strptime(datetime.datetime(2024, 3, 5, 14, 7).strftime(plain), plain)
        except (ValueError, re.error):
            is_valid = False
        else:
            is_valid = "%" in plain if last_year is None else "%y" in plain
        if not is_valid:
            raise UsageError(
                f'"{form}" is not a date form.',
                todo="%d is the day, %m the month, %b its name, %Y and %y the year, %H:%M:%S the time: "
                "%d/%m/%Y. With a UTC offset, use local or utc.",
            )


def split_last_year(form: str) -> tuple[str, int | None]:
    """Split a form from the last year that two digits can mean.

    >>> split_last_year("%d.%m.%y..2024"), split_last_year("%d.%m.%y")
    (('%d.%m.%y', 2024), ('%d.%m.%y', None))
    """
    match = LAST_YEAR.fullmatch(form)
    return (match[1], int(match[2])) if match else (form, None)


def limit_years(forms: str) -> str:
    """Return the forms with the last likely year behind those with years of two digits."""
    return BETWEEN_FORMS.join(
        f"{form}..{LAST_LIKELY_YEAR}" if "%y" in form else form for form in forms.split(BETWEEN_FORMS)
    )


def parse_dates_in_forms(texts: pa.Array, forms: str) -> tuple[Array, npt.NDArray[np.bool_]]:
    """Parse each text by the first form that fits it, into datetime64[us] and whether it fits.

    Forms are as in the C standard's strftime, separated by `|`; `local` is the time of an ISO timestamp with a UTC
    offset as the clock showed it, and `utc` that time in UTC. Years of two digits are 1969 to 2068, or the hundred up
    to the one that `..2024` behind the form names. Impossible dates, years of a wrong length and all other
    texts do not fit.

    >>> texts = pa.array(["5/3/2024", "31/02/2024", "1/2/24", "7 May 2024"], pa.large_string())
    >>> timestamps, fits = parse_dates_in_forms(texts, "%d/%m/%Y|%d %b %Y")
    >>> [str(timestamp)[:10] for timestamp in timestamps[fits]], fits.tolist()
    (['2024-03-05', '2024-05-07'], [True, False, False, True])
    """
    timestamps = np.zeros(len(texts), "datetime64[us]")
    fits = np.zeros(len(texts), np.bool_)
    for form in forms.split(BETWEEN_FORMS):
        remaining = np.flatnonzero(~fits)
        form, last_year = split_last_year(form)
        parse = _parse_with_offset if form in OFFSET_FORMS else _parse_in_form
        parsed, parsed_ok = parse(texts.take(pa.array(remaining)), form)
        if last_year is not None:
            parsed, is_possible = move_centuries(parsed, last_year)
            parsed_ok = parsed_ok & is_possible
        timestamps[remaining[parsed_ok]] = parsed[parsed_ok]
        fits[remaining[parsed_ok]] = True
    return timestamps, fits


def move_centuries(timestamps: Array, last_year: int) -> tuple[Array, npt.NDArray[np.bool_]]:
    """Move timestamps by centuries into the hundred years up to `last_year`, and return whether their days exist there:
    1900 had no 29 February.
    """
    months = timestamps.astype("M8[M]")
    years = timestamps.astype("M8[Y]").astype(np.int64) + 1970
    moved_months = months + 12 * ((last_year - years) // 100 * 100)
    moved = moved_months.astype("M8[us]") + (timestamps - months.astype("M8[us]"))
    return moved, moved.astype("M8[M]") == moved_months


def find_late_years(texts: pa.Array, forms: str) -> npt.NDArray[np.bool_]:
    """Return which texts are dates after the last likely year, since their years have two digits."""
    if "%y" not in forms or LAST_YEAR.search(forms):
        return np.zeros(len(texts), np.bool_)
    dates, fits = parse_dates_in_forms(texts, forms)
    is_late = dates.astype("M8[Y]").astype(np.int64) + 1970 > LAST_LIKELY_YEAR
    return fits & is_late & ~match_texts(texts, r".*\d{4}.*")


def _parse_in_form(texts: pa.Array, form: str) -> tuple[Array, npt.NDArray[np.bool_]]:
    """As `parse_dates_in_forms`, for one form."""
    array = pc.strptime(texts, format=form, unit="us", error_is_null=True)
    # The fast parser reads 31 February as a day in March: its result counts only if it formats back to the same text.
    formatted = pc.strftime(array, format=form) if len(texts) else texts
    same = pc.fill_null(pc.equal(normalize_digits(formatted), normalize_digits(texts)), False).to_numpy(
        zero_copy_only=False
    )
    timestamps = np.array(array.fill_null(0).to_numpy(zero_copy_only=False), "datetime64[us]")
    fits = np.array(same, np.bool_) & (timestamps >= EARLIEST)
    for index in np.flatnonzero(~fits).tolist():
        try:
            timestamps[index] = np.datetime64(datetime.datetime.strptime(texts[index].as_py(), form), "us")
        except (ValueError, TypeError):
            continue
        fits[index] = True
    return timestamps, fits


def _parse_with_offset(texts: pa.Array, form: str) -> tuple[Array, npt.NDArray[np.bool_]]:
    """As `parse_dates_in_forms`, for timestamps with a UTC offset; a time without one counts as it is."""
    trimmed = pc.utf8_trim_whitespace(texts)
    parts = pc.extract_regex(trimmed, WITH_OFFSET)
    has_offset = parts.is_valid().to_numpy(zero_copy_only=False)
    clock = parse_iso_dates("datetime", pc.if_else(pa.array(has_offset), pc.struct_field(parts, "clock"), trimmed))
    fits = clock.is_valid().to_numpy(zero_copy_only=False)
    timestamps = np.array(get_values(clock.fill_null(0), "datetime"))
    if form == "utc":
        offsets = pc.struct_field(parts, "offset")
        for offset in pc.unique(offsets.filter(pa.array(has_offset))).to_pylist():
            rows = pc.equal(offsets, offset).fill_null(False).to_numpy(zero_copy_only=False)
            timestamps[rows & has_offset] -= np.timedelta64(parse_offset(offset), "m")
    return timestamps, fits & (timestamps >= EARLIEST) & (timestamps < AFTER_LAST)


def parse_offset(text: str) -> int:
    """Return the minutes of a UTC offset.

    >>> parse_offset("+01:00"), parse_offset("-0330"), parse_offset("+02"), parse_offset("Z")
    (60, -210, 120, 0)
    """
    if text == "Z":
        return 0
    digits = text[1:].replace(":", "").ljust(4, "0")
    return (-1 if text[0] == "-" else 1) * (int(digits[:2]) * 60 + int(digits[2:]))


def normalize_digits(texts: pa.Array) -> pa.Array:
    """Return texts in lower case, without leading zeros of numbers and zero fractions of seconds."""
    lower = pc.utf8_lower(pc.utf8_trim_whitespace(texts.cast(pa.large_string())))
    return pc.replace_substring_regex(pc.replace_substring_regex(lower, r"\.0+$", ""), r"\b0+(\d)", r"\1")


def guess_date_forms(texts: Sequence[str]) -> str:
    """Return the forms in which some texts are written as dates; empty if fewer than half are dates.

    Day and month are distinguished by days after the 12th; if there is none, the day is taken to be first, and a
    question mark is put in front.

    >>> guess_date_forms(["03/14/2024", "12/01/2023"]), guess_date_forms(["3 May 2024", "04.05.2024"])
    ('%m/%d/%Y', '?%d %b %Y|%d.%m.%Y')
    """
    forms_found = [form for form in (guess_date_form(text) for text in texts) if form]
    if 2 * len(forms_found) < len(texts) or not forms_found:
        return ""
    months_first = {form for form in forms_found if form.startswith("%m")}
    days_first = {form for form in forms_found if form.startswith("%d")}
    result, mark = [], ""
    for form in dict.fromkeys(forms_found):
        plain_form = form.removeprefix("?")
        if form.startswith("?") and plain_form not in days_first:
            swapped = plain_form.replace("%d", "%#").replace("%m", "%d").replace("%#", "%m")
            plain_form, mark = (swapped, mark) if swapped in months_first else (plain_form, "?")
        result.append(plain_form)
    return mark + BETWEEN_FORMS.join(dict.fromkeys(result))


def guess_date_form(text: str) -> str:
    """Return the form of one date, with a question mark in front if day and month are ambiguous; empty if it is not a
    date.
    """
    for pattern, kind in FORMS:
        match = pattern.fullmatch(text.strip())
        if not match:
            continue
        year = "%Y" if re.search(r"\d{4}", text) else "%y"
        clock = "".join(
            [
                (" %H:%M" if " " in text else "T%H:%M") if match[match.re.groups - 1] else "",
                ":%S" if match[match.re.groups] else "",
            ]
        )
        if kind == "numbers":
            first, separator, second = int(match[1]), match[2], int(match[3])
            if max(first, second) > 31 or min(first, second) > 12 or not first or not second:
                return ""
            order = "%m{0}%d{0}" if second > 12 else "%d{0}%m{0}"
            return ("" if max(first, second) > 12 else "?") + order.format(separator) + year + clock
        if kind == "year-first":
            return "%Y{0}%m{0}%d".format(match[1]) + clock
        name = match[2] if kind == "day-month" else match[1]
        if name[:3].lower() not in SHORT_MONTHS:
            return ""
        month = "%b" if len(name) == 3 else "%B"
        if kind == "day-month":
            return f"%d{match[1]}{month}{match[3]}{year}{clock}"
        return f"{month} %d{match[2]} {year}{clock}"
    return ""
