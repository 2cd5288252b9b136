"""The page for people: one HTML file, readable without script and network, on paper, in light and in dark."""

from __future__ import annotations

from typing import Any

from lomrix.core.rows.described import VariableSummary
from lomrix.core.steps.report.content import Content, PageVariable
from lomrix.show.numbers import format_number
from lomrix.show.vector import draw_bars, draw_course, draw_flow, draw_seen

# Pages with more variables than this show each on one line.
MANY_VARIABLES = 150


def render_page(content: Content) -> str:
    """Render the page as HTML; nothing from the data is ever markup."""
    from jinja2 import Environment, PackageLoader, StrictUndefined
    from markupsafe import Markup

    environment = Environment(
        loader=PackageLoader("lomrix.show", "templates"), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    variables = [describe_variable(variable, number) for number, variable in enumerate(content.variables, start=1)]
    for facts, variable in zip(variables, content.variables, strict=True):
        facts["picture"] = (
            Markup(draw_bars(variable.bars, f"Distribution of {variable.summary.name}")) if variable.bars else ""
        )
    text: str = environment.get_template("page.html.j2").render(
        content=content,
        variables=variables,
        many=len(variables) > MANY_VARIABLES,
        flow=Markup(draw_flow(content.flow)) if content.flow else "",
        tasks=[node for node in content.flow if node.does],
        raw=[node for node in content.flow if not node.does],
        seen=Markup(draw_seen(content.seen, content.cases)) if content.seen else "",
        drawn=[(variable, Markup(draw_course(variable, content.occasion))) for variable in content.drawn],
        count=format_count,
        number=format_value,
        percent=lambda share: "·" if share is None else f"{100 * share:.0f} %",
        few=f"fewer than {content.min_n}",
    )
    return text


def format_count(count: int | None) -> str:
    """Format a count; a dot where it is suppressed."""
    return "·" if count is None else f"{count:,}"


def format_value(value: float | None) -> str:
    """Format a number; a dash where it is missing."""
    return "—" if value is None else format_number(value)


def describe_variable(variable: PageVariable, position: int) -> dict[str, Any]:
    """Describe one variable for the template."""
    summary: VariableSummary = variable.summary
    missing = [(reason, count) for reason, count in variable.missing.items() if count is None or count]
    return {
        "at": position,
        "name": summary.name,
        "label": summary.entry.label,
        "description": summary.entry.full_description,
        "unit": summary.entry.unit,
        "type": summary.type,
        "present": variable.present,
        "missing": missing,
        "missing_share": variable.missing_share,
        "smallest": summary.minimum,
        "largest": summary.maximum,
        "mean": summary.mean,
        "sd": summary.deviation,
        "median": summary.median,
        "codes": [(bar.label, bar.cells) for bar in variable.bars] if lists_values(summary) else [],
        "labels": [(code.value, code.label) for code in summary.categories if code.label],
        "more": variable.more,
    }


def lists_values(summary: VariableSummary) -> bool:
    """Are the values of a variable listed? True for strings, booleans and labelled codes."""
    return summary.type in ("string", "boolean") or any(category.label for category in summary.categories)
