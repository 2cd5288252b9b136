"""Where a table begins and ends among the rows of a sheet or a text: title lines, header rows, footers."""

from __future__ import annotations

import datetime
import fnmatch
import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from lomrix.core.errors import FileError
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.text.rules import kind_of
from lomrix.files.reading import ReadSettings

# The header is looked for among so many rows, and what it should look unlike among so many below it.
HEAD_ROWS = 40
ROWS_BELOW = 20
# A footer is looked for by its pattern among so many rows.
FOOTER_ROWS = 40
EARLIEST_YEAR, LATEST_YEAR = 1700, 2200
MOST_SHOWN = 5
WIDEST_SHOWN = 60
Row = Sequence[object]


@dataclass(frozen=True)
class Header:
    """The header of a table.

    Parameters
    ----------
    places
        Its rows, counted from 0; empty where a file has none.
    cells
        Its cells, those of several rows joined.
    notes
        What was passed over.
    above
        Rows above the data where there is no header.
    """

    places: tuple[int, ...]
    cells: list[str]
    notes: tuple[Note, ...]
    above: int = 0

    @property
    def last(self) -> int:
        """The row above the first row of data, counted from 0; -1 where there is none."""
        return self.places[-1] if self.places else self.above - 1


def found_header(rows: Sequence[Row], settings: ReadSettings, file: str, *, is_known: bool = False) -> Header:
    """Find the header among the first rows of a file, or take the one that was named.

    Parameters
    ----------
    rows
        The first rows; blank ones count.
    settings
        What was said: header rows, rows to skip.
    file
        How messages call it.
    is_known
        Whether a descriptor says what its columns are called.

    Raises
    ------
    FileError
        Where the rows that were named are not there, or the first row is one of data.
    """
    if settings.no_header:
        width = max((len(row) for row in rows[settings.skip_rows :]), default=0)
        return Header((), [f"column_{at}" for at in range(1, width + 1)], (), settings.skip_rows)
    if settings.header_rows:
        places = tuple(row - 1 for row in settings.header_rows)
        if places[-1] >= len(rows):
            raise FileError(
                f"{file} has no row {places[-1] + 1} that could be its header.",
                where=f"it has {counted(len(rows), 'row', 'rows')}",
                todo="Name the header's rows as a sheet counts them: ‹header_rows=4,5›",
            )
    else:
        if 0 < len(rows) <= settings.skip_rows:
            raise FileError(
                f"{file} has no row {settings.skip_rows + 1}.",
                where=f"‹skip_rows={settings.skip_rows}›, and it has {counted(len(rows), 'row', 'rows')}",
                todo="Leave out fewer rows.",
            )
        places = (settings.skip_rows + likely_header(rows[settings.skip_rows :]),)
        if not is_named(rows[places[0]] if rows else ()) and not settings.all_text and not is_known:
            raise FileError(
                f"{file} has no header: its first row holds values.",
                where=f"row {places[0] + 1}: {shown(rows[places[0]])}",
                todo="Add ‹no_header› to call the columns column_1, column_2 and so on; if it is one, ‹header_rows=1›.",
            )
    passed = [at for at in range(places[-1]) if at not in places and any(map(is_filled, rows[at]))]
    notes = [passed_over(rows, passed, places)] if passed else []
    return Header(places, joined_cells([rows[at] for at in places if at < len(rows)]), tuple(notes))


def passed_over(rows: Sequence[Row], passed: Sequence[int], places: Sequence[int]) -> Note:
    """The note that shows the lines above the header."""
    header = plural(len(places), f"row {places[0] + 1}", "rows " + ", ".join(str(at + 1) for at in places))
    text = f"{counted(len(passed), 'line', 'lines')} above the header, which is {header}, "
    text += f"{plural(len(passed), 'was', 'were')} passed over."
    return Note(text, "", tuple((at + 1, shown(rows[at])) for at in passed[:MOST_SHOWN]), "title", len(passed))


