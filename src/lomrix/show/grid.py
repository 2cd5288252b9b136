"""Small tables in a terminal: names are never cut, other columns are wrapped, what has no room is told."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text

BETWEEN = 3
INDENT = 2
# No column is made narrower than this, nor than a share of its longest cell, so that cells take two lines or three.
LEAST_WIDTH = 12
LEAST_SHARE = 0.55
# Cells longer than this may take more lines.
LONG = 60


@dataclass(frozen=True)
class Cell:
    """One cell: its text, and how it is shown."""

    text: str
    style: str = ""


@dataclass(frozen=True)
class Head:
    """The head of a column.

    Parameters
    ----------
    name
        Its text.
    right
        Whether the cells stand to the right, as numbers do; such a column is never wrapped.
    kept
        Whether the column stays where there is little room, in full.
    """

    name: str
    right: bool = False
    kept: bool = False


def grid_lines(
    heads: Sequence[Head], rows: Sequence[Sequence[Cell]], room: int | None, *, splits: bool = False
) -> list[Text]:
    """The lines of a small table.

    Parameters
    ----------
    heads
        The c columns.
    rows
        For each row c cells.
    room
        Width of the window; None where there is no limit.
    splits
        Whether a table that is too wide stands in several blocks, each with the first column.
    """
    natural = [max([len(head.name), *(len(row[at].text) for row in rows)]) for at, head in enumerate(heads)]
    if room is None or total(natural) <= room:
        return drawn(heads, rows, natural)
    if splits and len(heads) > 2:
        return in_blocks(heads, rows, natural, room)
    columns = [[head.name, *(row[at].text for row in rows)] for at, head in enumerate(heads)]
    places, widths = fitted(heads, natural, columns, room)
    lines = drawn([heads[at] for at in places], [[row[at] for at in places] for row in rows], widths)
    gone = [head.name for at, head in enumerate(heads) if at not in places]
    if gone:
        words = f"no room for: {', '.join(gone)}; a wider window or a pipe shows them"
        lines.append(Text(" " * INDENT + words, style="dim italic"))
    return lines


def total(widths: Sequence[int]) -> int:
    """The width of a table with columns so wide."""
    return INDENT + sum(widths) + BETWEEN * (len(widths) - 1)


def fitted(
    heads: Sequence[Head], natural: Sequence[int], columns: Sequence[Sequence[str]], room: int
) -> tuple[list[int], list[int]]:
    """Which columns have room, and how wide each is: first others are wrapped, then left out from the right."""
    places = list(range(len(heads)))
    while True:
        widths = [natural[at] for at in places]
        for may_wrap in ([at for at in places if not heads[at].kept], [at for at in places if at]):
            wrapping = [place for place, at in enumerate(places) if at in may_wrap and not heads[at].right]
            widths = narrowed(widths, wrapping, [columns[at] for at in places], room)
            if total(widths) <= room:
                return places, widths
        spare = [at for at in places[1:] if not heads[at].kept] or places[1:]
        if len(places) == 1 or not spare:
            return places, widths
        places.remove(spare[-1])


def narrowed(widths: Sequence[int], wrapping: Sequence[int], columns: Sequence[Sequence[str]], room: int) -> list[int]:
    """Widths with some columns made narrower, where that wraps the fewest cells, until the table has room."""
    found = list(widths)
    least = {place: least_width(columns[place]) for place in wrapping}
    lengths = {place: [len(text) for text in columns[place]] for place in wrapping}
    while total(found) > room:
        wide = [place for place in wrapping if found[place] > least[place]]
        if not wide:
            break
        wrapped = {place: sum(length >= found[place] for length in lengths[place]) for place in wide}
        found[min(wide, key=lambda place: (wrapped[place], -found[place]))] -= 1
    return found


def least_width(texts: Sequence[str]) -> int:
    """How narrow a column may be made: no word is broken but a very long one."""
    word = max((len(word) for text in texts for word in text.split()), default=0)
    return max(LEAST_WIDTH, min(word, LONG // 2), round(LEAST_SHARE * min(max(map(len, texts), default=0), LONG)))


def in_blocks(heads: Sequence[Head], rows: Sequence[Sequence[Cell]], natural: Sequence[int], room: int) -> list[Text]:
    """The table in several blocks of columns that have room."""
    lines: list[Text] = []
    at = 1
    while at < len(heads):
        stop = at + 1
        while stop < len(heads) and total([natural[0], *natural[at : stop + 1]]) <= room:
            stop += 1
        places = [0, *range(at, stop)]
        lines += [Text()] if lines else []
        part = [[row[place] for place in places] for row in rows]
        lines += drawn([heads[place] for place in places], part, [natural[place] for place in places])
        at = stop
    return lines


def drawn(heads: Sequence[Head], rows: Sequence[Sequence[Cell]], widths: Sequence[int]) -> list[Text]:
    """The lines of a table whose columns are so wide: the heads, a line, the rows."""
    rights = [head.right for head in heads]
    lines = row_lines([Cell(head.name, "dim") for head in heads], rights, widths)
    lines.append(Text(" " * INDENT + "─" * (total(widths) - INDENT), style="dim"))
    for row in rows:
        lines += row_lines(row, rights, widths)
    return lines


def row_lines(cells: Sequence[Cell], rights: Sequence[bool], widths: Sequence[int]) -> list[Text]:
    """A row, in as many lines as its longest cell takes."""
    wrapped = [wrapped_cell(cell.text, width) for cell, width in zip(cells, widths, strict=True)]
    lines = []
    for depth in range(max(map(len, wrapped))):
        line = Text(" " * INDENT)
        for place, (cell, parts, right) in enumerate(zip(cells, wrapped, rights, strict=True)):
            text = parts[depth] if depth < len(parts) else ""
            padded = text.rjust(widths[place]) if right else text.ljust(widths[place])
            line.append(" " * BETWEEN if place else "").append(padded, style=cell.style)
        line.rstrip()
        lines.append(line)
    return lines


def wrapped_cell(text: str, width: int) -> list[str]:
    """A cell in lines of a width, broken between words where that can be."""
    if len(text) <= width:
        return [text]
    return textwrap.wrap(text, width, break_on_hyphens=False, drop_whitespace=True) or [""]
