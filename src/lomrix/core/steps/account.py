"""The account: what a step did to rows and cells, in numbers that balance."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal, Self

from lomrix.core.combining import combine, combine_lists, identify_text
from lomrix.core.errors import Proposal, UnbalancedAccountError
from lomrix.core.table.notes import Note

if TYPE_CHECKING:
    from lomrix.core.table.table import Table

Kind = Literal["kept", "left out", "added", "changed", "missing", "unused", "open", "refused"]


@dataclass(frozen=True)
class Part:
    """Some of a total: what happened to it and why; `of` names the table, column or value that it belongs to."""

    kind: Kind
    count: int
    cause: str = ""
    of: str = ""
    reason: str = ""

    @property
    def identity(self) -> tuple[str, ...]:
        """What it counts."""
        return self.kind, self.cause, self.of, self.reason

    def combine(self, later: Self) -> Self:
        """Add the count of a later part of the table."""
        return replace(self, count=self.count + later.count)

    def to_json(self) -> dict[str, object]:
        """The part as plain values."""
        return {name: value for name, value in vars(self).items() if value != ""}


@dataclass(frozen=True)
class Balance:
    """A total and the parts it is made of; raises UnbalancedAccountError if they do not add up.

    `what` is counted, of the table or column `of`; a quiet balance is checked but not shown to a person. What counts
    columns is the same in every part of a table.
    """

    what: str
    total: int
    parts: tuple[Part, ...]
    of: str = ""
    quiet: bool = False

    def __post_init__(self) -> None:
        if sum(part.count for part in self.parts) != self.total or any(part.count < 0 for part in self.parts):
            counts = " + ".join(f"{part.count} {part.kind} {part.cause}".rstrip() for part in self.parts)
            raise UnbalancedAccountError(
                f"The account does not balance: {f'{self.what} {self.of}'.rstrip()}: {self.total} is not {counts}.",
                todo="This is a bug in Lomrix and nothing was written; please report it with this message.",
            )

    def combine(self, later: Self) -> Self:
        """Add the counts of a later part of the table."""
        if self.what.startswith("columns"):
            return self
        parts = combine_lists(self.parts, later.parts, lambda part: part.identity)
        order = list(dict.fromkeys(part.identity[:-1] for part in parts))
        parts = tuple(sorted(parts, key=lambda part: (order.index(part.identity[:-1]), part.reason)))
        return replace(self, total=self.total + later.total, parts=parts)

    def to_json(self) -> dict[str, object]:
        """The balance as plain values."""
        of = {"of": self.of} if self.of else {}
        return {"what": self.what, **of, "total": self.total, "parts": [part.to_json() for part in self.parts]}


@dataclass(frozen=True)
class Listing:
    """A small table inside an account, such as which columns formed which measure."""

    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[object, ...], ...]
    # A table of many narrow columns, which may stand in several blocks where there is little room.
    splits: bool = False

    def combine(self, later: Self) -> Self:
        """Return it if it is the same in both parts of a table; other listings are made from the whole."""
        return replace(self, rows=combine(self.rows, later.rows))

    def to_json(self) -> dict[str, object]:
        """The listing as plain values, one mapping per row."""
        return {
            "title": self.title,
            "rows": [dict(zip(self.columns, map(to_plain_value, row), strict=True)) for row in self.rows],
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

    def combine(self, later: Self) -> Self:
        """Add what was done to a later part of the table."""
        return replace(
            self,
            summary=combine(self.summary, later.summary),
            balances=combine_lists(self.balances, later.balances, lambda balance: (balance.what, balance.of)),
            facts=combine(self.facts, later.facts),
            listings=combine_lists(self.listings, later.listings, lambda listing: identify_text(listing.title)),
            notes=combine_lists(self.notes, later.notes, lambda note: note.identity),
            advice=tuple(dict.fromkeys([*self.advice, *later.advice])),
            parts=combine(self.parts, later.parts),
        )

    @property
    def left_out(self) -> int:
        """Number of rows of all inputs that are not in the result."""
        rows = (balance for balance in self.balances if balance.what == "rows")
        return sum(part.count for balance in rows for part in balance.parts if part.kind == "left out")

    @property
    def is_broken(self) -> bool:
        """True if a rule is broken or a difference was found, which the exit status shows."""
        return bool(self.facts.get("broken"))

    def to_json(self) -> dict[str, object]:
        """The account as plain values."""
        return {
            "step": self.step,
            "summary": self.summary,
            "balances": [balance.to_json() for balance in self.balances],
            "left_out": self.left_out,
            "facts": {name: to_plain_value(value) for name, value in self.facts.items()},
            "listings": [listing.to_json() for listing in self.listings],
            "notes": [note.to_json() for note in self.notes],
            "advice": [to_plain_value(one) for one in self.advice],
        }


def balance_values(before: Table, after: Table) -> Balance:
    """Balance the present cells of columns that a step only carries."""
    names = [name for name in after.names if name in before.columns]
    expected = sum(len(before) - before[name].missing_count for name in names)
    found = sum(len(after) - after[name].missing_count for name in names)
    return Balance("kept values", expected, (Part("kept", found),), quiet=True)


def make_distinct_heads(heads: tuple[str, ...]) -> tuple[str, ...]:
    """Make the heads of a listing different from each other."""
    seen: dict[str, int] = {}
    result = []
    for head in heads:
        seen[head] = seen.get(head, 0) + 1
        result.append(head if seen[head] == 1 else f"{head} {seen[head]}")
    return tuple(result)


def to_plain_value(value: object) -> Any:
    """Convert a value to one that JSON has."""
    if isinstance(value, Mapping):
        return {str(name): to_plain_value(part) for name, part in value.items()}
    if isinstance(value, list | tuple):
        return [to_plain_value(part) for part in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value if isinstance(value, str | int | float | bool) or value is None else str(value)