def shown(row: Row) -> str:
    """A row as one text, cut where it is long."""
    text = " | ".join(plain_text(cell) for cell in row if is_filled(cell))
    return text if len(text) <= WIDEST_SHOWN else text[: WIDEST_SHOWN - 1] + "…"


def joined_cells(rows: Sequence[Row]) -> list[str]:
    """The cells of one or several header rows; merged cells of the upper ones count for the columns at their right.

    Examples
    --------
    >>> joined_cells([["", "Spring", "", "Autumn"], ["stake", "ice", "snow", "ice"]])
    ['stake', 'Spring_ice', 'Spring_snow', 'Autumn_ice']
    """
    width = max(map(len, rows), default=0)
    parts: list[list[str]] = [[] for _ in range(width)]
    for depth, row in enumerate(rows):
        carried = ""
        for place in range(width):
            text = plain_text(row[place]).strip() if place < len(row) and is_filled(row[place]) else ""
            carried = text or (carried if depth < len(rows) - 1 else "")
            if carried and carried not in parts[place][-1:]:
                parts[place].append(carried)
    return ["_".join(part) for part in parts]


def plain_text(cell: object) -> str:
    """A cell as a name: whole numbers without a decimal point, days without a time."""
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    if isinstance(cell, datetime.datetime) and cell.time() == datetime.time():
        return cell.date().isoformat()
    return str(cell)


def is_filled(cell: object) -> bool:
    """True where a cell holds something."""
    return cell is not None and (not isinstance(cell, str) or bool(cell.strip()))


def kind_of_cell(cell: object) -> str:
    """What a cell looks like, as far as it tells a header from data."""
    if isinstance(cell, str):
        kind = kind_of(cell)
        return {"integer": "number", "keep": "number", "token": "text"}.get(kind, kind)
    return "number" if isinstance(cell, int | float) else "date"


def likely_header(rows: Sequence[Row]) -> int:
    """The row of the header, counted from 0: the first that is no title line, and never one that looks like data.

    A title line fills at most half as many cells as the rows under it. A header is made of words; where the first full
    row is not, the header may be a later one, if it is, and data with other kinds of cells follow.

    Examples
    --------
    >>> likely_header([["Stakes of 2024"], [], ["stake", "ice", "snow"], ["A", 3, 4], ["B", 5, 6]])
    2
    >>> likely_header([["id", "x"], [1, 5], [2, 6, "a remark"], [3, 7]])
    0
    """
    head = [[cell if is_filled(cell) else None for cell in row] for row in rows[:HEAD_ROWS]]
    filled = [sum(cell is not None for cell in row) for row in head]
    full = [at for at, count in enumerate(filled) if count]
    if not full:
        return 0
    first = at = full[0]
    while is_title(head, filled, at):
        at = next(later for later in full if later > at)
    if not is_words(head[at]):
        better = (later for later in full if later > at and is_better(head, filled, at, later))
        at = next(better, at)
    if at == first:
        return at
    # What was taken for title lines may have been a short header, above rows that are all alike.
    alike = looks_like_below(head, at, at_least=3)
    return next((row for row in full if is_words(head[row]) or row == first), first) if alike else at


def below(filled: Sequence[int], at: int) -> list[int]:
    """How many cells the rows under one fill."""
    return [count for count in filled[at + 1 : at + 1 + ROWS_BELOW] if count]


def is_title(head: Sequence[Row], filled: Sequence[int], at: int) -> bool:
    """True where a row fills at most half as many cells as those under it, from the left."""
    under = below(filled, at)
    if not under or head[at][0] is None:
        # An empty first cell stands above the row names of a table, or in the upper of two header rows.
        return bool(under) and filled[at] <= statistics.median(under) / 2 and is_upper(head, filled, at)
    return filled[at] <= statistics.median(under) / 2


def is_upper(head: Sequence[Row], filled: Sequence[int], at: int) -> bool:
    """True where the next row is as full as those under it and made of words: the row above is no whole header."""
    later = next(row for row in range(at + 1, len(head)) if filled[row])
    return is_words(head[later]) or is_title(head, filled, later)


