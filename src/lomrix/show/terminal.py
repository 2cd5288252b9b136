"""Accounts and tables as a person reads them in a terminal; plain text where it is piped."""

from __future__ import annotations

import re
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, replace
from typing import TextIO

import numpy as np
from rich.cells import cell_len
from rich.console import Console, Group, RenderableType
from rich.text import Text

from lomrix.core.errors import LomrixError
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.table import Table
from lomrix.show.balances import format_total, list_parts
from lomrix.show.grid import GAP, Cell, Head, format_grid
from lomrix.show.numbers import align_numbers, escape_controls, format_number

# The width of piped output.
NO_LIMIT = 1_000_000
SHOWN_ROWS = 5
MAX_CELL = 26
# A result with at most this many rows is shown whole.
MAX_WHOLE = 24
# Columns shown of a wide table if the width has no limit.
MAX_COLUMNS = 24
# Columns of listings that are never cut, beside the first.
KEPT_COLUMNS = ("column", "variable", "measure", "label", "key", "rule", "first rows")
# Texts aligned to the right: percentages, alone or after a count. Ids of digits stay at the left.
DECIMAL = re.compile(r"-?[\d,]+\.\d+|-?[\d,]+")
PERCENTAGE = re.compile(r"(\d+\.\d|[\d,]+ \([\d.]+\))?")
# Notes of one kind on at least this many columns are shown as one.
MIN_GATHERED = 3
# A note and the table that it is on.
Placed = tuple[str, Note]
GATHERED_NOTES = {"token": "texts mean missing among the values", "spaces-around": "cells begin or end with spaces"}
# Of a listing by occasion with more than the first number of rows or columns, as many as the second are shown at each
# end; of a longer word, such as the pattern of hundreds of occasions, as many characters.
MOST_OCCASIONS, SHOWN_OCCASIONS = 60, 12
LONGEST_WORD, SHOWN_CHARACTERS = 120, 50
GAP_MARK = "…"
# A balance with more parts than this shows each on its own line.
MAX_INLINE_PARTS = 3


@dataclass(frozen=True)
class Screen:
    """The stream that a person reads, and what is known of its window."""

    stream: TextIO
    width: int | None = None
    is_terminal: bool = False
    colour: bool = True

    @property
    def usable_width(self) -> int | None:
        """The usable width; None if there is no limit."""
        # The last columns of a window are often hidden by its edge.
        return max(40, (self.width or 80) - 2) if self.is_terminal else None

    def make_console(self) -> Console:
        """Make a console that colours only a terminal."""
        width = self.usable_width or NO_LIMIT
        return Console(
            file=self.stream, width=width, highlight=False, soft_wrap=False, emoji=False, markup=False,
            force_terminal=self.is_terminal, no_color=not self.colour,
            color_system="auto" if self.is_terminal and self.colour else None,
        )  # fmt: skip


def view_account(
    account: Account, sources: Sequence[str], notes: Sequence[tuple[str, Note]], width: int | None = None
) -> RenderableType:
    """View an account from its summary to what a person should look at."""
    parts: list[RenderableType] = [Text(f"read  {escape_controls(source)}", style="dim") for source in sources]
    parts.append(Text.assemble((account.step, "bold cyan"), "  ", (escape_controls(account.summary), "bold")))
    for index, section in enumerate(account.parts or (account,)):
        if account.parts:
            parts += [Text(), Text(f"  {index + 1}. {escape_controls(section.summary)}", style="bold")]
        parts += format_balances([balance for balance in section.balances if not balance.quiet], width)
        for listing in section.listings:
            parts += format_listing(listing, width)
    all_notes = [*notes, *(("", note) for note in account.notes)]
    done = [(source, note) for source, note in all_notes if note.done]
    if done:
        parts.append(Text())
        parts += [format_note(source, note, "  · ", quiet=True) for source, note in done]
    to_check = [(source, note) for source, note in all_notes if not note.done]
    if to_check:
        parts += [Text(), view_notes(to_check)]
    return Group(*parts)


def view_notes(notes: Sequence[tuple[str, Note]]) -> RenderableType:
    """View what a person should look at."""
    lines = [format_note(source, note, "  ! ") for source, note in gather_notes(notes)]
    return Group(Text("look at", style="bold yellow"), *lines)


