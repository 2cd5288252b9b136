"""What a finding expects, in words."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from lomrix.core.steps.check.finding import Finding
from lomrix.core.table.notes import plural
from lomrix.core.wording import shorten_list

MOST_VALUES = 8
# By rule, with the details of the finding in braces.
EXPECTATIONS = {
    "empty-row": "every row has a value",
    "key-missing": "every row has a key",
    "key-repeated": "each key occurs once; {keys:,} {verb} not",
    "key-shape": "most keys look like {shape}",
    "case-changes": "one value for each {case}",
    "spell-ends-first": "not before {start}",
    "spell-overlap": "later than {end} of all spells before",
    "spell-start-missing": "every spell has a start",
    "spell-gap": "the day after {end} of the spell before",
    "text-in-numbers": "the other cells are numbers",
    "text-in-dates": "the other cells are {type}s",
    "not-whole": "whole numbers",
    "not-listed": "one of {values}",
    "spaces-around": "no space before or after the text",
    "far-from-others": "most lie within {minimum} to {maximum}",
    "missing-code": "{code} is far from all others and looks like a missing code",
    "mixed-decimals": "all others are whole numbers",
}


def describe_expectation(finding: Finding) -> str:
    """Return what a finding expects as text."""
    details = finding.details
    if "condition" in details:
        return describe_condition(details)
    if "advice" in details:
        return str(details["advice"])
    if finding.rule == "out-of-range":
        if "maximum" not in details:
            return f"from {details['minimum']}"
        return f"{details['minimum']} to {details['maximum']}" if "minimum" in details else f"to {details['maximum']}"
    lists = {
        "values": shorten_list(details.get("values", ()), MOST_VALUES),
        "case": ", ".join(details.get("case", ())),
        "verb": plural(details.get("keys", 0), "does", "do"),
    }
    return EXPECTATIONS[finding.rule].format(**{**details, **lists})


def describe_condition(details: Mapping[str, Any]) -> str:
    """Return a rule of the team, and why it was not checked if so."""
    if "missing_columns" in details:
        return f"{details['condition']} (not checked: no column {', '.join(details['missing_columns'])})"
    problem = f" (cannot be checked: {details['error']})" if "error" in details else ""
    return f"{details['condition']}{problem}"
