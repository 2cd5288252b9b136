"""Where a table begins and ends among the rows of a worksheet or text: title lines, header rows, footers."""

from __future__ import annotations

import datetime
import statistics
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from lomrix.core.errors import FileError, SettingError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.variable import Variable
from lomrix.core.text.rules import classify_text
from lomrix.files.reading import ReadSettings

# Kinds of text that say nothing of where the header ends.
OTHER_TEXTS = ("token", "with-unit", "limit", "clock", "pair")
# The header is searched among this many rows, and compared with this many rows below it.
HEAD_ROWS = 40
ROWS_BELOW = 20
EARLIEST_YEAR, LATEST_YEAR = 1700, 2200
MOST_SHOWN = 5
# Rows of labels and units are looked for in this many rows; a longer text is no unit.
MOST_LABEL_ROWS = 3
LONGEST_UNIT = 8
LEAST_WORDS = 2
WIDEST_SHOWN = 60
Row = Sequence[object]


@dataclass(frozen=True)
class Header:
    """The header of a table: its rows (from 0; empty if none), its cells (of several rows joined), the number of rows
    above the data, notes on what else these are, and the label and unit of each column.
    """

    rows: tuple[int, ...]
    cells: list[str]
    above: int
    notes: tuple[Note, ...] = ()
    labels: Mapping[int, str] = field(default_factory=dict)
    units: Mapping[int, str] = field(default_factory=dict)

    def put_first(self, name: str) -> Header:
        """Return it with the name of a first column that it lacks."""
        labels, units = ({index + 1: text for index, text in texts.items()} for texts in (self.labels, self.units))
        return replace(self, cells=[name, *self.cells], labels=labels, units=units)

    def pad(self, width: int) -> Header:
        """Return it with columns without a name up to a width."""
        return replace(self, cells=[*self.cells, *[""] * (width - len(self.cells))])

    def describe(self, names: Sequence[str]) -> Dictionary:
        """Return what it says of the variables, given their names."""
        return Dictionary({
            name: Variable(label=self.labels.get(index, ""), unit=self.units.get(index, ""))
            for index, name in enumerate(names) if index in self.labels or index in self.units
        })  # fmt: skip


def find_header(rows: Sequence[Row], settings: ReadSettings, file: str, *, is_known: bool = False) -> Header:
    """Find the header among the first rows of a file (blank ones included), or take the stated one.

    `is_known` says whether a descriptor has the column names.

    Raises FileError if the stated rows do not exist, or the first row holds data.
    """
    if settings.no_header:
        width = max((len(row) for row in rows[settings.skip_rows :]), default=0)
        return Header((), [f"column_{index}" for index in range(1, width + 1)], settings.skip_rows)
    if settings.header_rows:
        header_rows = tuple(row - 1 for row in settings.header_rows)
        if header_rows[-1] >= len(rows):
            raise FileError(
                f"{file} has no row {header_rows[-1] + 1} for its header.",
                where=f"it has {pluralize(len(rows), 'row')}",
                todo="Count the header's rows as a spreadsheet does: ‹header_rows=4,5›",
            )
    else:
        if 0 < len(rows) <= settings.skip_rows:
            raise FileError(
                f"{file} has no row {settings.skip_rows + 1}.",
                where=f"‹skip_rows={settings.skip_rows}›, and it has {pluralize(len(rows), 'row')}",
                todo="Skip fewer rows.",
            )
        header_rows = (settings.skip_rows + guess_header(rows[settings.skip_rows :]),)
        if not has_names(rows[header_rows[0]] if rows else ()) and not settings.all_text and not is_known:
            raise FileError(
                f"{file} has no header: its first row holds values.",
                where=f"row {header_rows[0] + 1}: {format_row(rows[header_rows[0]])}",
                todo="Add ‹no_header› to name the columns column_1, column_2 …; if it is a header, ‹header_rows=1›.",
            )
    labels, units = (read_row(rows, row, name, file, header_rows) for name, row in settings.described_rows.items())
    above = find_data(header_rows[-1], settings)
    used = {*header_rows, *(row - 1 for row in settings.described_rows.values())}
    notes = list(note_skipped(rows, used, header_rows, above))
    if not settings.data_from and not settings.all_text and above == header_rows[-1] + 1:
        notes += note_labels(rows, above)
    cells = join_header_rows([rows[index] for index in header_rows if index < len(rows)])
    header = Header(header_rows, cells, above, tuple(notes), labels, units)
    return header.put_first(settings.first_name) if settings.first_name else header


