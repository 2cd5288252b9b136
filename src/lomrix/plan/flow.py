"""The flow of a plan: as text, in Mermaid, and as a drawing in SVG."""

from __future__ import annotations

from lomrix.core.steps.report.content import Node
from lomrix.job.task import TABLE
from lomrix.plan.plan import Plan, PlannedStep
from lomrix.show.vector import flow

# The colours of a drawing that stands alone.
ON_PAPER = (
    "svg{background:#fff}text{font:12px 'DejaVu Sans',sans-serif;fill:#1d2731}text.strong{font-weight:bold}"
    ".task rect{fill:#eef3f8;stroke:#24598c}.raw rect{fill:#fff;stroke:#2e6b3e;stroke-dasharray:5 3}"
    ".edge{fill:none;stroke:#6b7783;stroke-width:1.3}"
)


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
    """The flow as a drawing: raw files above the steps that take them, each step below those it needs."""
    nodes = [Node(f"file {path}", path, "", None, "") for path in plan.raw if not is_dictionary(plan, path)]
    shown = {node.id for node in nodes}
    for name, step in plan.steps.items():
        needs = [*step.needs, *(f"file {path}" for path in step.raw if f"file {path}" in shown)]
        out = step.task.outputs.get(TABLE, "")
        nodes.append(Node(name, name, step.task.step.word, None, out, tuple(needs)))
    drawing = flow(nodes).replace("<svg ", '<svg xmlns="http://www.w3.org/2000/svg" ', 1)
    return drawing.replace("</title>", f"</title><style>{ON_PAPER}</style>", 1) + "\n"


def is_dictionary(plan: Plan, path: str) -> bool:
    """True for a file that only tells what the data mean: nearly every step would have a line to it."""
    takes = (reference for step in plan.steps.values() for many in step.task.inputs.values() for reference in many)
    return path not in set(takes)
