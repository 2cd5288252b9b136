"""Match rows by key and nearest date or number, such as blood draws to visits."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.nearest import find_nearest, find_nearest_once
from lomrix.core.arrays.types import Array
from lomrix.core.combining import Words
from lomrix.core.errors import DataError, UsageError
from lomrix.core.steps.account import Balance
from lomrix.core.steps.merge.overlap import Overlap
from lomrix.core.steps.merge.pairing import Pairing
from lomrix.core.steps.merge.settings import Near
from lomrix.core.table.column import Column, common_type
from lomrix.core.table.notes import Note
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.table.variable import Variable

UNITS = {"d": "days", "h": "hours", "min": "minutes", "": ""}
MICROSECONDS = {"d": 86_400_000_000, "h": 3_600_000_000, "min": 60_000_000}


@dataclass
class NearestPairing(Pairing):
    """Rows matched by key and nearest time."""

    near: Near

    def __post_init__(self) -> None:
        self.keys = replace(self.keys, notes=(*self.keys.notes, *self.describe_matching()))

    @cached_property
    def times(self) -> tuple[Array, Array, float]:
        """Times of both sides as numbers in one unit, and the window in that unit."""
        base_column, added_column = self.base[self.near.base], self.added[self.near.added]
        columns = (base_column, added_column)
        # A part may have no value where the whole has some.
        type_ = common_type([column for column in columns if not column.is_without_values] or [
            column for column in columns if column.type != "string"
        ] or columns)  # fmt: skip
        if type_ not in ("integer", "number", "date", "datetime"):
            raise DataError(
                f"{self.near.base} is {base_column.type}, {self.near.added} is {added_column.type}: "
                "nearness needs dates or numbers.",
                todo="Correct the cells that are not, or state their ‹type›.",
                columns=[self.near.base, self.near.added],
            )
        is_time = type_ in ("date", "datetime")
        if is_time != bool(self.near.unit):
            raise UsageError(
                "The window has no unit." if is_time else "A window between numbers has no unit.",
                todo="Use ‹within=30d› between dates, and ‹within=2.5› between numbers.",
            )
        if not is_time:
            return self._to_plain(base_column), self._to_plain(added_column), self.near.within
        arrays = [
            column.widen("datetime").values.astype(np.int64).astype(np.float64)
            for column in (base_column, added_column)
        ]
        return arrays[0], arrays[1], self.near.within * MICROSECONDS[self.near.unit]

    @staticmethod
    def _to_plain(column: Column) -> Array:
        return np.nan_to_num(column.values.astype(np.float64))

    @cached_property
    def partners(self) -> npt.NDArray[np.int64]:
        """The added row of each base row, -1 if none is near."""
        base_times, added_times, within = self.times
        base = np.where(self.base[self.near.base].is_missing, -1, self.keys.base)
        added = np.where(self.added[self.near.added].is_missing, -1, self.keys.added)
        choose = find_nearest_once if self.near.once else find_nearest
        return choose(base, base_times, added, added_times, within, self.near.side, self.near.ties)

    @cached_property
    def lost(self) -> tuple[int, int]:
        """Base rows whose nearest partner went to a nearer row: those without a partner, and those with another."""
        if not self.near.once:
            return 0, 0
        base_times, added_times, within = self.times
        base = np.where(self.base[self.near.base].is_missing, -1, self.keys.base)
        added = np.where(self.added[self.near.added].is_missing, -1, self.keys.added)
        nearest = find_nearest(base, base_times, added, added_times, within, self.near.side, self.near.ties)
        lost_partner = (nearest >= 0) & (self.partners < 0)
        is_farther = np.abs(base_times - np.append(added_times, 0)[self.partners]) > np.abs(
            base_times - np.append(added_times, 0)[nearest]
        )
        took_other = (self.partners >= 0) & is_farther
        return int(np.count_nonzero(lost_partner)), int(np.count_nonzero(took_other))

    @property
    def several(self) -> tuple[int, int]:
        """No base row has several partners; the number of added rows that are the partner of several."""
        used = np.bincount(self.partners[self.partners >= 0], minlength=1)
        return 0, int(np.count_nonzero(used > 1))

    @cached_property
    def base_matched(self) -> npt.NDArray[np.bool_]:
        """For each base row whether it has a near partner."""
        return np.asarray(self.partners >= 0)

    @cached_property
    def added_matched(self) -> npt.NDArray[np.bool_]:
        """For each added row whether it is a partner."""
        matched = np.zeros(len(self.added), np.bool_)
        matched[self.partners[self.partners >= 0]] = True
        return matched

    def _pair_rows(self) -> tuple[Array, Array]:
        return np.arange(len(self.base)), self.partners

    @property
    def expected_pairs(self) -> int:
        """Rows of the result that are in both tables: base rows with a near partner."""
        return int(np.count_nonzero(self.base_matched))

    def balance_keys(self) -> tuple[Balance, ...]:
        """Keys alone do not decide here."""
        return ()

    def require_expected(self) -> None:
        """Stop if an added row would be the partner of several base rows against the expectation."""
        _, several = self.several
        if several and self.step.expect in ("one-to-one", "one-to-many"):
            raise DataError(
                Words("{rows:row} of {table} would match several rows.", rows=several, table=self.added.name),
                todo="Use ‹once› to match each to the nearest only, or ‹expect=many-to-one›.",
            )

    def make_table(self, overlap: Overlap) -> Table:
        """Return the merged table, with the distance to the partner as a column."""
        result = super().make_table(overlap)
        name = f"{self.near.added}_distance"
        require_new_name(name, result.columns, "the distance")
        base_times, added_times, _ = self.times
        both = (self.base_rows >= 0) & (self.added_rows >= 0)
        distance = np.append(added_times, 0)[self.added_rows] - np.append(base_times, 0)[self.base_rows]
        distance = np.where(both, distance / MICROSECONDS.get(self.near.unit, 1), 0)
        whole = bool((distance == np.round(distance)).all())
        why = (~both).astype(np.uint8)
        column = Column.of("integer" if whole else "number", distance, why, ("unmatched",))
        label = f"{self.near.added} less {self.near.base}"
        entry = Variable(label=label, unit=UNITS[self.near.unit])
        dictionary = result.dictionary.with_variable(name, entry)
        return Table({**result.columns, name: column}, dictionary, name=result.name)

    def describe_matching(self) -> list[Note]:
        """Note how nearest partners were chosen."""
        window = f"{self.near.within:g} {UNITS[self.near.unit]}".strip()
        direction = {"either": "before or after", "before": "before", "after": "after"}[self.near.side]
        use = "once" if self.near.once else "as often as it is the nearest"
        text = (
            f"a partner is the nearest {self.near.added} within {window} {direction} {self.near.base}; of two equally "
            f"far the one {self.near.ties} is taken; each row of {self.added.name} is used {use}."
        )
        notes = [Note(text, kind="near", done=True)]
        unmatched, rematched = self.lost
        text = "the nearest partner went to a nearer row: {rematched:row} took the next nearest, "
        words = Words(text + "{unmatched:row} stayed unmatched.", rematched=rematched, unmatched=unmatched)
        return [*notes, Note(words, kind="near-lost", count=unmatched + rematched)]
