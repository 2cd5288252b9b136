"""The functions of the language, listed from their docstrings."""

from __future__ import annotations

from lomrix.core.language.functions import KINDS
from lomrix.core.language.parse import load_functions
from lomrix.core.steps.account import Listing

HEADS = ("function", "result", "example")


def list_functions() -> list[Listing]:
    """Return one listing for each kind of function."""
    kinds: dict[str, list[tuple[str, str, str]]] = {kind: [] for kind in KINDS}
    for function in load_functions().values():
        kinds[function.group].append((function.usage, function.description, function.examples[0]))
    return [Listing(kind, HEADS, tuple(lines)) for kind, lines in kinds.items()]