def gather_notes(notes: Sequence[Placed]) -> list[Placed]:
    """Gather notes of one kind, or of the same words, on many columns of a table or on many tables into one."""
    of_columns = gather_alike(
        notes,
        lambda source, note: (source, note.kind, GATHERED_NOTES.get(note.kind) or note.text),
        join_columns,
    )
    return gather_alike(of_columns, lambda _, note: (note.kind, note.column, note.text), join_tables)


def gather_alike(
    notes: Sequence[Placed],
    identify: Callable[[str, Note], Hashable],
    join: Callable[[Sequence[Placed]], Placed | None],
) -> list[Placed]:
    """Put one note in place of the first of those that are alike, if they can be joined."""
    groups: dict[Hashable, list[Placed]] = {}
    for placed in notes:
        groups.setdefault(identify(*placed), []).append(placed)
    joined = {key: join(alike) for key, alike in groups.items()}
    result = []
    for placed in notes:
        key = identify(*placed)
        one = joined[key]
        if one is None or placed is groups[key][0]:
            result.append(one or placed)
    return result


def join_columns(alike: Sequence[Placed]) -> Placed | None:
    """Join notes on many columns of a table."""
    source, first = alike[0]
    columns = list(dict.fromkeys(note.column for _, note in alike))
    if len(columns) < MIN_GATHERED:
        return None
    cells = sum(note.count for _, note in alike)
    if message := GATHERED_NOTES.get(first.kind):
        text = f"{message} in {len(columns)} columns, {cells:,} cells: {list_names(columns)}."
        return source, Note(text, "", first.examples[:3], first.kind, cells)
    return source, Note(first.text, list_names(columns), (), first.kind, cells)


def join_tables(alike: Sequence[Placed]) -> Placed | None:
    """Join notes on many tables."""
    _, first = alike[0]
    sources = list(dict.fromkeys(source for source, _ in alike))
    if len(sources) < MIN_GATHERED:
        return None
    place = f"{first.column} in {list_names(sources)}" if first.column else list_names(sources)
    return "", Note(first.text, place, (), first.kind, sum(note.count for _, note in alike))


def list_names(names: Sequence[str]) -> str:
    """List some names, and how many more there are."""
    shown = ", ".join(names if len(names) < 6 else names[:4])
    return f"{shown} and {len(names) - 4} more" if len(names) > 5 else shown


def format_balances(balances: Sequence[Balance], width: int | None) -> list[Text]:
    """Format each total and, after it, the parts that add up to it."""
    names = [escape_controls(format_total(balance)) for balance in balances]
    name_width = max(map(len, names), default=0)
    total_width = max((len(f"{balance.total:,}") for balance in balances), default=0)
    lines = []
    for name, balance in zip(names, balances, strict=True):
        parts = [(f"{number:,}", f" {escape_controls(words)}") for words, number in list_parts(balance)]
        length = name_width + total_width + 8 + sum(len(number) + len(words) + GAP for number, words in parts)
        is_inline = len(parts) <= MAX_INLINE_PARTS and (width is None or length <= width)
        line = Text(f"  {name.ljust(name_width)}  ")
        line.append(f"{balance.total:,}".rjust(total_width), style="bold").append("  ")
        for index, (number, words) in enumerate(parts):
            if index and not is_inline:
                lines.append(line)
                line = Text(" " * (name_width + total_width + 6))
            line.append(("= " if not index else "+ " if not is_inline else " + "), style="dim")
            line.append(number, style="bold").append(words)
        lines.append(line)
    return lines


def view_listing(listing: Listing, width: int | None) -> RenderableType:
    """View a listing on its own."""
    return Group(*format_listing(listing, width))


def format_listing(listing: Listing, width: int | None) -> list[Text]:
    """Format a listing under its title."""
    listing, notice = cut_occasions(listing) if listing.splits else (listing, [])
    columns = [format_column([row[index] for row in listing.rows]) for index in range(len(listing.columns))]
    heads = [
        Head(escape_controls(name), bool(listing.rows) and all(is_numeric_cell(row[index]) for row in listing.rows),
             index == 0 or name in KEPT_COLUMNS)
        for index, name in enumerate(listing.columns)
    ]  # fmt: skip
    rows = [[Cell(column[index_]) for column in columns] for index_ in range(len(listing.rows))]
    title = Text(f"  {escape_controls(listing.title)}", style="italic")
    return [Text(), title, *format_grid(heads, rows, width, can_split=listing.splits), *notice]