def find_data(header: int, settings: ReadSettings) -> int:
    """Return the first row of data, from 0, given the last one of the header.

    Raises SettingError if that was stated and is above the header, the labels or the units.
    """
    above = max(header + 1, *settings.described_rows.values())
    if not settings.data_from:
        return above
    if settings.data_from <= above:
        what = (
            f"The data cannot begin in row {settings.data_from}: the header, or what describes it, is in row {above}."
        )
        raise SettingError("data_from", what, todo=f"Use ‹data_from={above + 1}› or a later row.")
    return settings.data_from - 1


def read_row(rows: Sequence[Row], row: int, name: str, file: str, header_rows: Sequence[int]) -> dict[int, str]:
    """Return the texts of a row (counted from 1; none if 0), by column; "-" and the like say nothing.

    Raises FileError if there is no such row. Raises SettingError if it is the header.
    """
    if row - 1 in header_rows:
        raise SettingError(name, f"Row {row} of {file} is its header.", todo="Name another row, or the ‹header_rows›.")
    if row > len(rows):
        where = f"it has {pluralize(len(rows), 'row')}"
        raise FileError(f"{file} has no row {row}.", where=where, todo=f"Check ‹{name}={row}›.")
    cells = rows[row - 1] if row else ()
    texts = {index: " ".join(format_name(cell).split()) for index, cell in enumerate(cells) if is_filled(cell)}
    return {index: text for index, text in texts.items() if classify_text(text) != "token"}


def note_skipped(rows: Sequence[Row], used: Collection[int], header_rows: Sequence[int], above: int) -> Iterator[Note]:
    """Note the rows above the data that are neither part of the header nor describe it."""
    shown = plural(
        len(header_rows), f"row {header_rows[0] + 1}", "rows " + ", ".join(str(index + 1) for index in header_rows)
    )
    skipped = [
        index for index in range(min(above, len(rows))) if index not in used and any(map(is_filled, rows[index]))
    ]
    for where, found in (
        (f"above the header ({shown})", [index for index in skipped if index < header_rows[-1]]),
        (f"below the header ({shown})", [index for index in skipped if index > header_rows[-1]]),
    ):
        if found:
            text = f"{pluralize(len(found), 'line')} {where} {plural(len(found), 'was', 'were')} skipped."
            examples = tuple((index + 1, format_row(rows[index])) for index in found[:MOST_SHOWN])
            yield Note(text, "", examples, "title", len(found))


def note_labels(rows: Sequence[Row], above: int) -> Iterator[Note]:
    """Note rows that are words where all others below have numbers or dates, as labels and units are."""
    below = [(index, row) for index, row in enumerate(rows) if index >= above and any(map(is_filled, row))]
    for count in range(min(MOST_LABEL_ROWS, len(below) - 2), 0, -1):
        tops, others = below[:count], below[count : count + ROWS_BELOW]
        columns = [column for column in range(len(tops[0][1])) if is_typed([row for _, row in others], column)]
        words = [list_words(row, columns) for _, row in tops]
        if any(some is None or len(some) < LEAST_WORDS for some in words):
            continue
        is_unit = count == 1 and all(len(word) <= LONGEST_UNIT for some in words for word in some or ())
        text = f"{plural(count, 'the row', f'{count} rows')} below the header {plural(count, 'looks', 'look')} like "
        reading = [("unit_row" if is_unit else "label_row", str(tops[0][0] + 1))]
        reading += [("data_from", str(others[0][0] + 1))] if count > 1 else []
        text += f"labels or units; if so, use {' '.join(f'‹{name}={value}›' for name, value in reading)}."
        examples = tuple((index + 1, format_row(row)) for index, row in tops)
        yield Note(text, "", examples, "labels", count, reading=tuple(reading))
        return


