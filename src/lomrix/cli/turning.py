"""Turn a source to long, and draw its measures where that was asked for."""

from __future__ import annotations

from lomrix.cli.options import Common
from lomrix.cli.session import Session
from lomrix.core.steps.to_long import ToLong


def names_of(text: str) -> tuple[str, ...]:
    """Column names with commas between."""
    return tuple(name.strip() for name in text.split(",") if name.strip())


def turn_to_long(common: Common, source: str, step: ToLong, figure: str) -> None:
    """Turn, tell, and draw."""
    Session(common, [source]).run(step)