def cut_occasions(listing: Listing) -> tuple[Listing, list[Text]]:
    """Leave out what is in the middle of a listing by many occasions, and return a line that names how to see it."""
    rows, columns = (find_shown(count) for count in (len(listing.rows), len(listing.columns)))
    is_long, is_wide = None in rows, None in columns
    if not (is_long or is_wide):
        return listing, []
    cut = replace(
        listing,
        columns=tuple(GAP_MARK if column is None else listing.columns[column] for column in columns),
        rows=tuple(
            tuple(
                (GAP_MARK if column in (0, None) else "")
                if row is None or column is None
                else listing.rows[row][column]
                for column in columns
            )
            for row in rows
        ),
    )
    hidden, what = (len(listing.rows), "rows") if is_long else (len(listing.columns), "columns")
    message = f"  not shown: {hidden - 2 * SHOWN_OCCASIONS:,} {what} in the middle; --json has them"
    return cut, [Text(message, style="dim italic")]


def find_shown(count: int) -> list[int | None]:
    """Return the positions at both ends that are shown of many, with None for what is left out between."""
    ends = [*range(SHOWN_OCCASIONS), None, *range(count - SHOWN_OCCASIONS, count)]
    return ends if count > MOST_OCCASIONS else list(range(count))


def shorten_word(text: str) -> str:
    """Return a long text of one word without its middle."""
    is_long = len(text) > LONGEST_WORD and " " not in text
    return f"{text[:SHOWN_CHARACTERS]} {GAP_MARK} {text[-SHOWN_CHARACTERS:]}" if is_long else text


def format_column(cells: Sequence[object]) -> list[str]:
    """Format the cells of a listing's column: aligned decimals, a dash where missing."""
    is_number = [isinstance(cell, int | float) and not isinstance(cell, bool) for cell in cells]
    if not any(isinstance(cell, float) for cell in cells):
        texts = [format_cell(cell) for cell in cells]
        return align_decimals(texts) if any("." in text and DECIMAL.fullmatch(text) for text in texts) else texts
    aligned = align_numbers([float(cell) for cell, is_number_ in zip(cells, is_number, strict=True) if is_number_])  # type: ignore[arg-type]
    # Of one width, so that decimals are aligned even in a column aligned to the left.
    numbers = (text.rjust(max(map(len, aligned))) for text in aligned)
    return [
        next(numbers) if is_number_ else format_cell(cell) for cell, is_number_ in zip(cells, is_number, strict=True)
    ]


def align_decimals(texts: Sequence[str]) -> list[str]:
    """Pad numbers so that their decimal points are aligned."""
    parts = [text.partition(".") for text in texts if DECIMAL.fullmatch(text)]
    whole_width, fraction_width = (
        max(len(whole) for whole, _, _ in parts),
        max(len(point + digits) for _, point, digits in parts),
    )
    return [
        text.partition(".")[0].rjust(whole_width) + text[len(text.partition(".")[0]) :].ljust(fraction_width)
        if DECIMAL.fullmatch(text) else text
        for text in texts
    ]  # fmt: skip


def is_numeric_cell(cell: object) -> bool:
    """Is a cell aligned to the right: a number, a percentage, or missing?"""
    return bool(PERCENTAGE.fullmatch(cell)) if isinstance(cell, str) else True


def format_note(source: str, note: Note, mark: str, *, quiet: bool = False) -> Text:
    """Format a note with its examples."""
    text = Text(style="dim" if quiet else "").append(mark, style="" if quiet else "bold yellow")
    position = escape_controls(".".join(part for part in (source, note.column) if part))
    text.append(f"{position}: " if position else "", style="" if quiet else "bold").append(escape_controls(note.text))
    if note.examples:
        shown = [f"row {row} {quote_value(value)}" for row, value in note.examples if value is not None]
        rows_only = [str(row) for row, value in note.examples if value is None]
        shown += [f"{plural(len(rows_only), 'row')} {', '.join(rows_only)}"] if rows_only else []
        more = " …" if note.count > len(note.examples) else ""
        text.append(f" ({', '.join(shown)}{more})", style="dim")
    return text


def quote_value(value: object) -> str:
    """Quote text values so that spaces are visible."""
    return f'"{escape_controls(value)}"' if isinstance(value, str) else format_cell(value)