def list_words(row: Row, columns: Sequence[int]) -> set[str] | None:
    """Return the words in some columns, without those that mean missing; None if there is a value."""
    cells = [row[column] for column in columns if column < len(row) and is_filled(row[column])]
    if any(classify_cell(cell) != "text" for cell in cells):
        return None
    return {str(cell) for cell in cells if classify_text(str(cell)) != "token"}


def is_typed(rows: Sequence[Row], column: int) -> bool:
    """Return whether the cells of a column are numbers or dates."""
    cells = [row[column] for row in rows if column < len(row) and is_filled(row[column])]
    return bool(cells) and all(classify_cell(cell) in ("number", "date", "datetime") for cell in cells)


def format_row(row: Row) -> str:
    """Format a row as one text, cut if it is long."""
    text = " | ".join(format_name(cell) for cell in row if is_filled(cell))
    return text if len(text) <= WIDEST_SHOWN else text[: WIDEST_SHOWN - 1] + "…"


def join_header_rows(rows: Sequence[Row]) -> list[str]:
    """Join the cells of one or several header rows; merged cells of the upper ones apply to the columns at their right.

    >>> join_header_rows([["", "Spring", "", "Autumn"], ["crew", "nap", "mood", "nap"]])
    ['crew', 'Spring_nap', 'Spring_mood', 'Autumn_nap']
    """
    width = max(map(len, rows), default=0)
    parts: list[list[str]] = [[] for _ in range(width)]
    for depth, row in enumerate(rows):
        merged = ""
        for index in range(width):
            text = format_name(row[index]).strip() if index < len(row) and is_filled(row[index]) else ""
            merged = text or (merged if depth < len(rows) - 1 else "")
            if merged and merged not in parts[index][-1:]:
                parts[index].append(merged)
    return ["_".join(part) for part in parts]


def format_name(cell: object) -> str:
    """Format a cell as a name: whole numbers without a decimal point, dates without a time."""
    if isinstance(cell, float) and cell.is_integer():
        return str(int(cell))
    if isinstance(cell, datetime.datetime) and cell.time() == datetime.time():
        return cell.date().isoformat()
    return str(cell)


def is_filled(cell: object) -> bool:
    """Return whether a cell is not empty."""
    return cell is not None and (not isinstance(cell, str) or bool(cell.strip()))


def classify_cell(cell: object) -> str:
    """Return the kind of a cell, as far as it distinguishes a header from data."""
    if isinstance(cell, str):
        kind = classify_text(cell)
        return {"integer": "number", "keep": "number"}.get(kind, "text" if kind in OTHER_TEXTS else kind)
    return "number" if isinstance(cell, int | float) else "date"


def guess_header(rows: Sequence[Row]) -> int:
    """Return the row of the header, from 0: the first that is not a title line or data.

    A title line fills at most half as many cells as the rows below. A header consists of words; if the first full row
    does not, a later one may be the header, if it does and other kinds of cells follow.

    >>> guess_header([["Watches of 2024"], [], ["crew", "nap", "mood"], ["A", 3, 4], ["B", 5, 6]])
    2
    >>> guess_header([["id", "x"], [1, 5], [2, 6, "a remark"], [3, 7]])
    0
    """
    head = [[cell if is_filled(cell) else None for cell in row] for row in rows[:HEAD_ROWS]]
    filled = [sum(cell is not None for cell in row) for row in head]
    nonempty = [row_index for row_index, count in enumerate(filled) if count]
    if not nonempty:
        return 0
    first = row_index = nonempty[0]
    while is_title(head, filled, row_index):
        row_index = next(later for later in nonempty if later > row_index)
    if not has_only_words(head[row_index]):
        candidates = (
            later for later in nonempty if later > row_index and is_better_header(head, filled, row_index, later)
        )
        row_index = next(candidates, row_index)
    if row_index == first:
        return row_index
    # The supposed title lines may be a short header above rows that are all alike.
    looks_like_data = looks_like_below(head, row_index, at_least=3)
    return (
        next((row for row in nonempty if has_only_words(head[row]) or row == first), first)
        if looks_like_data
        else row_index
    )


