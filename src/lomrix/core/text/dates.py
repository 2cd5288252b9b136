"""Dates written in a form that was said, and the form that dates in an unsaid one are likely to have."""

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

BETWEEN_FORMS = "|"
EARLIEST = np.datetime64("1000-01-01", "us")
SHORT_MONTHS = frozenset(["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"])
CLOCK = r"(?:[ T](\d{1,2}:\d{2})(:\d{2})?)?"
FORMS = (
    (re.compile(rf"(\d{{1,2}})([/.\-])(\d{{1,2}})\2(\d{{4}}|\d{{2}}){CLOCK}"), "numbers"),
    (re.compile(rf"\d{{4}}([/.])\d{{1,2}}\1\d{{1,2}}{CLOCK}"), "year-first"),
    (re.compile(rf"\d{{1,2}}([ .\-])([A-Za-z]{{3,9}})([ .\-])(\d{{4}}|\d{{2}}){CLOCK}"), "day-month"),
    (re.compile(rf"([A-Za-z]{{3,9}}) \d{{1,2}}(,?) (\d{{4}}|\d{{2}}){CLOCK}"), "month-day"),
)


def require_date_forms(text: str) -> None:
    """Stop where a text is no form of dates, such as `%d/%m/%Y` or `%d/%m/%Y|%d %b %Y`.

    Raises
    ------
    UsageError
        Naming the part that is none.
    """
    for form in text.split(BETWEEN_FORMS):
        try:
            datetime.datetime.strptime(datetime.datetime(2024, 3, 5, 14, 7).strftime(form), form)
        except (ValueError, re.error):
            form_is_one = False
        else:
            form_is_one = "%" in form
        if not form_is_one:
            raise UsageError(
                f'"{form}" is no form of dates.',
                todo="%d is the day, %m the month, %b its name, %Y and %y the year, %H:%M:%S the time: %d/%m/%Y",
            )


def dates_in_forms(texts: pa.Array, forms: str) -> tuple[Array, npt.NDArray[np.bool_]]:
    """The moment of each text under the first form that fits it.

    Parameters
    ----------
    texts
        Arrow large_string array of n distinct texts.
    forms
        Forms as in the C standard's strftime, with `|` between; each is tried for what those before do not fit.

    Returns
    -------
    datetime64[us] array of n moments, and an array of n booleans: False for days that no calendar has, years of
    another length than the form says, and all else that fits no form.

    Examples
    --------
    >>> moments, fits = dates_in_forms(pa.array(["5/3/2024", "31/02/2024", "1/2/24", "7 May 2024"], pa.large_string()),
    ...                                "%d/%m/%Y|%d %b %Y")
    >>> [str(moment)[:10] for moment in moments[fits]], fits.tolist()
    (['2024-03-05', '2024-05-07'], [True, False, False, True])
    """
    moments = np.zeros(len(texts), "datetime64[us]")
    fits = np.zeros(len(texts), np.bool_)
    for form in forms.split(BETWEEN_FORMS):
        left = np.flatnonzero(~fits)
        found, right = in_one_form(texts.take(pa.array(left)), form)
        moments[left[right]] = found[right]
        fits[left[right]] = True
    return moments, fits


def in_one_form(texts: pa.Array, form: str) -> tuple[Array, npt.NDArray[np.bool_]]:
    """As `dates_in_forms`, for one form."""
    array = pc.strptime(texts, format=form, unit="us", error_is_null=True)
    # The quick parser takes 31 February for a day of March: only what it writes again alike is taken as it is.
    again = pc.strftime(array, format=form) if len(texts) else texts
    same = pc.fill_null(pc.equal(plain_digits(again), plain_digits(texts)), False).to_numpy(zero_copy_only=False)
    moments = np.array(array.fill_null(0).to_numpy(zero_copy_only=False), "datetime64[us]")
    fits = np.array(same, np.bool_) & (moments >= EARLIEST)
    for place in np.flatnonzero(~fits).tolist():
        try:
            moments[place] = np.datetime64(datetime.datetime.strptime(texts[place].as_py(), form), "us")
        except (ValueError, TypeError):
            continue
        fits[place] = True
    return moments, fits


def plain_digits(texts: pa.Array) -> pa.Array:
    """Texts in lower case, numbers in them without leading zeros and fractions of seconds."""
    lower = pc.utf8_lower(pc.utf8_trim_whitespace(texts.cast(pa.large_string())))
    return pc.replace_substring_regex(pc.replace_substring_regex(lower, r"\.0+$", ""), r"\b0+(\d)", r"\1")


def likely_form(texts: Sequence[str]) -> str:
    """The forms that some texts are written in, as they would be said; empty where fewer than half are dates.

    Day and month are told apart by the days after the 12th; where there is none, the day is taken to come first, and
    a question mark in front says so.

    Examples
    --------
    >>> likely_form(["03/14/2024", "12/01/2023"]), likely_form(["3 May 2024", "04.05.2024"]), likely_form(["a", "b"])
    ('%m/%d/%Y', '?%d %b %Y|%d.%m.%Y', '')
    """
    found = [form for form in (form_of(text) for text in texts) if form]
    if 2 * len(found) < len(texts) or not found:
        return ""
    months_first = {form for form in found if form.startswith("%m")}
    days_first = {form for form in found if form.startswith("%d")}
    forms, mark = [], ""
    for form in dict.fromkeys(found):
        told = form.removeprefix("?")
        if form.startswith("?") and told not in days_first:
            swapped = told.replace("%d", "%#").replace("%m", "%d").replace("%#", "%m")
            told, mark = (swapped, mark) if swapped in months_first else (told, "?")
        forms.append(told)
    return mark + BETWEEN_FORMS.join(dict.fromkeys(forms))


def form_of(text: str) -> str:
    """The form of one date; with a question mark in front where day and month may be either; empty where it is none."""
    for pattern, kind in FORMS:
        found = pattern.fullmatch(text.strip())
        if not found:
            continue
        year = "%Y" if re.search(r"\d{4}", text) else "%y"
        clock = "".join(
            [
                (" %H:%M" if " " in text else "T%H:%M") if found[found.re.groups - 1] else "",
                ":%S" if found[found.re.groups] else "",
            ]
        )
        if kind == "numbers":
            first, sign, second = int(found[1]), found[2], int(found[3])
            if max(first, second) > 31 or min(first, second) > 12 or not first or not second:
                return ""
            order = "%m{0}%d{0}" if second > 12 else "%d{0}%m{0}"
            return ("" if max(first, second) > 12 else "?") + order.format(sign) + year + clock
        if kind == "year-first":
            return "%Y{0}%m{0}%d".format(found[1]) + clock
        name = found[2] if kind == "day-month" else found[1]
        if name[:3].lower() not in SHORT_MONTHS:
            return ""
        month = "%b" if len(name) == 3 else "%B"
        if kind == "day-month":
            return f"%d{found[1]}{month}{found[3]}{year}{clock}"
        return f"{month} %d{found[2]} {year}{clock}"
    return ""
