"""What is known of the keys on each side of a merge, which adds up over parts of the tables."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.combining import Combinable, First, Shown, combine
from lomrix.core.errors import DataError
from lomrix.core.steps.account import Listing
from lomrix.core.steps.merge.settings import Merge, Relationship
from lomrix.core.table.notes import Note

# Repeated keys are noted as a likely error if at most this share of the keys repeats.
FEW_REPEATED = 0.05
# Up to this many keys of the other side are compared, matched or not.
MOST_COMPARED = 20_000


@dataclass(frozen=True)
class Keys(Combinable):
    """Distinct keys as texts, with the number of the first row of each."""

    rows: pa.Array
    texts: pa.Array

    def combine(self, later: Keys) -> Keys:
        """Return the keys of both parts in the order of their rows."""
        rows = pa.concat_arrays([self.rows, later.rows])
        texts = pa.concat_arrays([self.texts, later.texts])
        order = pc.sort_indices(rows)
        return Keys(rows.take(order), texts.take(order))


@dataclass(frozen=True)
class Side:
    """The keys of one table: how many there are, repeat, and match nothing."""

    table: str
    keys: int  # distinct keys
    repeating: Shown  # those with several rows
    first_unmatched: First  # with the number of their rows
    unmatched: Keys
    all_keys: Keys | None = None  # of the added table, while there are few enough to be compared

    def combine(self, later: Side) -> Side:
        """Add the keys of a later part."""
        both = None
        if self.all_keys is not None and later.all_keys is not None and self.keys + later.keys <= MOST_COMPARED:
            both = self.all_keys.combine(later.all_keys)
        return Side(
            self.table, self.keys + later.keys, self.repeating.combine(later.repeating),
            self.first_unmatched.combine(later.first_unmatched), self.unmatched.combine(later.unmatched), both,
        )  # fmt: skip

    @property
    def repeated(self) -> int:
        """Number of keys that are in several rows."""
        return self.repeating.total

    def format_repeated(self) -> str:
        """Format the first keys that repeat."""
        text = "key repeats" if self.repeated == 1 else "keys repeat"
        return f"{self.repeated:,} {text} in {self.table}: {self.repeating}"


@dataclass(frozen=True)
class Sides:
    """Both sides of a merge by key.

    `further` gives, for columns that could be further keys, how many keys would still repeat on each side;
    `base_not_once` counts parts in which a base row is not in the result exactly once.
    """

    base: Side
    added: Side
    pairs: int
    base_not_once: int = 0
    further: Mapping[str, tuple[int, int]] = field(default_factory=dict)

    def combine(self, later: Sides) -> Sides:
        """Add the keys of a later part."""
        further = combine(self.further, later.further)
        not_once = self.base_not_once + later.base_not_once
        return Sides(
            combine(self.base, later.base), combine(self.added, later.added), self.pairs + later.pairs, not_once,
            further,
        )  # fmt: skip

    @property
    def relationship(self) -> Relationship:
        """The relationship that the keys show."""
        if self.base.repeated and self.added.repeated:
            return "many-to-many"
        if self.base.repeated:
            return "many-to-one"
        return "one-to-many" if self.added.repeated else "one-to-one"

    def find_violation(self, step: Merge) -> DataError | None:
        """Return the error if the keys repeat on a side where they should not; None if all is as expected."""
        expected, actual = step.expect, self.relationship
        if actual == "many-to-many" and expected == "many-to-many" and self.pairs > step.most_rows:
            return DataError(
                f"Pairing all repeated keys would make {self.pairs:,} rows, over {step.most_rows:,}.",
                todo=f"Correct the repeated keys, or use ‹most_rows={self.pairs}› if this is intended.",
            )
        base_may = expected in ("many-to-one", "many-to-many", None)
        added_may = expected in ("one-to-many", "many-to-many", None)
        if actual == "many-to-many" and expected is None:
            base_may = added_may = False
        repeated = [self.base.format_repeated()] if not base_may and "many-to" in actual else []
        repeated += [self.added.format_repeated()] if not added_may and "to-many" in actual else []
        if not repeated:
            return None
        if expected is None:
            further_key = self._find_further_key()
            todo = (
                f"With {further_key[0]} the keys would be {further_key[1]}: add ‹key={further_key[0]}›. Or correct"
                if further_key
                else "Correct"
            )
            todo += " the repeated keys, or add ‹expect=many-to-many› to pair them all "
            todo += f"({self.pairs:,} matched rows)."
        else:
            todo = f"Correct the repeated keys, or use ‹expect={actual}› if they are right."
        expectation = "no relationship was stated" if expected is None else f"expected {expected}"
        return DataError(f"The keys are {actual}, but {expectation}.", where="; ".join(repeated), todo=todo)

    def _find_further_key(self) -> tuple[str, Relationship] | None:
        """Return a column of both tables that would make the keys unique on at least one side, and the relationship
        then.
        """
        best: tuple[str, Relationship] | None = None
        for name, (base, added) in self.further.items():
            if not base and not added:
                return name, "one-to-one"
            if not base or not added:
                best = best or (name, "one-to-many" if not base else "many-to-one")
        return best

    def list_first_unmatched(self) -> tuple[Listing, ...]:
        """List the first unmatched keys of both sides."""
        rows = tuple(
            (side.table, text, count, row)
            for side in (self.base, self.added)
            for row, (text, count) in side.first_unmatched.items
        )
        return (Listing("first unmatched keys", ("file", "key", "rows", "first row"), rows),) if rows else ()

    def note_few_repeated(self) -> tuple[Note, ...]:
        """Note repeated keys where nearly all are unique: probably an error."""
        return tuple(
            Note(f"{side.format_repeated()}.", kind="repeated-key", count=side.repeated)
            for side in (self.base, self.added)
            if 0 < side.repeated <= FEW_REPEATED * side.keys
        )
