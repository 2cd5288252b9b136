"""The flow of a plan: as text, as Mermaid, and as a drawing in SVG."""

from __future__ import annotations

from lomrix.core.steps.report.content import Node
from lomrix.job.task import TABLE
from lomrix.plan.plan import Plan, PlannedStep
from lomrix.show.vector import draw_flow

# The colours of a drawing in a file of its own.
STYLE = (
    "svg{background:#fff}text{font:12px 'DejaVu Sans',sans-serif;fill:#1d2731}text.strong{font-weight:bold}"
    ".task rect{fill:#eef3f8;stroke:#24598c}.raw rect{fill:#fff;stroke:#2e6b3e;stroke-dasharray:5 3}"
    ".edge{fill:none;stroke:#6b7783;stroke-width:1.3}"
)


def list_steps(plan: Plan) -> list[tuple[str, str, str, str]]:
    """List each step with what it does, takes and writes."""
    return [(name, step.task.step.word, ", ".join(list_inputs(step)), ", ".join(step.task.outputs.values()))
            for name, step in plan.steps.items()]  # fmt: skip


def list_inputs(step: PlannedStep) -> list[str]:
    """List the steps and raw files that a step takes."""
    return [*step.needs, *step.raw]


def format_mermaid(plan: Plan) -> str:
    """Format the flow as a Mermaid flowchart."""
    numbers = {name: f"s{number}" for number, name in enumerate(plan.steps)}
    files = {path: f"f{number}" for number, path in enumerate(plan.raw_files)}
    lines = ["flowchart LR"]
    lines += [f'    {number}[("{escape_mermaid(path)}")]' for path, number in files.items()]
    for name, step in plan.steps.items():
        out = step.task.outputs.get(TABLE, "")
        label = f"{escape_mermaid(name)}<br/>{step.task.step.word}" + (f"<br/>{escape_mermaid(out)}" if out else "")
        lines.append(f'    {numbers[name]}["{label}"]')
        lines += [f"    {numbers[need]} --> {numbers[name]}" for need in step.needs]
        lines += [f"    {files[path]} --> {numbers[name]}" for path in step.raw]
    return "\n".join(lines) + "\n"


def escape_mermaid(text: str) -> str:
    """Escape a text for quotation marks in Mermaid."""
    return text.replace("&", "#amp;").replace('"', "#quot;").replace("<", "#lt;").replace(">", "#gt;")


def draw_svg(plan: Plan) -> str:
    """Draw the flow: raw files above the steps that take them, each step below those it needs."""
    nodes = [Node(f"file {path}", path, "", None, "") for path in plan.raw_files if not is_dictionary(plan, path)]
    shown = {node.id for node in nodes}
    for name, step in plan.steps.items():
        needs = [*step.needs, *(f"file {path}" for path in step.raw if f"file {path}" in shown)]
        out = step.task.outputs.get(TABLE, "")
        nodes.append(Node(name, name, step.task.step.word, None, out, tuple(needs)))
    drawing = draw_flow(nodes).replace("<svg ", '<svg xmlns="http://www.w3.org/2000/svg" ', 1)
    return drawing.replace("</title>", f"</title><style>{STYLE}</style>", 1) + "\n"


def is_dictionary(plan: Plan, path: str) -> bool:
    """Is a file only a dictionary? Nearly every step would have a line to it."""
    inputs = (
        reference
        for step in plan.steps.values()
        for references in step.task.inputs.values()
        for reference in references
    )
    return path not in set(inputs)
