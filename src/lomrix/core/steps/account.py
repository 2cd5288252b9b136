"""The account: what a step did to rows and cells, in numbers that balance."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from lomrix.core.errors import Proposal, UnbalancedAccountError
from lomrix.core.table.notes import Note

if TYPE_CHECKING:
    from lomrix.core.table.table import Table

Parts = tuple[tuple[str, int], ...]


@dataclass(frozen=True)
class Balance:
    """One total and the parts it is made of; they must add up.

    Raises
    ------
    UnbalancedAccountError
        Where the parts do not add up to the total.
    """

    what: str
    total: int
    parts: Parts
    quiet: bool = False

    def __post_init__(self) -> None:
        added = sum(number for _, number in self.parts)
        if added != self.total or any(number < 0 for _, number in self.parts):
            raise UnbalancedAccountError(
                f"The account does not balance: {self.what}: {self.total} is not "
                + " + ".join(f"{number} {word}" for word, number in self.parts)
                + ".",
                todo="This is a bug in Lomrix and nothing was written; please report it with this message.",
            )

    def to_json(self) -> dict[str, object]:
        """The balance as plain values."""
        return {"what": self.what, "total": self.total, "parts": dict(self.parts)}


@dataclass(frozen=True)
class Listing:
    """A small table inside an account, such as which columns formed which measure."""

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[object, ...], ...]
    # A table of many narrow columns, which may stand in several blocks where there is little room.
    splits: bool = False

    def to_json(self) -> dict[str, object]:
        """The listing as plain values, one mapping per row."""
        return {
            "title": self.title,
            "rows": [dict(zip(self.columns, map(plain, row), strict=True)) for row in self.rows],
        }


@dataclass(frozen=True)
class Account:
    """What a step did."""

    step: str
    summary: str
    balances: tuple[Balance, ...] = ()
    facts: Mapping[str, Any] = field(default_factory=dict)
    listings: tuple[Listing, ...] = ()
    notes: tuple[Note, ...] = ()
    advice: tuple[str | Proposal, ...] = ()
    parts: tuple[Account, ...] = ()
    left_out: int = 0

    def to_json(self) -> dict[str, object]:
        """The account as plain values."""
        return {
            "step": self.step,
            "summary": self.summary,
            "balances": [balance.to_json() for balance in self.balances],
            "left_out": self.left_out,
            "facts": {name: plain(value) for name, value in self.facts.items()},
            "listings": [listing.to_json() for listing in self.listings],
            "notes": [note.to_json() for note in self.notes],
            "advice": [plain(one) for one in self.advice],
        }


def kept_cells(before: Table, after: Table) -> Balance:
    """The present cells of columns that a step only carries: as many as before, in columns of the same name."""
    names = [name for name in after.names if name in before.columns]
    held = sum(len(before) - before[name].missing_count for name in names)
    holds = sum(len(after) - after[name].missing_count for name in names)
    return Balance("values in the columns kept", held, (("in the result", holds),), quiet=True)


def distinct_heads(heads: tuple[str, ...]) -> tuple[str, ...]:
    """Heads that differ from each other, so that a listing can name them."""
    seen: dict[str, int] = {}
    made = []
    for head in heads:
        seen[head] = seen.get(head, 0) + 1
        made.append(head if seen[head] == 1 else f"{head} {seen[head]}")
    return tuple(made)


def plain(value: object) -> Any:
    """A value that JSON knows."""
    if isinstance(value, Mapping):
        return {str(name): plain(part) for name, part in value.items()}
    if isinstance(value, list | tuple):
        return [plain(part) for part in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value if isinstance(value, str | int | float | bool) or value is None else str(value)
