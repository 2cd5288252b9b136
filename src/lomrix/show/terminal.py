"""Accounts and tables as a person reads them in a terminal; plain text where it is piped."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TextIO

import numpy as np
from rich.cells import cell_len
from rich.console import Console, Group, RenderableType
from rich.text import Text

from lomrix.core.errors import LomrixError
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.table import Table
from lomrix.show.grid import BETWEEN, Cell, Head, grid_lines
from lomrix.show.numbers import aligned_numbers, number_text
from lomrix.show.visible import visible

# Piped output is as wide as its content.
NO_LIMIT = 1_000_000
FIRST_ROWS = 5
WIDEST_CELL = 26
# A result of so few rows is shown whole.
FEW_ROWS = 24
# Of a wide table so many columns are shown where the width has no limit.
MOST_COLUMNS = 24
# Columns of listings that are never cut, beside the first.
KEPT = ("column", "variable", "measure", "label", "key", "rule", "first rows")
# Texts that stand to the right as counts do: per cents, alone or behind a count. Ids of digits stay at the left.
DECIMAL = re.compile(r"-?[\d,]+\.\d+|-?[\d,]+")
PER_CENT = re.compile(r"(\d+\.\d|[\d,]+ \([\d.]+\))?")
# Notes that are told together where as many columns as this have them.
FEW_COLUMNS = 3
GATHERED = {"token": "texts are taken as missing among the values", "blanks-around": "blanks begin or end cells"}
# Parts of a balance that stand in one line; more of them get a line each.
MOST_IN_A_LINE = 3


@dataclass(frozen=True)
class Screen:
    """Where a person reads.

    Parameters
    ----------
    stream
        What is written to.
    width
        Its columns, where that is known.
    is_terminal
        Whether it is a terminal, and no file or pipe.
    colour
        Whether colours are wanted in a terminal.
    """

    stream: TextIO
    width: int | None = None
    is_terminal: bool = False
    colour: bool = True

    @property
    def room(self) -> int | None:
        """The width that there is; None where there is no limit."""
        # The last columns of a window are often hidden behind its edge.
        return max(40, (self.width or 80) - 2) if self.is_terminal else None

    def console(self) -> Console:
        """A console that colours only a terminal."""
        width = self.room or NO_LIMIT
        return Console(
            file=self.stream, width=width, highlight=False, soft_wrap=False, emoji=False, markup=False,
            force_terminal=self.is_terminal, no_color=not self.colour,
            color_system="auto" if self.is_terminal and self.colour else None,
        )  # fmt: skip


def account_view(
    account: Account, sources: Sequence[str], notes: Sequence[tuple[str, Note]], room: int | None = None
) -> RenderableType:
    """An account from its summary to what a person should look at.

    Parameters
    ----------
    account
        The step's account.
    sources
        One line for each table that was read.
    notes
        Notes of the reading, each with the name of its table.
    room
        Width of the window; None where there is no limit.
    """
    parts: list[RenderableType] = [Text(f"read  {visible(source)}", style="dim") for source in sources]
    parts.append(Text.assemble((account.step, "bold cyan"), "  ", (visible(account.summary), "bold")))
    for place, one in enumerate(account.parts or (account,)):
        if account.parts:
            parts += [Text(), Text(f"  {place + 1}. {visible(one.summary)}", style="bold")]
        parts += balance_lines([balance for balance in one.balances if not balance.quiet], room)
        for listing in one.listings:
            parts += listing_lines(listing, room)
    told = [*notes, *(("", note) for note in account.notes)]
    done = [(source, note) for source, note in told if note.done]
    if done:
        parts.append(Text())
        parts += [note_line(source, note, "  · ", quiet=True) for source, note in done]
    looks = [(source, note) for source, note in told if not note.done]
    if looks:
        parts += [Text(), notes_view(looks)]
    return Group(*parts)


def notes_view(notes: Sequence[tuple[str, Note]]) -> RenderableType:
    """What a person should look at."""
    lines = [note_line(source, note, "  ! ") for source, note in gathered(notes)]
    return Group(Text("look at", style="bold yellow"), *lines)


def gathered(notes: Sequence[tuple[str, Note]]) -> list[tuple[str, Note]]:
    """Notes of one kind on many columns of a table as one note."""
    alike: dict[tuple[str, str], list[Note]] = {}
    for source, note in notes:
        alike.setdefault((source, note.kind), []).append(note)
    shown: list[tuple[str, Note]] = []
    for source, note in notes:
        same = alike.get((source, note.kind), [])
        names = list(dict.fromkeys(one.column for one in same))
        if note.kind not in GATHERED or len(names) < FEW_COLUMNS:
            shown.append((source, note))
        elif note is same[0]:
            columns = ", ".join(names[:4]) + (" …" if len(names) > 4 else "")
            cells = sum(one.count for one in same)
            words = GATHERED[note.kind]
            text = f"{words} in {len(names)} columns, {cells:,} cells: {columns}{'' if len(names) > 4 else '.'}"
            shown.append((source, Note(text, "", note.examples[:3], note.kind, cells)))
    return shown


def balance_lines(balances: Sequence[Balance], room: int | None) -> list[Text]:
    """Each total and, after it, the parts that add up to it."""
    whats = [visible(balance.what) for balance in balances]
    wide, far = max(map(len, whats), default=0), max((len(f"{one.total:,}") for one in balances), default=0)
    lines = []
    for what, balance in zip(whats, balances, strict=True):
        parts = [(word, number) for word, number in balance.parts if number] or list(balance.parts[:1])
        told = [(f"{number:,}", f" {visible(word)}") for word, number in parts]
        length = sum(len(number) + len(word) + BETWEEN for number, word in told)
        in_a_line = len(parts) <= MOST_IN_A_LINE and (room is None or wide + far + length + 8 <= room)
        line = Text(f"  {what.ljust(wide)}  ").append(f"{balance.total:,}".rjust(far), style="bold").append("  ")
        for place, (number, word) in enumerate(told):
            if place and not in_a_line:
                lines.append(line)
                line = Text(" " * (wide + far + 6))
            line.append(("= " if not place else "+ " if not in_a_line else " + "), style="dim")
            line.append(number, style="bold").append(word)
        lines.append(line)
    return lines


def listing_view(listing: Listing, room: int | None) -> RenderableType:
    """A listing on its own."""
    return Group(*listing_lines(listing, room))


def listing_lines(listing: Listing, room: int | None) -> list[Text]:
    """A small table under its title."""
    columns = [column_texts([row[place] for row in listing.rows]) for place in range(len(listing.columns))]
    heads = [
        Head(visible(name), bool(listing.rows) and all(is_count(row[place]) for row in listing.rows),
             place == 0 or name in KEPT)
        for place, name in enumerate(listing.columns)
    ]  # fmt: skip
    rows = [[Cell(column[at]) for column in columns] for at in range(len(listing.rows))]
    title = Text(f"  {visible(listing.title)}", style="italic")
    return [Text(), title, *grid_lines(heads, rows, room, splits=listing.splits)]


def column_texts(cells: Sequence[object]) -> list[str]:
    """The cells of a listing's column: numbers with decimals under each other, a dash for nothing."""
    is_number = [isinstance(cell, int | float) and not isinstance(cell, bool) for cell in cells]
    if not any(isinstance(cell, float) for cell in cells):
        texts = [cell_text(cell) for cell in cells]
        return at_point(texts) if any("." in text and DECIMAL.fullmatch(text) for text in texts) else texts
    told = aligned_numbers([float(cell) for cell, number in zip(cells, is_number, strict=True) if number])  # type: ignore[arg-type]
    # Of one width, so that they also stand under each other where the column's words stand to the left.
    numbers = (text.rjust(max(map(len, told))) for text in told)
    return [next(numbers) if number else cell_text(cell) for cell, number in zip(cells, is_number, strict=True)]