def is_named(row: Row) -> bool:
    """False where every filled cell of a row is a number or a date, which are no names; a run of years may be."""
    filled = [cell for cell in row if is_filled(cell)]
    return (
        not filled or has_years(row) or any(kind_of_cell(cell) not in ("number", "date", "datetime") for cell in filled)
    )


def is_words(row: Row) -> bool:
    """True where every filled cell of a row is a word."""
    return all(kind_of_cell(cell) == "text" for cell in row if cell is not None)


def is_better(head: Sequence[Row], filled: Sequence[int], at: int, later: int) -> bool:
    """True where a later row is a header and all above it are shorter than it."""
    under = below(filled, later)
    return (
        bool(under)
        and is_words(head[later])
        and filled[later] > max(filled[at:later])
        and filled[later] >= 0.8 * statistics.median(under)
        and not looks_like_below(head, later, at_least=1)
    )


def looks_like_below(head: Sequence[Row], at: int, at_least: int) -> bool:
    """True where a row's cells are of the kinds that the rows under it have.

    Parameters
    ----------
    head, at
        The rows, and which of them.
    at_least
        A row of nothing but words, among words, counts as different from so many columns on.
    """
    under = [row for row in head[at + 1 : at + 1 + ROWS_BELOW] if any(cell is not None for cell in row)]
    if not under:
        return True
    if has_years(head[at]):
        return False
    same, words = [], []
    for place, cell in enumerate(head[at]):
        kinds = [kind_of_cell(row[place]) for row in under if place < len(row) and row[place] is not None]
        if cell is None or not kinds:
            continue
        usual = statistics.mode(kinds)
        same.append(kind_of_cell(cell) == usual)
        words.append(usual == "text")
    return all(same) and (not all(words) or len(words) < at_least)


def has_years(row: Row) -> bool:
    """True where the numbers of a row are years one after the other, as in the header of a series."""
    numbers = [plain_text(cell).strip() for cell in row if cell is not None and kind_of_cell(cell) == "number"]
    years = [int(text) for text in numbers if text.isdigit() and EARLIEST_YEAR <= int(text) <= LATEST_YEAR]
    return len(years) > 1 and len(years) == len(numbers) and years == sorted(set(years))


def footer_length(rows: Sequence[Row], skip_last: str) -> int:
    """How many rows at the end are no data.

    Parameters
    ----------
    rows
        The last rows; blank ones count.
    skip_last
        A number of rows that hold something, or a pattern: from the first row on whose first filled cell fits it.

    Examples
    --------
    >>> rows = [["A", "3"], ["B", "4"], [], ["Total", "7"]]
    >>> footer_length(rows, "1"), footer_length(rows, "2"), footer_length(rows, "Tot*"), footer_length(rows, "")
    (1, 3, 1, 0)
    """
    if not skip_last:
        return 0
    full = [at for at, row in enumerate(rows) if any(map(is_filled, row))]
    if skip_last.isdigit():
        count = int(skip_last)
        return len(rows) - full[-count] if 0 < count <= len(full) else len(rows) if count else 0
    firsts = ((at, next(str(cell).strip() for cell in rows[at] if is_filled(cell))) for at in full[-FOOTER_ROWS:])
    found = next((at for at, text in firsts if fnmatch.fnmatchcase(text, skip_last)), None)
    return 0 if found is None else len(rows) - found


def footer_note(rows: Sequence[Row], first_row: int, skip_last: str) -> Note:
    """The note that shows the rows at the end that were passed over; one that says so where there are none."""
    if not rows:
        return Note(f'no row at the end begins with "{skip_last}"; none was passed over.', kind="footer")
    full = [(first_row + at, shown(row)) for at, row in enumerate(rows) if any(map(is_filled, row))]
    text = f"{counted(len(full), 'row', 'rows')} at the end {plural(len(full), 'was', 'were')} passed over."
    return Note(text, "", tuple(full[:MOST_SHOWN]), "footer", len(full))
