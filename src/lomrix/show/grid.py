"""Small tables in a terminal: names are never cut, other columns are wrapped, and what does not fit is named."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from dataclasses import dataclass

from rich.text import Text

GAP = 3
INDENT = 2
# No column is made narrower than this, nor than a share of its longest cell, so cells take two or three lines.
MIN_WIDTH = 12
MIN_SHARE = 0.55
# Cells longer than this may take more lines.
LONG_CELL = 60


@dataclass(frozen=True)
class Cell:
    """One cell and its style."""

    text: str
    style: str = ""


@dataclass(frozen=True)
class Head:
    """The head of a column; one that is `kept` is never dropped or wrapped."""

    name: str
    is_right_aligned: bool = False
    is_kept: bool = False


def format_grid(
    heads: Sequence[Head], rows: Sequence[Sequence[Cell]], width: int | None, *, can_split: bool = False
) -> list[Text]:
    """Format the lines of a small table; with `can_split`, one that is too wide becomes several blocks."""
    natural = [max([len(head.name), *(len(row[index].text) for row in rows)]) for index, head in enumerate(heads)]
    if width is None or total_width(natural) <= width:
        return format_lines(heads, rows, natural)
    if can_split and len(heads) > 2:
        return format_blocks(heads, rows, natural, width)
    columns = [[head.name, *(row[index].text for row in rows)] for index, head in enumerate(heads)]
    shown, fitted_widths = fit_columns(heads, natural, columns, width)
    lines = format_lines(
        [heads[index] for index in shown], [[row[index] for index in shown] for row in rows], fitted_widths
    )
    dropped = [head.name for index, head in enumerate(heads) if index not in shown]
    if dropped:
        message = f"not shown: {', '.join(dropped)}; use a wider window or a pipe"
        lines.append(Text(" " * INDENT + message, style="dim italic"))
    return lines


def total_width(widths: Sequence[int]) -> int:
    """Return the width of a table."""
    return INDENT + sum(widths) + GAP * (len(widths) - 1)


def fit_columns(
    heads: Sequence[Head], natural: Sequence[int], columns: Sequence[Sequence[str]], width: int
) -> tuple[list[int], list[int]]:
    """Choose which columns fit and how wide each is: wrap columns first, then drop some from the right."""
    shown = list(range(len(heads)))
    while True:
        widths = [natural[index] for index in shown]
        for may_wrap in ([index for index in shown if not heads[index].is_kept], [index for index in shown if index]):
            wrapping = [
                position
                for position, index in enumerate(shown)
                if index in may_wrap and not heads[index].is_right_aligned
            ]
            widths = narrow_columns(widths, wrapping, [columns[index] for index in shown], width)
            if total_width(widths) <= width:
                return shown, widths
        droppable = [index for index in shown[1:] if not heads[index].is_kept] or shown[1:]
        if len(shown) == 1 or not droppable:
            return shown, widths
        shown.remove(droppable[-1])


def narrow_columns(
    widths: Sequence[int], wrapping: Sequence[int], columns: Sequence[Sequence[str]], width: int
) -> list[int]:
    """Narrow columns, where that wraps the fewest cells, until the table fits."""
    result = list(widths)
    minimum = {position: find_minimum_width(columns[position]) for position in wrapping}
    lengths = {position: [len(text) for text in columns[position]] for position in wrapping}
    while total_width(result) > width:
        candidates = [position for position in wrapping if result[position] > minimum[position]]
        if not candidates:
            break
        wrapped = {position: sum(length >= result[position] for length in lengths[position]) for position in candidates}
        result[min(candidates, key=lambda position: (wrapped[position], -result[position]))] -= 1
    return result


def find_minimum_width(texts: Sequence[str]) -> int:
    """Find how narrow a column may be made; only very long words are broken."""
    word = max((len(word) for text in texts for word in text.split()), default=0)
    return max(MIN_WIDTH, min(word, LONG_CELL // 2), round(MIN_SHARE * min(max(map(len, texts), default=0), LONG_CELL)))


def format_blocks(
    heads: Sequence[Head], rows: Sequence[Sequence[Cell]], natural: Sequence[int], width: int
) -> list[Text]:
    """Format the table as several blocks of columns that fit."""
    lines: list[Text] = []
    start = 1
    while start < len(heads):
        stop = start + 1
        while stop < len(heads) and total_width([natural[0], *natural[start : stop + 1]]) <= width:
            stop += 1
        shown = [0, *range(start, stop)]
        lines += [Text()] if lines else []
        part = [[row[position] for position in shown] for row in rows]
        lines += format_lines([heads[position] for position in shown], part, [natural[position] for position in shown])
        start = stop
    return lines


def format_lines(heads: Sequence[Head], rows: Sequence[Sequence[Cell]], widths: Sequence[int]) -> list[Text]:
    """Format the lines of a table: the heads, a rule, the rows."""
    rights = [head.is_right_aligned for head in heads]
    lines = format_row([Cell(head.name, "dim") for head in heads], rights, widths)
    lines.append(Text(" " * INDENT + "─" * (total_width(widths) - INDENT), style="dim"))
    for row in rows:
        lines += format_row(row, rights, widths)
    return lines


def format_row(cells: Sequence[Cell], right_aligned: Sequence[bool], widths: Sequence[int]) -> list[Text]:
    """Format a row, in as many lines as its longest cell takes."""
    wrapped = [wrap_cell(cell.text, width) for cell, width in zip(cells, widths, strict=True)]
    lines = []
    for depth in range(max(map(len, wrapped))):
        line = Text(" " * INDENT)
        for position, (cell, parts, right) in enumerate(zip(cells, wrapped, right_aligned, strict=True)):
            text = parts[depth] if depth < len(parts) else ""
            padded = text.rjust(widths[position]) if right else text.ljust(widths[position])
            line.append(" " * GAP if position else "").append(padded, style=cell.style)
        line.rstrip()
        lines.append(line)
    return lines


def wrap_cell(text: str, width: int) -> list[str]:
    """Wrap a cell to a width."""
    if len(text) <= width:
        return [text]
    return textwrap.wrap(text, width, break_on_hyphens=False, drop_whitespace=True) or [""]