def format_cell(value: object) -> str:
    """Format a value of a listing: thousands separators in integers, a dash where missing."""
    if value is None:
        return "—"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return f"{value:,}"
    if isinstance(value, float):
        return format_number(value)
    return shorten_word(escape_controls(str(value)))


def view_first_rows(table: Table, width: int | None, shown_columns: Sequence[str] = ()) -> RenderableType:
    """View the first rows as they would be written; missing cells show their reasons."""
    names, table = table.names, table.only(shown_columns) if shown_columns else table
    is_whole = len(table) <= MAX_WHOLE
    head = table if is_whole else table.first(SHOWN_ROWS)
    heads: list[Head] = []
    columns: list[list[Cell]] = []
    remaining = width or NO_LIMIT
    for name, column in head.columns.items():
        cells = format_first_cells(column)
        remaining -= max([len(name), *(len(cell.text) for cell in cells)]) + GAP
        is_full = remaining < 12 or len(heads) >= MAX_COLUMNS
        if is_full and len(heads) >= 2 and len(heads) < len(table.names) - 1:
            break
        heads.append(Head(escape_controls(name), column.type in ("integer", "number"), is_kept=True))
        columns.append(cells)
    hidden = len(names) - len(heads)
    if hidden:
        heads.append(Head(f"… {hidden} more", is_kept=True))
        columns.append([Cell("")] * len(head))
    rows = [[column[index] for column in columns] for index in range(len(head))]
    message = f"all {pluralize(len(table), 'row')}" if is_whole else f"first rows of {len(table):,}"
    title = Text(f"  {message}, {pluralize(len(names), 'column')}", style="italic")
    return Group(Text(), title, *format_grid(heads, rows, None))


def format_first_cells(column: Column) -> list[Cell]:
    """Format the cells of some rows, shortening long ones."""
    values, reasons = column.cells(), column.reason_cells(np.arange(len(column)))
    if column.type == "number":
        numbers = iter(align_numbers([value for value in values if value is not None]))
        texts = ["" if value is None else next(numbers) for value in values]
    else:
        texts = [str(value).lower() if isinstance(value, bool) else escape_controls(str(value)) for value in values]
    cells = []
    for text, reason in zip(texts, reasons, strict=True):
        text_ = text if reason is None else escape_controls(reason)
        shortened = text_ if len(text_) <= MAX_CELL else text_[: MAX_CELL - 1] + "…"
        cells.append(Cell(shortened, "" if reason is None else "dim italic"))
    return cells


def view_ending(
    written: Sequence[str],
    advice: Sequence[str],
    compared: int = 0,
    *,
    rehearsal_message: str = "",
    not_drawn: bool = False,
) -> RenderableType:
    """View what was written, and what to type next."""
    parts: list[RenderableType] = [
        Text.assemble(("written", "bold green"), f"  {escape_controls(line)}") for line in written
    ]
    if not_drawn:
        parts.append(Text.assemble(("not drawn", "bold yellow"), "  there are no numbers or no rows to draw"))
    if compared:
        parts.append(Text.assemble(("read back", "bold green"), f"  {compared:,} cells compared, all equal"))
    if rehearsal_message:
        parts.append(Text.assemble(("rehearsal", "bold magenta"), f"  {rehearsal_message}"))
    # A command that is copied must not be broken by a line end.
    parts += [
        Text.assemble(("next", "bold cyan"), f"  {escape_controls(line)}", no_wrap=True, overflow="ignore")
        for line in advice
    ]
    return Group(*parts)


def view_error(error: LomrixError) -> RenderableType:
    """View an error in one to four lines: what, where, what to do next."""
    text = Text.assemble(("error  ", "bold red"), escape_controls(error.what))
    if error.where:
        text.append("\nwhere  ", style="bold").append(escape_controls(error.where))
        if error.pointer is not None:
            before = escape_controls(error.where[: error.pointer])
            text.append("\n" + " " * (len("where  ") + cell_len(before))).append("^", style="bold red")
    parts: list[RenderableType] = [text]
    # Line ends in data are escaped by now; those left separate a command, which must not be broken, from its words.
    for number, line in enumerate(error.todo.split("\n") if error.todo else ()):
        is_command = line.startswith("lomrix ")
        head = ("next   ", "bold cyan") if number == 0 else ("       ", "")
        parts.append(
            Text.assemble(head, escape_controls(line), no_wrap=is_command, overflow="ignore" if is_command else None)
        )
    return Group(*parts)