def at_point(texts: Sequence[str]) -> list[str]:
    """Texts of numbers, with blanks around them so that their decimal points stand under each other."""
    parts = [text.partition(".") for text in texts if DECIMAL.fullmatch(text)]
    before, behind = max(len(whole) for whole, _, _ in parts), max(len(point + rest) for _, point, rest in parts)
    return [
        text.partition(".")[0].rjust(before) + text[len(text.partition(".")[0]) :].ljust(behind)
        if DECIMAL.fullmatch(text) else text
        for text in texts
    ]  # fmt: skip


def is_count(cell: object) -> bool:
    """True for what stands to the right: numbers, per cents, and a dash for nothing."""
    return bool(PER_CENT.fullmatch(cell)) if isinstance(cell, str) else True


def note_line(source: str, note: Note, mark: str, *, quiet: bool = False) -> Text:
    """A note with its examples."""
    text = Text(style="dim" if quiet else "").append(mark, style="" if quiet else "bold yellow")
    where = visible(".".join(part for part in (source, note.column) if part))
    text.append(f"{where}: " if where else "", style="" if quiet else "bold").append(visible(note.text))
    if note.examples:
        shown = [f"row {row} {quoted(value)}" for row, value in note.examples if value is not None]
        bare = [str(row) for row, value in note.examples if value is None]
        shown += [f"{plural(len(bare), 'row', 'rows')} {', '.join(bare)}"] if bare else []
        more = " …" if note.count > len(note.examples) else ""
        text.append(f" ({', '.join(shown)}{more})", style="dim")
    return text


