"""Rows put side by side by their keys and the nearest date or number, such as blood draws near visits."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.nearest import nearest_once, nearest_rows
from lomrix.core.arrays.types import Array
from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.account import Balance
from lomrix.core.steps.merge.overlap import Overlap
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.settings import Near, Relationship
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.table import Table, require_free
from lomrix.core.table.variable import Variable

UNITS = {"d": "days", "h": "hours", "min": "minutes", "": ""}
MICROSECONDS = {"d": 86_400_000_000, "h": 3_600_000_000, "min": 60_000_000}


@dataclass
class NearestPairing(Pairing):
    """Rows put side by side by their keys and the nearest time."""

    near: Near

    def __post_init__(self) -> None:
        self.keys = replace(self.keys, notes=(*self.keys.notes, *self.told()))

    @cached_property
    def times(self) -> tuple[Array, Array, float]:
        """Times of both sides as numbers in one unit, and the window in that unit."""
        one, two = self.base[self.near.base], self.added[self.near.added]
        type_ = common_type((one, two))
        if type_ not in ("integer", "number", "date", "datetime"):
            raise DataError(
                f"{self.near.base} is {one.type}, {self.near.added} is {two.type}: nearness needs dates or numbers.",
                todo="Mend the cells that are none, or say their ‹type›.",
            )
        is_time = type_ in ("date", "datetime")
        if is_time != bool(self.near.unit):
            raise UsageError(
                "The window has no unit." if is_time else "A window between numbers has no unit.",
                todo="Say ‹within=30d› between dates, and ‹within=2.5› between numbers.",
            )
        if not is_time:
            return self._plain(one), self._plain(two), self.near.within
        arrays = [column.widened("datetime").values.astype(np.int64).astype(np.float64) for column in (one, two)]
        return arrays[0], arrays[1], self.near.within * MICROSECONDS[self.near.unit]

    @staticmethod
    def _plain(column: Column) -> Array:
        return np.nan_to_num(column.values.astype(np.float64))

    @cached_property
    def partners(self) -> npt.NDArray[np.int64]:
        """The added row of each base row, -1 where there is none near."""
        mine, theirs, within = self.times
        base = np.where(self.base[self.near.base].is_missing, -1, self.keys.base)
        added = np.where(self.added[self.near.added].is_missing, -1, self.keys.added)
        choose = nearest_once if self.near.once else nearest_rows
        return choose(base, mine, added, theirs, within, self.near.side, self.near.ties)

    @cached_property
    def lost(self) -> tuple[int, int]:
        """Base rows whose nearest partner went to a nearer row: those left without one, and those with another."""
        if not self.near.once:
            return 0, 0
        mine, theirs, within = self.times
        base = np.where(self.base[self.near.base].is_missing, -1, self.keys.base)
        added = np.where(self.added[self.near.added].is_missing, -1, self.keys.added)
        free = nearest_rows(base, mine, added, theirs, within, self.near.side, self.near.ties)
        without = (free >= 0) & (self.partners < 0)
        farther = np.abs(mine - np.append(theirs, 0)[self.partners]) > np.abs(mine - np.append(theirs, 0)[free])
        other = (self.partners >= 0) & farther
        return int(np.count_nonzero(without)), int(np.count_nonzero(other))

    @cached_property
    def relationship(self) -> Relationship:
        """Whether an added row serves several base rows."""
        used = np.bincount(self.partners[self.partners >= 0], minlength=1)
        return "many-to-one" if used.max() > 1 else "one-to-one"

    @cached_property
    def base_matched(self) -> npt.NDArray[np.bool_]:
        """For each base row whether it has a partner near."""
        return np.asarray(self.partners >= 0)

    @cached_property
    def added_matched(self) -> npt.NDArray[np.bool_]:
        """For each added row whether it is a partner."""
        matched = np.zeros(len(self.added), np.bool_)
        matched[self.partners[self.partners >= 0]] = True
        return matched

    @cached_property
    def rows(self) -> tuple[Array, Array]:
        """Row of the base and row of the added table for each row of the result."""
        base_rows, added_rows = np.arange(len(self.base)), self.partners
        if self.step.rows == "matched":
            return base_rows[self.base_matched], added_rows[self.base_matched]
        if self.step.rows == "base":
            return base_rows, added_rows
        rest = np.flatnonzero(~self.added_matched)
        return np.concatenate([base_rows, np.full(len(rest), -1)]), np.concatenate([added_rows, rest])

    @property
    def expected_pairs(self) -> int:
        """How many rows of the result stand in both tables: base rows with a partner near."""
        return int(np.count_nonzero(self.base_matched))

    def _distinct_keys(self) -> tuple[Balance, ...]:
        """What keys alone would match says nothing here."""
        return ()

    def hold_to_expectation(self) -> None:
        """Stop where an added row serves several base rows, and it was expected to serve one."""
        if self.step.expect in ("one-to-one", "one-to-many") and self.relationship == "many-to-one":
            used = np.bincount(self.partners[self.partners >= 0])
            raise DataError(
                f"{counted(int((used > 1).sum()), 'row', 'rows')} of {self.added.name} would serve several rows.",
                todo="Say ‹once› to leave each to the nearest, or ‹expect=many-to-one›.",
            )

    def table(self, overlap: Overlap) -> Table:
        """The merged table, with the distance to the partner as a column."""
        made = super().table(overlap)
        name = f"{self.near.added}_distance"
        require_free(name, made.columns, "the distance")
        mine, theirs, _ = self.times
        both = (self.base_rows >= 0) & (self.added_rows >= 0)
        distance = np.append(theirs, 0)[self.added_rows] - np.append(mine, 0)[self.base_rows]
        distance = np.where(both, distance / MICROSECONDS.get(self.near.unit, 1), 0)
        whole = bool((distance == np.round(distance)).all())
        why = (~both).astype(np.uint8)
        column = Column.of("integer" if whole else "number", distance, why, ("unmatched",))
        label = f"{self.near.added} less {self.near.base}"
        entry = Variable(label=label, unit=UNITS[self.near.unit])
        dictionary = made.dictionary.with_variable(name, entry)
        return Table({**made.columns, name: column}, dictionary, name=made.name)

    def told(self) -> list[Note]:
        """What nearest meant, in words."""
        window = f"{self.near.within:g} {UNITS[self.near.unit]}".strip()
        where = {"either": "before or after", "before": "before", "after": "after"}[self.near.side]
        use = "once" if self.near.once else "as often as it is the nearest"
        text = (
            f"a partner is the nearest {self.near.added} within {window} {where} {self.near.base}; of two equally far "
            f"the one {self.near.ties} is taken; a row of {self.added.name} is used {use}."
        )
        notes = [Note(text, kind="near", done=True)]
        without, other = self.lost
        if without or other:
            text = "the nearest partner went to a nearer row: "
            text += f"{counted(other, 'row', 'rows')} took the next nearest, "
            text += f"{counted(without, 'row', 'rows')} stayed without one."
            notes.append(Note(text, kind="near-lost", count=without + other))
        return notes
