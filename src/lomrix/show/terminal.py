"""Accounts and tables as a person reads them in a terminal; plain text where it is piped."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TextIO

import numpy as np
from rich import box
from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from lomrix.core.errors import LomrixError
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.table import Table

PIPED_WIDTH = 110
FIRST_ROWS = 5
WIDEST_CELL = 26
# A result of so few rows is shown whole.
FEW_ROWS = 24
# Columns of a listing up to this width are never cut.
SHORT = 16
# Texts that stand to the right as counts do: per cents, alone or behind a count. Ids of digits stay at the left.
PER_CENT = re.compile(r"(\d+\.\d|[\d,]+ \([\d.]+\))?")
# Notes that are told together where as many columns as this have them.
FEW_COLUMNS = 3
GATHERED = {"token": "texts are taken as missing among the values", "blanks-around": "blanks begin or end cells"}
# Parts of a balance that stand in one line; more of them get a line each.
MOST_IN_A_LINE = 3


class PatientConsole(Console):
    """A console that leaves it to the program what to do where its reader goes away."""

    def on_broken_pipe(self) -> None:
        """Tell the program."""
        raise BrokenPipeError


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

    def console(self) -> Console:
        """A console that colours only a terminal."""
        # The last columns of a window are often hidden behind its edge.
        width = max(40, (self.width or 80) - 2) if self.is_terminal else PIPED_WIDTH
        return PatientConsole(
            file=self.stream, width=width, highlight=False, soft_wrap=False, emoji=False, markup=False,
            force_terminal=self.is_terminal, no_color=not self.colour,
            color_system="auto" if self.is_terminal and self.colour else None,
        )  # fmt: skip


def account_view(account: Account, sources: Sequence[str], notes: Sequence[tuple[str, Note]]) -> RenderableType:
    """An account from its summary to what a person should look at.

    Parameters
    ----------
    account
        The step's account.
    sources
        One line for each table that was read.
    notes
        Notes of the reading, each with the name of its table.
    """
    parts: list[RenderableType] = [Text(f"read  {source}", style="dim") for source in sources]
    parts.append(Text.assemble((account.step, "bold cyan"), "  ", (account.summary, "bold")))
    for place, one in enumerate(account.parts or (account,)):
        if account.parts:
            parts += [Text(), Text(f"  {place + 1}. {one.summary}", style="bold")]
        told = [balance for balance in one.balances if not balance.quiet]
        if told:
            parts.append(balances_view(told))
        parts += [listing_view(listing) for listing in one.listings]
    looks = [*notes, *(("", note) for note in account.notes)]
    if looks:
        parts += [Text(), Text("look at", style="bold yellow")]
        parts += [note_view(source, note) for source, note in gathered(looks)]
    return Group(*parts)


def gathered(notes: Sequence[tuple[str, Note]]) -> list[tuple[str, Note]]:
    """Notes of one kind on many columns of a table as one note."""
    alike: dict[tuple[str, str], list[Note]] = {}
    for source, note in notes:
        alike.setdefault((source, note.kind), []).append(note)
    shown: list[tuple[str, Note]] = []
    for source, note in notes:
        same = alike.get((source, note.kind), [])
        if note.kind not in GATHERED or len(same) < FEW_COLUMNS:
            shown.append((source, note))
        elif note is same[0]:
            columns = ", ".join(one.column for one in same[:4]) + (" …" if len(same) > 4 else "")
            cells = sum(one.count for one in same)
            words = GATHERED[note.kind]
            text = f"{words} in {len(same)} columns, {cells:,} cells: {columns}{'' if len(same) > 4 else '.'}"
            shown.append((source, Note(text, "", note.examples[:3], note.kind, cells)))
    return shown


def balances_view(balances: Sequence[Balance]) -> RenderableType:
    """Each total and, after it, the parts that add up to it."""
    grid = Grid.grid(padding=(0, 2))
    grid.add_column()
    grid.add_column(justify="right", style="bold")
    grid.add_column(ratio=1)
    for balance in balances:
        parts = [(word, number) for word, number in balance.parts if number] or list(balance.parts[:1])
        between = " + " if len(parts) <= MOST_IN_A_LINE else "\n+ "
        told = Text().append("= ", style="dim")
        for place, (word, number) in enumerate(parts):
            told.append(between if place else "", style="dim").append(f"{number:,}", style="bold").append(f" {word}")
        grid.add_row(balance.what, f"{balance.total:,}", told)
    return Padding(grid, (0, 0, 0, 2), expand=False)


def listing_view(listing: Listing) -> RenderableType:
    """A small table under its title."""
    grid = Grid(box=box.SIMPLE_HEAD, header_style="dim", pad_edge=False, show_edge=False)
    for place, name in enumerate(listing.columns):
        texts = [cell_text(row[place]) for row in listing.rows]
        widest = max([len(name), *map(len, texts)])
        grid.add_column(
            name,
            no_wrap=listing.one_line,
            overflow="ellipsis" if listing.one_line else "fold",
            min_width=widest if listing.one_line and widest <= SHORT else None,
            justify="right" if texts and all(is_count(row[place]) for row in listing.rows) else "left",
        )
    for row in listing.rows:
        grid.add_row(*map(cell_text, row))
    return Group(Text(), Text(f"  {listing.title}", style="italic"), Padding(grid, (0, 0, 0, 2), expand=False))


def is_count(cell: object) -> bool:
    """True for what stands to the right: numbers, per cents, and a dash for nothing."""
    return bool(PER_CENT.fullmatch(cell)) if isinstance(cell, str) else True


def note_view(source: str, note: Note) -> RenderableType:
    """A note with its examples."""
    text = Text("  ").append("! ", style="bold yellow")
    where = ".".join(part for part in (source, note.column) if part)
    text.append(f"{where}: " if where else "", style="bold").append(note.text)
    if note.examples:
        shown = [f"row {row} {quoted(value)}" for row, value in note.examples if value is not None]
        bare = [str(row) for row, value in note.examples if value is None]
        shown += [f"{plural(len(bare), 'row', 'rows')} {', '.join(bare)}"] if bare else []
        more = " …" if note.count > len(note.examples) else ""
        text.append(f" ({', '.join(shown)}{more})", style="dim")
    return text


def quoted(value: object) -> str:
    """A value in quotation marks where it is text, so that blanks are seen."""
    return f'"{value}"' if isinstance(value, str) else cell_text(value)


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
    return str(value)


def number_text(value: float) -> str:
    """A number to six places that count, and no more than it needs."""
    if math.isfinite(value) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return f"{value:.6g}"


def first_rows_view(table: Table, width: int) -> RenderableType:
    """The first rows as they would be written; what is missing stands in its reason."""
    whole = len(table) <= FEW_ROWS
    head = table if whole else table.first(FIRST_ROWS)
    rows = np.arange(len(head))
    shown: list[tuple[str, list[Text], bool]] = []
    room = width - 4
    for name, column in head.columns.items():
        reasons = column.reason_cells(rows)
        cells = [
            Text(plain_cell(value)[:WIDEST_CELL]) if why is None else Text(why[:WIDEST_CELL], style="dim italic")
            for value, why in zip(column.cells(), reasons, strict=True)
        ]
        room -= max([len(name), *(len(cell) for cell in cells)]) + 3
        if room < 12 and len(shown) >= 2 and len(shown) < len(table.names) - 1:
            break
        shown.append((name, cells, column.type in ("integer", "number")))
    grid = Grid(box=box.SIMPLE_HEAD, header_style="dim", pad_edge=False, show_edge=False)
    for name, _, right in shown:
        grid.add_column(name, justify="right" if right else "left", no_wrap=True)
    rest = len(table.names) - len(shown)
    if rest:
        grid.add_column(f"… {rest} more", no_wrap=True)
    for place in rows:
        grid.add_row(*(cells[place] for _, cells, _ in shown), *([""] if rest else []))
    told = f"all {counted(len(table), 'row', 'rows')}" if whole else f"first rows of {len(table):,}"
    title = Text(f"{told}, {len(table.names)} columns", style="italic")
    return Group(Text(), Padding(title, (0, 0, 0, 2), expand=False), Padding(grid, (0, 0, 0, 2), expand=False))


def plain_cell(value: object) -> str:
    """A cell as it would be written."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return number_text(value) if isinstance(value, float) else str(value)


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
    parts: list[RenderableType] = [Text.assemble(("written", "bold green"), f"  {line}") for line in written]
    if not_drawn:
        parts.append(Text.assemble(("not drawn", "bold yellow"), "  there is no measure of numbers"))
    if compared:
        parts.append(Text.assemble(("read back", "bold green"), f"  {compared:,} cells compared, all equal"))
    if rehearsal:
        parts.append(Text.assemble(("rehearsal", "bold magenta"), f"  {rehearsal}"))
    parts += [Text.assemble(("next", "bold cyan"), f"  {line}") for line in advice]
    return Group(*parts)


def error_view(error: LomrixError) -> RenderableType:
    """An error in one to four lines: what, where, what to do next."""
    text = Text.assemble(("error  ", "bold red"), error.what)
    if error.where:
        text.append("\nwhere  ", style="bold").append(error.where)
    if error.todo:
        text.append("\nnext   ", style="bold cyan").append(error.todo)
    return text
