"""The page for people: one file of HTML, readable without script and network, on paper, in light and in dark."""

from __future__ import annotations

from typing import Any

from lomrix.core.rows.described import DescribedVariable
from lomrix.core.steps.report.content import Content, TellingVariable
from lomrix.show.numbers import number_text
from lomrix.show.vector import bars, courses, flow, steps_of_seen

# Pages with more variables than this show each in one line.
MANY = 150


def page_text(content: Content) -> str:
    """The page as HTML; nothing from the data is ever markup."""
    from jinja2 import Environment, PackageLoader, StrictUndefined
    from markupsafe import Markup

    environment = Environment(
        loader=PackageLoader("lomrix.show", "templates"), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    variables = [variable_facts(one, at) for at, one in enumerate(content.variables, start=1)]
    for facts, one in zip(variables, content.variables, strict=True):
        facts["picture"] = Markup(bars(one.bars, f"Distribution of {one.described.name}")) if one.bars else ""
    text: str = environment.get_template("page.html.j2").render(
        content=content,
        variables=variables,
        many=len(variables) > MANY,
        flow=Markup(flow(content.flow)) if content.flow else "",
        tasks=[node for node in content.flow if node.does],
        raw=[node for node in content.flow if not node.does],
        seen=Markup(steps_of_seen(content.seen, content.cases)) if content.seen else "",
        drawn=[(one, Markup(courses(one, content.occasion))) for one in content.drawn],
        count=count_text,
        number=number,
        percent=lambda share: "·" if share is None else f"{100 * share:.0f} %",
        few=f"fewer than {content.min_n}",
    )
    return text


def count_text(count: int | None) -> str:
    """A count, thousands apart; a dot where it is suppressed."""
    return "·" if count is None else f"{count:,}"


def number(value: float | None) -> str:
    """A number as a person reads it."""
    return "—" if value is None else number_text(value)


def variable_facts(one: TellingVariable, at: int) -> dict[str, Any]:
    """What is told of one variable."""
    found: DescribedVariable = one.described
    missing = [(reason, count) for reason, count in one.missing.items() if count is None or count]
    return {
        "at": at,
        "name": found.name,
        "label": found.entry.label,
        "description": found.entry.description,
        "unit": found.entry.unit,
        "type": found.type,
        "present": one.present,
        "missing": missing,
        "missing_share": one.missing_share,
        "smallest": found.smallest,
        "largest": found.largest,
        "mean": found.mean,
        "sd": found.deviation,
        "median": found.median,
        "codes": [(bar.label, bar.cells) for bar in one.bars] if shows_values(found) else [],
        "labels": [(code.value, code.label) for code in found.categories if code.label],
        "more": one.more,
    }


def shows_values(found: DescribedVariable) -> bool:
    """True where its values are told one by one: texts, booleans, and codes with labels."""
    return found.type in ("string", "boolean") or any(one.label for one in found.categories)
