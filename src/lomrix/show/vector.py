"""Drawings in SVG for pages: they take the colours of the page, and their text can be selected and copied."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from html import escape

from lomrix.core.steps.report.content import Bar, Line, MeasureFigure, Node, OccasionCounts

BOX, HIGH, ACROSS, DOWN, MARGIN = 196, 58, 44, 18, 8
MAX_CHARACTERS = 26
# About as wide as a character of a label.
CHARACTER = 6.5
# Boxes side by side in a flow; more become a further row.
MOST_ACROSS = 8
DASHES = ("", "6 3", "2 3", "8 3 2 3", "1 2", "10 4")


def wrap_svg(width: float, height: float, title: str, parts: Sequence[str], kind: str) -> str:
    """Wrap parts in a drawing that scales down but not up."""
    return (
        f'<svg class="{kind}" viewBox="0 0 {width:.0f} {height:.0f}" style="max-width:{width:.0f}px" role="img" '
        f'aria-label="{escape(title, quote=True)}"><title>{escape(title)}</title>{"".join(parts)}</svg>'
    )


def shorten(text: str, length: int = MAX_CHARACTERS) -> str:
    """Shorten a text at its start; the end distinguishes files."""
    return text if len(text) <= length else "…" + text[-length + 1 :]


def make_text(x: float, y: float, text: str, kind: str = "", anchor: str = "start") -> str:
    """Make a line of text."""
    return f'<text x="{x:.1f}" y="{y:.1f}" class="{kind}" text-anchor="{anchor}">{escape(text)}</text>'


# ------------------------------------------------------------------------ bars


def draw_bars(values: Sequence[Bar], title: str) -> str:
    """Draw a small distribution, one column for each part that is not suppressed."""
    width, height, gap = 216.0, 44.0, 2.0
    largest = max((bar.cells or 0 for bar in values), default=0) or 1
    bar_width = (width - gap * (len(values) - 1)) / max(len(values), 1)
    parts = [f'<line x1="0" x2="{width}" y1="{height}" y2="{height}" class="axis"/>']
    for index, bar in enumerate(values):
        if not bar.cells:
            continue
        bar_height = max(bar.cells / largest * (height - 2), 1.0)
        description = f"{bar.label}: {bar.cells:,}"
        x = index * (bar_width + gap)
        parts.append(
            f'<rect x="{x:.1f}" y="{height - bar_height:.1f}" width="{bar_width:.1f}" '
            f'height="{bar_height:.1f}" class="bar">'
            f"<title>{escape(description)}</title></rect>"
        )
    description = ", ".join(
        f"{bar.label}: {'suppressed' if bar.cells is None else format(bar.cells, ',')}" for bar in values
    )
    return wrap_svg(width, height + 1, f"{title}. {description}", parts, "bars")


# ------------------------------------------------------------------------ flow


def find_levels(needs: Mapping[str, Sequence[str]]) -> dict[str, int]:
    """Find the level of each box: one below the lowest of those it needs."""
    levels_: dict[str, int] = {}
    for name, needed in needs.items():
        levels_[name] = 1 + max((levels_[name_] for name_ in needed if name_ in levels_), default=-1)
    return levels_


def draw_flow(nodes: Sequence[Node]) -> str:
    """Draw how a file was made, from the raw files at the top to the file at the bottom, with numbers of rows."""
    level = find_levels({node.id: node.needs for node in nodes})
    # A raw file is just above the first task that takes it.
    for node in nodes:
        if not node.does:
            level[node.id] = max(min((level[other.id] for other in nodes if node.id in other.needs), default=1) - 1, 0)
    rows: list[list[Node]] = []
    for number in sorted(set(level.values())):
        boxes = [node for node in nodes if level[node.id] == number]
        down = -(-len(boxes) // MOST_ACROSS)
        rows += [boxes[row::down] for row in range(down)]
    most_boxes = max(map(len, rows), default=1)
    width = 2 * MARGIN + most_boxes * BOX + (most_boxes - 1) * ACROSS
    height = 2 * MARGIN + len(rows) * HIGH + (len(rows) - 1) * 2 * DOWN
    positions: dict[str, tuple[float, float]] = {}
    for row, boxes in enumerate(rows):
        start = (width - len(boxes) * BOX - (len(boxes) - 1) * ACROSS) / 2
        for number, node in enumerate(boxes):
            positions[node.id] = (start + number * (BOX + ACROSS), MARGIN + row * (HIGH + 2 * DOWN))
    parts = [
        draw_edge(positions[needed], positions[node.id])
        for node in nodes
        for needed in node.needs
        if needed in positions
    ]
    for node in nodes:
        x, y = positions[node.id]
        kind = "task" if node.does else "raw"
        row_text = "" if node.rows is None else f"{node.rows:,} rows"
        parts.append(f'<g class="{kind}"><rect x="{x:.1f}" y="{y:.1f}" width="{BOX}" height="{HIGH}" rx="4"/>')
        parts.append(make_text(x + 9, y + 17, shorten(node.title or "in memory"), "strong"))
        parts.append(make_text(x + 9, y + 33, node.does or "raw file"))
        last_line = row_text or (shorten(node.summary) if node.summary != node.title else "")
        parts.append(make_text(x + 9, y + 49, last_line) + f"<title>{escape(node.summary or node.title)}</title></g>")
    description = "; ".join(
        f"{node.does or 'raw file'} {node.title}" + ("" if node.rows is None else f": {node.rows:,} rows")
        for node in nodes
    )
    return wrap_svg(width, height, f"The flow of the data. {description}", parts, "flow")


def draw_edge(start: tuple[float, float], end: tuple[float, float]) -> str:
    """Draw a line from the bottom of one box to the top of another."""
    x1, y1, x2, y2 = start[0] + BOX / 2, start[1] + HIGH, end[0] + BOX / 2, end[1]
    middle = (y1 + y2) / 2
    return f'<path class="edge" d="M{x1:.1f} {y1:.1f} C{x1:.1f} {middle:.1f} {x2:.1f} {middle:.1f} {x2:.1f} {y2:.1f}"/>'


# ------------------------------------------------------------------------ seen


def draw_seen(seen: Sequence[OccasionCounts], cases: int | None) -> str:
    """Draw cases at each occasion as bars."""
    line_height, width = 26, 640
    labels = [shorten(occasion.occasion) for occasion in seen]
    left = max(90, 16 + CHARACTER * max(map(len, labels), default=0))
    largest = max([occasion.cases or 0 for occasion in seen] + [cases or 0]) or 1
    bar_room = width - left - 150
    parts = []
    for index, (label, occasion) in enumerate(zip(labels, seen, strict=True)):
        y = index * line_height
        parts.append(make_text(left - 8, y + 17, label, "", "end"))
        if occasion.cases is None:
            parts.append(make_text(left, y + 17, "suppressed", "quiet"))
            continue
        bar_length = occasion.cases / largest * bar_room
        parts.append(
            f'<rect class="bar" x="{left}" y="{y + 4}" width="{max(bar_length, 1):.1f}" height="{line_height - 8}"/>'
        )
        share = f" ({100 * occasion.cases / cases:.0f} %)" if cases else ""
        parts.append(make_text(left + bar_length + 6, y + 17, f"{occasion.cases:,}{share}"))
    description = ", ".join(
        f"{occasion.occasion}: {'suppressed' if occasion.cases is None else occasion.cases}" for occasion in seen
    )
    return wrap_svg(width, len(seen) * line_height + 4, f"Cases seen at each occasion. {description}", parts, "seen")


# --------------------------------------------------------------------- courses


def draw_course(measure: MeasureFigure, occasion: str) -> str:
    """Draw means over the occasions with their intervals; each group is a line with its own dash, named at its end."""
    width, height, left, right, top, foot, inset = 640.0, 260.0, 56.0, 150.0, 12.0, 36.0, 22.0
    points = [point for line in measure.lines for point in line.points if point.mean is not None]
    names = [point.occasion for point in measure.lines[0].points] if measure.lines else []
    title = f"{measure.label or measure.name} over {occasion}"
    if not points:
        return wrap_svg(
            width, 30, f"{title}: nothing can be shown.", [make_text(0, 20, "nothing can be shown", "quiet")], "course"
        )
    ends = [value for point_ in points for value in (point_.mean, point_.low, point_.high) if value is not None]
    ticks = choose_ticks(min(ends), max(ends))
    low, span = ticks[0], (ticks[-1] - ticks[0]) or 1.0

    room = width - left - right - 2 * inset

    def x_of(index: int) -> float:
        return left + inset + room * (index / (len(names) - 1) if len(names) > 1 else 0.5)

    def y_of(value: float) -> float:
        return top + (height - top - foot) * (1 - (value - low) / span)

    parts = []
    for tick in ticks:
        y = y_of(tick)
        parts.append(f'<line class="grid" x1="{left}" x2="{width - right}" y1="{y:.1f}" y2="{y:.1f}"/>')
        parts.append(make_text(left - 6, y + 4, f"{tick:g}", "quiet", "end"))
    labels = [shorten(name, 16) for name in names]
    label_width = CHARACTER * max(map(len, labels), default=0) + 8
    label_step = max(1, math.ceil(len(names) / 12), math.ceil(label_width * (len(names) - 1) / room))
    for index, label in enumerate(labels):
        if index % label_step == 0:
            parts.append(make_text(x_of(index), height - foot + 18, label, "quiet", "middle"))
    parts.append(make_text((left + width - right) / 2, height - 4, occasion, "quiet", "middle"))
    parts += draw_lines(measure.lines, x_of, y_of, width - right)
    description = "; ".join(
        f"{line.group + ' ' if line.group else ''}{point.occasion}: {point.mean:g}"
        for line in measure.lines for point in line.points if point.mean is not None
    )  # fmt: skip
    return wrap_svg(width, height, f"{title}. Means: {description}", parts, "course")


def draw_lines(
    lines: Sequence[Line], x_of: Callable[[int], float], y_of: Callable[[float], float], edge_x: float
) -> list[str]:
    """Draw the lines with their intervals; names at the right are moved apart."""
    parts: list[str] = []
    names: list[tuple[float, str, int]] = []
    for number, line in enumerate(lines):
        kind = f"line c{number % 6}"
        dash = f' stroke-dasharray="{DASHES[number // 6 % 6]}"' if number >= 6 else ""
        # Shifted a little, so that intervals of several groups do not cover each other.
        offset = (number - (len(lines) - 1) / 2) * 3 if len(lines) > 1 else 0.0
        positioned = [(x_of(index) + offset, point) for index, point in enumerate(line.points)]
        shown = [(x, y_of(point.mean), point) for x, point in positioned if point.mean is not None]
        path = " ".join(f"{'L' if index else 'M'}{x:.1f} {y:.1f}" for index, (x, y, _) in enumerate(shown))
        parts.append(f'<path class="{kind}" d="{path}"{dash}/>' if shown else "")
        for x, y, point in shown:
            if point.low is not None and point.high is not None:
                ends = f'y1="{y_of(point.low):.1f}" y2="{y_of(point.high):.1f}"'
                parts.append(f'<line class="{kind}" x1="{x:.1f}" x2="{x:.1f}" {ends}/>')
            cells = "" if point.n is None else f", n {point.n:,}"
            description = escape(f"{line.group} {point.occasion}: {point.mean:g}{cells}".strip())
            parts.append(
                f'<circle class="{kind}" cx="{x:.1f}" cy="{y:.1f}" r="3"><title>{description}</title></circle>'
            )
        if shown and line.group:
            names.append((shown[-1][1], line.group, number))
    last = -math.inf
    for y, group, number in sorted(names):
        last = max(y + 4, last + 14)
        parts.append(make_text(edge_x + 12, last, shorten(group, 20), f"name c{number % 6}"))
    return parts


def choose_ticks(low: float, high: float) -> list[float]:
    """Choose round numbers that cover a range, four to eight of them.

    >>> choose_ticks(391.2, 452.8)
    [380.0, 400.0, 420.0, 440.0, 460.0]
    """
    if low == high:
        low, high = low - 1, high + 1
    rough = (high - low) / 4
    size = 10.0 ** math.floor(math.log10(rough))
    step = next(size * factor for factor in (1, 2, 5, 10) if size * factor >= rough)
    first = math.floor(low / step)
    return [round((first + index) * step, 10) for index in range(math.ceil(high / step) - first + 1)]