def count_below(filled: Sequence[int], index: int) -> list[int]:
    """Return how many cells the rows below fill."""
    return [count for count in filled[index + 1 : index + 1 + ROWS_BELOW] if count]


def is_title(head: Sequence[Row], filled: Sequence[int], index: int) -> bool:
    """Return whether a row fills at most half as many cells as those below, from the left."""
    counts_below = count_below(filled, index)
    if not counts_below or head[index][0] is None:
        # An empty first cell is above the row names of a table, or in the upper of two header rows.
        return (
            bool(counts_below)
            and filled[index] <= statistics.median(counts_below) / 2
            and is_upper_header(head, filled, index)
        )
    return filled[index] <= statistics.median(counts_below) / 2


def is_upper_header(head: Sequence[Row], filled: Sequence[int], index: int) -> bool:
    """Return whether the next row is a full row of words, so that this one is only part of a header."""
    later = next(row for row in range(index + 1, len(head)) if filled[row])
    return has_only_words(head[later]) or is_title(head, filled, later)


def has_names(row: Row) -> bool:
    """Return False if every nonempty cell is a number or a date; a sequence of years is allowed."""
    nonempty = [cell for cell in row if is_filled(cell)]
    return (
        not nonempty
        or has_years(row)
        or any(classify_cell(cell) not in ("number", "date", "datetime") for cell in nonempty)
    )


def has_only_words(row: Row) -> bool:
    """Return whether every nonempty cell of a row is a word."""
    return all(classify_cell(cell) == "text" for cell in row if cell is not None)


def is_better_header(head: Sequence[Row], filled: Sequence[int], index: int, later: int) -> bool:
    """Return whether a later row is a header and all above it are shorter."""
    counts_below = count_below(filled, later)
    return (
        bool(counts_below)
        and has_only_words(head[later])
        and filled[later] > max(filled[index:later])
        and filled[later] >= 0.8 * statistics.median(counts_below)
        and not looks_like_below(head, later, at_least=1)
    )


def looks_like_below(head: Sequence[Row], index: int, at_least: int) -> bool:
    """Return whether a row's cells have the kinds of the rows below.

    A row of words above words counts as different from `at_least` columns on.
    """
    rows_below = [row for row in head[index + 1 : index + 1 + ROWS_BELOW] if any(cell is not None for cell in row)]
    if not rows_below:
        return True
    if has_years(head[index]):
        return False
    is_same, is_text = [], []
    for column, cell in enumerate(head[index]):
        kinds = [classify_cell(row[column]) for row in rows_below if column < len(row) and row[column] is not None]
        if cell is None or not kinds:
            continue
        usual = statistics.mode(kinds)
        is_same.append(classify_cell(cell) == usual)
        is_text.append(usual == "text")
    return all(is_same) and (not all(is_text) or len(is_text) < at_least)


def has_years(row: Row) -> bool:
    """Return whether the numbers of a row are ascending years, as in the header of a series."""
    numbers = [format_name(cell).strip() for cell in row if cell is not None and classify_cell(cell) == "number"]
    years = [int(text) for text in numbers if text.isdigit() and EARLIEST_YEAR <= int(text) <= LATEST_YEAR]
    return len(years) > 1 and len(years) == len(numbers) and years == sorted(set(years))
