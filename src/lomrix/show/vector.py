"""Drawings in SVG for pages: they take the colours of the page, and every text in them can be read and copied."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from html import escape

from lomrix.core.steps.report.content import Bar, Drawn, Line, Node, SeenAt

BOX, HIGH, ACROSS, DOWN, MARGIN = 196, 58, 44, 18, 8
SIGNS = 26
DASHES = ("", "6 3", "2 3", "8 3 2 3", "1 2", "10 4")


def svg(width: float, height: float, title: str, parts: Sequence[str], kind: str) -> str:
    """A drawing that is as wide as there is room, and no wider than it was made."""
    return (
        f'<svg class="{kind}" viewBox="0 0 {width:.0f} {height:.0f}" style="max-width:{width:.0f}px" role="img" '
        f'aria-label="{escape(title, quote=True)}"><title>{escape(title)}</title>{"".join(parts)}</svg>'
    )


def cut(text: str, signs: int = SIGNS) -> str:
    """A text that fits; its end is what tells files apart."""
    return text if len(text) <= signs else "…" + text[-signs + 1 :]


def text_at(x: float, y: float, text: str, kind: str = "", anchor: str = "start") -> str:
    """A line of text."""
    return f'<text x="{x:.1f}" y="{y:.1f}" class="{kind}" text-anchor="{anchor}">{escape(text)}</text>'


# ------------------------------------------------------------------------ bars


def bars(values: Sequence[Bar], title: str) -> str:
    """A small distribution: one column for each part, those that are suppressed left out."""
    wide, high, gap = 216.0, 44.0, 2.0
    most = max((bar.cells or 0 for bar in values), default=0) or 1
    each = (wide - gap * (len(values) - 1)) / max(len(values), 1)
    parts = [f'<line x1="0" x2="{wide}" y1="{high}" y2="{high}" class="axis"/>']
    for at, bar in enumerate(values):
        if not bar.cells:
            continue
        tall = max(bar.cells / most * (high - 2), 1.0)
        told = f"{bar.label}: {bar.cells:,}"
        x = at * (each + gap)
        parts.append(
            f'<rect x="{x:.1f}" y="{high - tall:.1f}" width="{each:.1f}" height="{tall:.1f}" class="bar">'
            f"<title>{escape(told)}</title></rect>"
        )
    told = ", ".join(f"{bar.label}: {'suppressed' if bar.cells is None else format(bar.cells, ',')}" for bar in values)
    return svg(wide, high + 1, f"{title}. {told}", parts, "bars")


# ------------------------------------------------------------------------ flow


def levels(needs: Mapping[str, Sequence[str]]) -> dict[str, int]:
    """How many boxes stand above each at least, one under the other."""
    found: dict[str, int] = {}
    for name, before in needs.items():
        found[name] = 1 + max((found[one] for one in before if one in found), default=-1)
    return found


def flow(nodes: Sequence[Node]) -> str:
    """How a file came about, from the raw files at the top to the file at the foot, with rows in each box."""
    level = levels({node.id: node.needs for node in nodes})
    deepest = max(level.values(), default=0)
    # A raw file stands just above the first task that takes it.
    for node in nodes:
        if not node.does:
            level[node.id] = max(min((level[one.id] for one in nodes if node.id in one.needs), default=1) - 1, 0)
    rows: dict[int, list[Node]] = {}
    for node in nodes:
        rows.setdefault(level[node.id], []).append(node)
    widest = max(map(len, rows.values()), default=1)
    wide = 2 * MARGIN + widest * BOX + (widest - 1) * ACROSS
    high = 2 * MARGIN + (deepest + 1) * HIGH + deepest * 2 * DOWN
    place: dict[str, tuple[float, float]] = {}
    for at, line in rows.items():
        start = (wide - len(line) * BOX - (len(line) - 1) * ACROSS) / 2
        for number, node in enumerate(line):
            place[node.id] = (start + number * (BOX + ACROSS), MARGIN + at * (HIGH + 2 * DOWN))
    parts = [edge(place[before], place[node.id]) for node in nodes for before in node.needs if before in place]
    for node in nodes:
        x, y = place[node.id]
        kind = "task" if node.does else "raw"
        rows_told = "" if node.rows is None else f"{node.rows:,} rows"
        parts.append(f'<g class="{kind}"><rect x="{x:.1f}" y="{y:.1f}" width="{BOX}" height="{HIGH}" rx="4"/>')
        parts.append(text_at(x + 9, y + 17, cut(node.title or "in memory"), "strong"))
        parts.append(text_at(x + 9, y + 33, node.does or "raw file"))
        last = rows_told or (cut(node.summary) if node.summary != node.title else "")
        parts.append(text_at(x + 9, y + 49, last) + f"<title>{escape(node.summary or node.title)}</title></g>")
    told = "; ".join(
        f"{node.does or 'raw file'} {node.title}" + ("" if node.rows is None else f": {node.rows:,} rows")
        for node in nodes
    )
    return svg(wide, high, f"The flow of the data. {told}", parts, "flow")


def edge(start: tuple[float, float], end: tuple[float, float]) -> str:
    """A line from the foot of one box to the top of another."""
    x1, y1, x2, y2 = start[0] + BOX / 2, start[1] + HIGH, end[0] + BOX / 2, end[1]
    middle = (y1 + y2) / 2
    return f'<path class="edge" d="M{x1:.1f} {y1:.1f} C{x1:.1f} {middle:.1f} {x2:.1f} {middle:.1f} {x2:.1f} {y2:.1f}"/>'


# ------------------------------------------------------------------------ seen


def steps_of_seen(seen: Sequence[SeenAt], cases: int | None) -> str:
    """Cases at each occasion as bars, new ones and those who came back told beside them."""
    line, left, wide = 26, 90, 640
    most = max([one.cases or 0 for one in seen] + [cases or 0]) or 1
    room = wide - left - 150
    parts = []
    for at, one in enumerate(seen):
        y = at * line
        parts.append(text_at(left - 8, y + 17, cut(one.occasion, 12), "", "end"))
        if one.cases is None:
            parts.append(text_at(left, y + 17, "held back", "quiet"))
            continue
        long = one.cases / most * room
        parts.append(f'<rect class="bar" x="{left}" y="{y + 4}" width="{max(long, 1):.1f}" height="{line - 8}"/>')
        share = f" ({100 * one.cases / cases:.0f} %)" if cases else ""
        parts.append(text_at(left + long + 6, y + 17, f"{one.cases:,}{share}"))
    told = ", ".join(f"{one.occasion}: {'suppressed' if one.cases is None else one.cases}" for one in seen)
    return svg(wide, len(seen) * line + 4, f"Cases seen at each occasion. {told}", parts, "seen")


# --------------------------------------------------------------------- courses


def courses(drawn: Drawn, occasion: str) -> str:
    """Means over the occasions with their intervals; each group a line of its own dash, named at its end."""
    wide, high, left, right, top, foot, inset = 640.0, 260.0, 56.0, 150.0, 12.0, 36.0, 22.0
    points = [point for line in drawn.lines for point in line.points if point.mean is not None]
    names = [point.occasion for point in drawn.lines[0].points] if drawn.lines else []
    title = f"{drawn.label or drawn.name} over {occasion}"
    if not points:
        return svg(
            wide, 30, f"{title}: nothing can be shown.", [text_at(0, 20, "nothing can be shown", "quiet")], "course"
        )
    ends = [value for one in points for value in (one.mean, one.low, one.high) if value is not None]
    ticks = scale(min(ends), max(ends))
    low, span = ticks[0], (ticks[-1] - ticks[0]) or 1.0

    def x_of(at: int) -> float:
        return left + inset + (wide - left - right - 2 * inset) * (at / (len(names) - 1) if len(names) > 1 else 0.5)

    def y_of(value: float) -> float:
        return top + (high - top - foot) * (1 - (value - low) / span)

    parts = []
    for tick in ticks:
        y = y_of(tick)
        parts.append(f'<line class="grid" x1="{left}" x2="{wide - right}" y1="{y:.1f}" y2="{y:.1f}"/>')
        parts.append(text_at(left - 6, y + 4, f"{tick:g}", "quiet", "end"))
    every = max(1, math.ceil(len(names) / 12))
    for at, name in enumerate(names):
        if at % every == 0:
            parts.append(text_at(x_of(at), high - foot + 18, cut(name, 10), "quiet", "middle"))
    parts.append(text_at((left + wide - right) / 2, high - 4, occasion, "quiet", "middle"))
    parts += lines_of(drawn.lines, x_of, y_of, wide - right)
    told = "; ".join(
        f"{line.group + ' ' if line.group else ''}{point.occasion}: {point.mean:g}"
        for line in drawn.lines for point in line.points if point.mean is not None
    )  # fmt: skip
    return svg(wide, high, f"{title}. Means: {told}", parts, "course")


def lines_of(
    lines: Sequence[Line], x_of: Callable[[int], float], y_of: Callable[[float], float], edge_x: float
) -> list[str]:
    """The lines with their intervals; names at the right, pushed apart where they would meet."""
    parts: list[str] = []
    names: list[tuple[float, str, int]] = []
    for number, line in enumerate(lines):
        kind = f"line c{number % 6}"
        dash = f' stroke-dasharray="{DASHES[number // 6 % 6]}"' if number >= 6 else ""
        # A few steps aside, so that intervals of several groups do not cover each other.
        aside = (number - (len(lines) - 1) / 2) * 3 if len(lines) > 1 else 0.0
        spots = [(x_of(at) + aside, point) for at, point in enumerate(line.points)]
        known = [(x, y_of(point.mean), point) for x, point in spots if point.mean is not None]
        path = " ".join(f"{'L' if at else 'M'}{x:.1f} {y:.1f}" for at, (x, y, _) in enumerate(known))
        parts.append(f'<path class="{kind}" d="{path}"{dash}/>' if known else "")
        for x, y, point in known:
            if point.low is not None and point.high is not None:
                ends = f'y1="{y_of(point.low):.1f}" y2="{y_of(point.high):.1f}"'
                parts.append(f'<line class="{kind}" x1="{x:.1f}" x2="{x:.1f}" {ends}/>')
            cells = "" if point.n is None else f", n {point.n:,}"
            told = escape(f"{line.group} {point.occasion}: {point.mean:g}{cells}".strip())
            parts.append(f'<circle class="{kind}" cx="{x:.1f}" cy="{y:.1f}" r="3"><title>{told}</title></circle>')
        if known and line.group:
            names.append((known[-1][1], line.group, number))
    last = -math.inf
    for y, group, number in sorted(names):
        last = max(y + 4, last + 14)
        parts.append(text_at(edge_x + 12, last, cut(group, 20), f"name c{number % 6}"))
    return parts


def scale(low: float, high: float) -> list[float]:
    """Round numbers that hold a span, four to eight of them.

    Examples
    --------
    >>> scale(391.2, 452.8)
    [380.0, 400.0, 420.0, 440.0, 460.0]
    """
    if low == high:
        low, high = low - 1, high + 1
    rough = (high - low) / 4
    size = 10.0 ** math.floor(math.log10(rough))
    step = next(size * one for one in (1, 2, 5, 10) if size * one >= rough)
    first = math.floor(low / step)
    return [round((first + at) * step, 10) for at in range(math.ceil(high / step) - first + 1)]
