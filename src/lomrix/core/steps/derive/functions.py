"""The functions of the language as they are shown: made from their own docstrings."""

from __future__ import annotations

from lomrix.core.language.functions import KINDS
from lomrix.core.language.parse import functions
from lomrix.core.steps.account import Listing

HEADS = ("function", "what it gives", "example")


def listings() -> list[Listing]:
    """One listing for each kind of function."""
    kinds: dict[str, list[tuple[str, str, str]]] = {kind: [] for kind in KINDS}
    for one in functions().values():
        kinds[one.group].append((one.usage, one.gives, one.examples[0]))
    return [Listing(kind, HEADS, tuple(lines)) for kind, lines in kinds.items()]