def quoted(value: object) -> str:
    """A value in quotation marks where it is text, so that blanks are seen."""
    return f'"{visible(value)}"' if isinstance(value, str) else cell_text(value)


def cell_text(value: object) -> str:
    """A value as it stands in a listing: thousands apart in counts, a dash for nothing."""
    if value is None:
        return "—"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return f"{value:,}"
    if isinstance(value, float):
        return number_text(value)
    return visible(str(value))


def first_rows_view(table: Table, room: int | None, shown: Sequence[str] = ()) -> RenderableType:
    """The first rows as they would be written; what is missing stands in its reason.

    Parameters
    ----------
    table
        The table.
    room
        Width in signs; None where there is no limit.
    shown
        The columns that are shown, in this order; all where none are named.
    """
    names, table = table.names, table.only(shown) if shown else table
    whole = len(table) <= FEW_ROWS
    head = table if whole else table.first(FIRST_ROWS)
    heads: list[Head] = []
    columns: list[list[Cell]] = []
    left = room or NO_LIMIT
    for name, column in head.columns.items():
        cells = first_cells(column)
        left -= max([len(name), *(len(cell.text) for cell in cells)]) + BETWEEN
        full = left < 12 or len(heads) >= MOST_COLUMNS
        if full and len(heads) >= 2 and len(heads) < len(table.names) - 1:
            break
        heads.append(Head(visible(name), column.type in ("integer", "number"), kept=True))
        columns.append(cells)
    rest = len(names) - len(heads)
    if rest:
        heads.append(Head(f"… {rest} more", kept=True))
        columns.append([Cell("")] * len(head))
    rows = [[column[at] for column in columns] for at in range(len(head))]
    told = f"all {counted(len(table), 'row', 'rows')}" if whole else f"first rows of {len(table):,}"
    title = Text(f"  {told}, {counted(len(names), 'column', 'columns')}", style="italic")
    return Group(Text(), title, *grid_lines(heads, rows, None))


def first_cells(column: Column) -> list[Cell]:
    """The cells of some rows, cut where they are long and marked so."""
    values, reasons = column.cells(), column.reason_cells(np.arange(len(column)))
    if column.type == "number":
        numbers = iter(aligned_numbers([value for value in values if value is not None]))
        texts = ["" if value is None else next(numbers) for value in values]
    else:
        texts = [str(value).lower() if isinstance(value, bool) else visible(str(value)) for value in values]
    cells = []
    for text, why in zip(texts, reasons, strict=True):
        told = text if why is None else visible(why)
        cut = told if len(told) <= WIDEST_CELL else told[: WIDEST_CELL - 1] + "…"
        cells.append(Cell(cut, "" if why is None else "dim italic"))
    return cells


def ending_view(
    written: Sequence[str], advice: Sequence[str], compared: int = 0, *, rehearsal: str = "", not_drawn: bool = False
) -> RenderableType:
    """What was written, and what to type next.

    Parameters
    ----------
    written
        A line for each file.
    advice
        What to type next.
    compared
        Number of cells that were read back.
    rehearsal
        What to say where the table was not written.
    not_drawn
        Whether a figure had nothing to draw.
    """
    parts: list[RenderableType] = [Text.assemble(("written", "bold green"), f"  {visible(line)}") for line in written]
    if not_drawn:
        parts.append(Text.assemble(("not drawn", "bold yellow"), "  there are no numbers, or no rows, to be drawn"))
    if compared:
        parts.append(Text.assemble(("read back", "bold green"), f"  {compared:,} cells compared, all equal"))
    if rehearsal:
        parts.append(Text.assemble(("rehearsal", "bold magenta"), f"  {rehearsal}"))
    parts += [Text.assemble(("next", "bold cyan"), f"  {visible(line)}") for line in advice]
    return Group(*parts)


def error_view(error: LomrixError) -> RenderableType:
    """An error in one to four lines: what, where, what to do next."""
    text = Text.assemble(("error  ", "bold red"), visible(error.what))
    if error.where:
        text.append("\nwhere  ", style="bold").append(visible(error.where))
        if error.pointer is not None:
            before = visible(error.where[: error.pointer])
            text.append("\n" + " " * (len("where  ") + cell_len(before))).append("^", style="bold red")
    if error.todo:
        # What comes from data has no line ends any more; those left divide a command from what is said of it.
        todo = "\n       ".join(visible(line) for line in error.todo.split("\n"))
        text.append("\nnext   ", style="bold cyan").append(todo)
    return text
