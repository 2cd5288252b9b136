"""Footers: rows below the data, such as totals and sources."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterator, Sequence

from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.files.header_rows import MOST_SHOWN, Row, format_row, is_filled

# A footer is searched by its pattern among this many rows.
FOOTER_ROWS = 40
# At most this many rows at the end are noted as a likely footer.
MOST_LIKELY = 5
SUMMARY = re.compile(r"(grand |sub-?)?(totals?|sums?|means?|averages?|medians?)( ?[:(].*)?", re.I)
REMARK = re.compile(
    r"(source|sources|note|notes|remark|remarks|legend|footnote) ?:.*|(exported|generated|printed) .+", re.I
)


def count_footer(rows: Sequence[Row], skip_last: str) -> int:
    """Return how many rows at the end are not data.

    `skip_last` is a number of nonempty rows, or a pattern for the first cell of the footer.

    >>> rows = [["A", "3"], ["B", "4"], [], ["Total", "7"]]
    >>> count_footer(rows, "1"), count_footer(rows, "2"), count_footer(rows, "Tot*"), count_footer(rows, "")
    (1, 3, 1, 0)
    """
    if not skip_last:
        return 0
    nonempty = [index for index, row in enumerate(rows) if any(map(is_filled, row))]
    if skip_last.isdigit():
        count = int(skip_last)
        return len(rows) - nonempty[-count] if 0 < count <= len(nonempty) else len(rows) if count else 0
    firsts = ((index, find_first_text(rows[index])) for index in nonempty[-FOOTER_ROWS:])
    start = next((index for index, text in firsts if fnmatch.fnmatchcase(text, skip_last)), None)
    return 0 if start is None else len(rows) - start


def note_footer(rows: Sequence[Row], first_row: int, skip_last: str) -> Note:
    """Note the rows skipped at the end, or that there are none."""
    if not rows:
        return Note(f'no row at the end begins with "{skip_last}"; none was skipped.', kind="footer")
    nonempty = [(first_row + index, format_row(row)) for index, row in enumerate(rows) if any(map(is_filled, row))]
    text = f"{pluralize(len(nonempty), 'row')} at the end {plural(len(nonempty), 'was', 'were')} skipped."
    return Note(text, "", tuple(nonempty[:MOST_SHOWN]), "footer", len(nonempty))


def note_likely_footer(rows: Sequence[Row], first_row: int) -> Iterator[Note]:
    """Note rows at the end that begin as totals or remarks do, but no other row; or that have one cell, a word where
    all others begin with a number or an id.
    """
    firsts = [(index, find_first_text(row)) for index, row in enumerate(rows) if any(map(is_filled, row))]
    are_numbered = all(has_digit(text) for index, text in firsts if sum(map(is_filled, rows[index])) > 1)
    is_likely = [
        bool(SUMMARY.fullmatch(text) or REMARK.fullmatch(text))
        or (are_numbered and not has_digit(text) and sum(map(is_filled, rows[index])) == 1 < len(rows[index]))
        for index, text in firsts
    ]
    count = next((place for place, likely in enumerate(reversed(is_likely)) if not likely), 0)
    if not 0 < count <= MOST_LIKELY or sum(is_likely) > count:
        return
    footer = firsts[-count:]
    text = footer[0][1]
    pattern = re.split(r"[^\w -]", text)[0].strip()
    pattern += "*" if pattern != text else ""
    words = f"the last {plural(count, 'row looks', f'{count} rows look')} like a summary, not like data; if so, use "
    examples = tuple((first_row + index, format_row(rows[index])) for index, _ in footer)
    reading = (("skip_last", pattern),)
    yield Note(f"{words}‹skip_last={pattern}›.", "", examples, "footer", count, reading=reading)


def has_digit(text: str) -> bool:
    """Return whether a text has a digit, as ids do."""
    return any(map(str.isdigit, text))


def find_first_text(row: Row) -> str:
    """Return the first filled cell of a row as text."""
    return next(str(cell).strip() for cell in row if is_filled(cell))
