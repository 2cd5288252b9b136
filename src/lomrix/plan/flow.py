"""The flow of a plan: as text, in Mermaid, and as a drawing in SVG."""

from __future__ import annotations

from html import escape

from lomrix.job.task import TABLE
from lomrix.plan.plan import Plan, PlannedStep

BOX, HIGH, GAP_X, GAP_Y, MARGIN = 210, 52, 60, 26, 20
SIGNS_IN_A_BOX = 28


def levels(plan: Plan) -> dict[str, int]:
    """How many steps stand before each at least, one after the other."""
    found: dict[str, int] = {}
    for name, step in plan.steps.items():
        found[name] = 1 + max((found[need] for need in step.needs), default=-1)
    return found


def as_text(plan: Plan) -> list[tuple[str, str, str, str]]:
    """Each step with what it does, what it takes, and what it writes."""
    return [(name, step.task.step.word, ", ".join(taken(step)), ", ".join(step.task.outputs.values()))
            for name, step in plan.steps.items()]  # fmt: skip


def taken(step: PlannedStep) -> list[str]:
    """The steps and the raw files that a step takes."""
    return [*step.needs, *step.raw]


def as_mermaid(plan: Plan) -> str:
    """The flow as a Mermaid flowchart."""
    numbers = {name: f"s{at}" for at, name in enumerate(plan.steps)}
    files = {path: f"f{at}" for at, path in enumerate(plan.raw)}
    lines = ["flowchart LR"]
    lines += [f'    {number}[("{quoted(path)}")]' for path, number in files.items()]
    for name, step in plan.steps.items():
        out = step.task.outputs.get(TABLE, "")
        label = f"{quoted(name)}<br/>{step.task.step.word}" + (f"<br/>{quoted(out)}" if out else "")
        lines.append(f'    {numbers[name]}["{label}"]')
        lines += [f"    {numbers[need]} --> {numbers[name]}" for need in step.needs]
        lines += [f"    {files[path]} --> {numbers[name]}" for path in step.raw]
    return "\n".join(lines) + "\n"


def quoted(text: str) -> str:
    """A text inside quotation marks of Mermaid."""
    return text.replace("&", "#amp;").replace('"', "#quot;").replace("<", "#lt;").replace(">", "#gt;")


def as_svg(plan: Plan) -> str:
    """The flow as a drawing: raw files to the left, each step to the right of those it needs."""
    level = levels(plan)
    columns: dict[int, list[str]] = {0: list(plan.raw)}
    for name in plan.steps:
        columns.setdefault(level[name] + 1, []).append(name)
    place = {}
    for column, names in columns.items():
        for row, name in enumerate(names):
            key = f"file {name}" if column == 0 else name
            place[key] = (MARGIN + column * (BOX + GAP_X), MARGIN + row * (HIGH + GAP_Y))
    wide = 2 * MARGIN + len(columns) * BOX + (len(columns) - 1) * GAP_X
    high = 2 * MARGIN + max(len(names) for names in columns.values()) * (HIGH + GAP_Y) - GAP_Y
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide} {high}" width="{wide}" height="{high}" '
        'role="img" font-family="DejaVu Sans, sans-serif" font-size="12">',
        f"<title>The flow of {escape(plan.document.path.name)}</title>",
        f'<rect width="{wide}" height="{high}" fill="#ffffff"/>',
    ]
    for name, step in plan.steps.items():
        sources = [*step.needs, *(f"file {path}" for path in step.raw)]
        parts += [line(place[source], place[name]) for source in sources]
    parts += [box(place[f"file {path}"], [path], "#eef3ea", "#5d7a4c") for path in plan.raw]
    for name, step in plan.steps.items():
        told = [name, step.task.step.word + (f"  {step.task.outputs[TABLE]}" if TABLE in step.task.outputs else "")]
        parts.append(box(place[name], told, "#e8eef6", "#3d5a80"))
    return "\n".join([*parts, "</svg>"]) + "\n"


def line(start: tuple[int, int], end: tuple[int, int]) -> str:
    """A curve from the right side of one box to the left of another."""
    x1, y1, x2, y2 = start[0] + BOX, start[1] + HIGH // 2, end[0], end[1] + HIGH // 2
    middle = (x1 + x2) // 2
    path = f"M{x1} {y1} C{middle} {y1} {middle} {y2} {x2} {y2}"
    return f'<path d="{path}" fill="none" stroke="#9aa5b1" stroke-width="1.5"/>'


def box(place: tuple[int, int], lines: list[str], fill: str, edge: str) -> str:
    """A box with a line or two of text."""
    x, y = place
    made = [f'<rect x="{x}" y="{y}" width="{BOX}" height="{HIGH}" rx="6" fill="{fill}" stroke="{edge}"/>']
    for at, text in enumerate(lines):
        low = y + HIGH // 2 + 4 if len(lines) == 1 else y + 21 + at * 18
        shown = text if len(text) <= SIGNS_IN_A_BOX else "…" + text[-SIGNS_IN_A_BOX + 1 :]
        weight = ' font-weight="bold"' if at == 0 else ""
        made.append(f'<text x="{x + 10}" y="{low}" fill="#1c2733"{weight}>{escape(shown)}</text>')
    return "".join(made)
