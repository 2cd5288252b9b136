"""Pairing: the rows of two tables side by side by their keys, the merged table, and the account of both."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property, partial
from typing import get_args

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from lomrix.core.arrays import matching
from lomrix.core.arrays.types import Array, Mask
from lomrix.core.errors import DataError
from lomrix.core.rows.candidate_keys import tells_apart
from lomrix.core.rows.keys import PairedKeys, key_texts
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.merge.likely_partners import OPTIONS, NearMiss, near_misses, visible
from lomrix.core.steps.merge.origin import UNMATCHED_HEADS
from lomrix.core.steps.merge.overlap import Overlap
from lomrix.core.steps.merge.settings import KeyPairs, Merge, Relationship, TidyWord
from lomrix.core.table.column import Column, common_type, either
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.label_conflicts import label_conflicts, require_same_labels
from lomrix.core.table.notes import Note, counted
from lomrix.core.table.reasons import UNMATCHED
from lomrix.core.table.table import Table
from lomrix.core.table.texts import table_of_texts

MOST_EXAMPLES = 3
MOST_NEAR = 12
# So many columns are tried whether they would make the keys stand once.
MOST_FURTHER = 8
# Repeated keys are told as a likely slip where at most this share of the keys repeats.
FEW_REPEATED = 0.05
# Up to so many keys of the other side are looked at, whether they have a partner or not.
MOST_LOOKED_AT = 20_000


@dataclass
class Pairing:
    """The rows of two tables put side by side by their keys."""

    step: Merge
    key: KeyPairs
    base: Table
    added: Table
    keys: PairedKeys

    @cached_property
    def counts(self) -> matching.Counts:
        """Rows per key on both sides."""
        return matching.Counts.of(self.keys.base, self.keys.added, self.keys.size)

    @cached_property
    def relationship(self) -> Relationship:
        """What the keys show: which side repeats a key."""
        many_base = bool(self.counts.base.max(initial=0) > 1)
        many_added = bool(self.counts.added.max(initial=0) > 1)
        if many_base and many_added:
            return "many-to-many"
        if many_base:
            return "many-to-one"
        return "one-to-many" if many_added else "one-to-one"

    @cached_property
    def base_matched(self) -> npt.NDArray[np.bool_]:
        """For each base row whether it has a partner."""
        return self.counts.shared(self.keys.base)

    @cached_property
    def added_matched(self) -> npt.NDArray[np.bool_]:
        """For each added row whether it has a partner."""
        return self.counts.shared_by_base(self.keys.added)

    @cached_property
    def rows(self) -> tuple[Array, Array]:
        """Row of the base and row of the added table for each row of the result; -1 where there is none."""
        base_rows, added_rows = matching.matched_rows(self.keys.base, self.keys.added, self.keys.size, self.counts)
        if self.step.rows == "matched":
            kept = added_rows >= 0
            return base_rows[kept], added_rows[kept]
        if self.step.rows == "base" or self.added_matched.all():
            return base_rows, added_rows
        rest = np.flatnonzero(~self.added_matched)
        gone = np.full(len(rest), -1, np.int64)
        return np.concatenate([base_rows, gone]), np.concatenate([added_rows, rest])

    @property
    def base_rows(self) -> Array:
        """Base row of each row of the result."""
        return self.rows[0]

    @property
    def added_rows(self) -> Array:
        """Added row of each row of the result."""
        return self.rows[1]

    @cached_property
    def base_is_whole(self) -> bool:
        """True where the result's rows are the base's rows, each once and in order."""
        return len(self.base_rows) == len(self.base) and np.array_equal(self.base_rows, np.arange(len(self.base)))

    # ------------------------------------------------------------- expectation

    def hold_to_expectation(self) -> None:
        """Stop where the keys repeat on a side where they should not.

        Raises
        ------
        DataError
            Naming the keys that repeat, with their rows.
        """
        expected = self.step.expect
        if (
            self.relationship == "many-to-many"
            and expected == "many-to-many"
            and self.counts.pairs > self.step.most_rows
        ):
            raise DataError(
                f"Pairing all repeated keys would make {self.counts.pairs:,} rows, over {self.step.most_rows:,}.",
                todo=f"Mend the repeated keys, or say ‹most_rows={self.counts.pairs}› if it is meant.",
            )
        base_may = expected in ("many-to-one", "many-to-many", None)
        added_may = expected in ("one-to-many", "many-to-many", None)
        found = self.relationship
        if found == "many-to-many" and expected is None:
            base_may = added_may = False
        repeated = []
        if not base_may and "many-to" in found:
            repeated.append(self._repeated(self.base, self.keys.base, self.counts.base, 0))
        if not added_may and "to-many" in found:
            repeated.append(self._repeated(self.added, self.keys.added, self.counts.added, 1))
        if not repeated:
            return
        if expected is None:
            more = self._further_keys()
            todo = f"With {more[0]} the keys would be {more[1]}: add ‹key={more[0]}›. Or mend" if more else "Mend"
            todo += " the repeated keys, or add ‹expect=many-to-many› to pair them all "
            todo += f"({self.counts.pairs:,} matched rows)."
        else:
            todo = f"Mend the repeated keys, or say ‹expect={found}› if they are right."
        what = "no relationship was named" if expected is None else f"expected {expected}"
        raise DataError(f"The keys are {found}, but {what}.", where="; ".join(repeated), todo=todo)

    def _further_keys(self) -> tuple[str, Relationship] | None:
        """A column of both tables that would make the keys stand once on a side at least, and what they would be."""
        names = [name for name in self.base.names if name in self.added.columns and name not in dict(self.key)]
        names = [name for name in names if self.base[name].type != "number"][:MOST_FURTHER]
        best: tuple[str, Relationship] | None = None
        for name in names:
            base_once = tells_apart(self.base, (*(base for base, _ in self.key), name))
            added_once = tells_apart(self.added, (*(added for _, added in self.key), name))
            if base_once and added_once:
                return name, "one-to-one"
            if base_once or added_once:
                best = best or (name, "one-to-many" if base_once else "many-to-one")
        return best

    def _repeated(self, table: Table, codes: Array, counts: Array, side: int) -> str:
        rows = np.flatnonzero(np.append(counts > 1, False)[codes])
        keys = int(np.count_nonzero(counts > 1))
        names = [pair[side] for pair in self.key]
        _, firsts = np.unique(codes[rows], return_index=True)
        shown = []
        for first in rows[np.sort(firsts)[:3]]:
            same = np.flatnonzero(codes == codes[first])[:4] + table.first_row
            shown.append(f"{key_texts(table, names, np.array([first]))[0]} (rows {', '.join(map(str, same))})")
        more = " …" if keys > len(shown) else ""
        what = "key repeats" if keys == 1 else "keys repeat"
        return f"{keys:,} {what} in {table.name}: {', '.join(shown)}{more}"

    # ------------------------------------------------------------------- table

    def table(self, overlap: Overlap) -> Table:
        """The merged table."""
        key_of = dict(self.key)
        makers: dict[str, Callable[[], Column]] = {}
        for name, column in self.base.columns.items():
            if name in overlap.columns:
                makers[name] = partial(overlap.columns.__getitem__, name)
            elif name in key_of:
                makers[name] = partial(self._key_column, column, self.added[key_of[name]])
            else:
                # With every base row in its place the column is shared, not copied.
                makers[name] = partial(self._of_base, column)
        for name, column in self.added.columns.items():
            if name not in key_of.values() and name not in overlap.dropped:
                makers[overlap.renamed.get(name, name)] = partial(column.take_or, self.added_rows, UNMATCHED)
        with ThreadPoolExecutor() as workers:
            columns = dict(zip(makers, workers.map(lambda make: make(), makers.values()), strict=True))
        dictionary = self._dictionary(overlap)
        return Table(columns, dictionary.for_columns(columns), name=self.base.name)

    def _of_base(self, column: Column) -> Column:
        return column if self.base_is_whole else column.take_or(self.base_rows, UNMATCHED)

    def _dictionary(self, overlap: Overlap) -> Dictionary:
        base = self.base.dictionary.for_columns(self.base.names)
        added = self.added.dictionary.for_columns(self.added.names)
        key_of = {added: base for base, added in self.key}
        names = {name: overlap.renamed.get(name, name) for name in self.added.names if name not in key_of}
        if self.step.other_labels == "stop":
            same = {name: new for name, new in {**names, **key_of}.items() if new in self.base.columns}
            require_same_labels(label_conflicts(base, added, same, self.added.name))
        # What is said of a key goes before what is said of a column of its name.
        order = [*((name, names[name]) for name in names), *key_of.items()]
        renamed = {new: added.variables[name] for name, new in order if name in added.variables}
        return base.joined(type(added)(renamed, added.codes))

    def key_column(self, name: str) -> Column | None:
        """The key of each row, by its name in the base; None where that is no key."""
        added = dict(self.key).get(name)
        return None if added is None else self._key_column(self.base[name], self.added[added])

    def _key_column(self, base: Column, added: Column) -> Column:
        """The key of each row: the base's, and the added table's where the row stands only there."""
        absent = self.base_rows < 0
        if not absent.any():
            return base if self.base_is_whole else base.take(self.base_rows)
        type_ = common_type((base, added), keeps_whole=True) or "string"
        mine = base.widened(type_).take_or(self.base_rows, UNMATCHED)
        return either(mine, added.widened(type_).take_or(self.added_rows, UNMATCHED), absent)

    # ------------------------------------------------------------- near misses

    def _alone(self, side: int) -> Array:
        """The first row of each key without a partner, on one side."""
        codes, matched = ((self.keys.base, self.base_matched), (self.keys.added, self.added_matched))[side]
        return self._firsts(side, ~matched & (codes >= 0))

    def _firsts(self, side: int, which: npt.NDArray[np.bool_]) -> Array:
        """The first row of each key among some rows of one side."""
        codes = np.where(which, (self.keys.base, self.keys.added)[side], -1)
        firsts = matching.first_rows(codes, self.keys.size)
        return np.sort(firsts[firsts >= 0])

    def _alone_texts(self, side: int) -> pa.Array:
        return self._texts(side, self._alone(side))

    def _texts(self, side: int, rows: Array) -> pa.Array:
        table = (self.base, self.added)[side]
        names = [pair[side] for pair in self.key]
        if len(names) == 1:
            return table[names[0]].take(rows).to_text()
        return pa.array(key_texts(table, names, rows), pa.large_string())

    def likely_partners(self) -> dict[str, NearMiss]:
        """For the base's keys without a partner the likely one in the added table."""
        column = self.base[self.key[0][0]], self.added[self.key[0][1]]
        if len(self.key) == 1 and "string" not in (column[0].type, column[1].type):
            return {}
        # A misspelt place is near to one that has partners already, so few keys are all looked at.
        few = np.count_nonzero(self.counts.added) <= MOST_LOOKED_AT
        others = self._texts(1, self._firsts(1, self.keys.added >= 0)) if few else self._alone_texts(1)
        return near_misses(self._alone_texts(0), others) if len(others) else {}

    def unmatched(self, near: dict[str, NearMiss]) -> Table:
        """All keys without a partner: side, key, rows, first row, and the likely partner."""
        back = {miss.partner: miss for miss in near.values()}
        rows: list[tuple[str, ...]] = []
        for side, table in enumerate((self.base, self.added)):
            codes = (self.keys.base, self.keys.added)[side]
            firsts = self._alone(side)
            times = (self.counts.base, self.counts.added)[side][codes[firsts]]
            for key, first, count in zip(
                self._alone_texts(side).to_pylist(), firsts.tolist(), times.tolist(), strict=True
            ):
                miss = near.get(key) if side == 0 else back.get(key)
                partner = "" if miss is None else miss.partner if side == 0 else miss.key
                told = ("", "", "") if miss is None else (partner, miss.differs_by, str(miss.score))
                rows.append((table.name, key, str(count), str(first + table.first_row), *told))
        return table_of_texts(UNMATCHED_HEADS, rows, "unmatched")

    # ----------------------------------------------------------------- account

    def account(self, table: Table, overlap: Overlap, near: dict[str, NearMiss]) -> Account:
        """What the merge did."""
        pairs = self.expected_pairs
        base_kept = self.step.rows != "matched"
        added_kept = self.step.rows == "all"
        balances = (
            self._side(self.base, self.keys.base, self.base_matched, base_kept),
            self._side(self.added, self.keys.added, self.added_matched, added_kept),
            Balance(
                "rows in the result",
                len(table),
                (
                    ("in both", pairs),
                    (f"only in {self.base.name}", int(np.count_nonzero(~self.base_matched)) if base_kept else 0),
                    (f"only in {self.added.name}", int(np.count_nonzero(~self.added_matched)) if added_kept else 0),
                ),
            ),
            *self._distinct_keys(),
            *self._cells(table, overlap),
        )
        key = ", ".join(base if base == added else f"{base} = {added}" for base, added in self.key)
        new = [name for name in table.names if name not in self.base.columns]
        return Account(
            "merge",
            f"{self.added.name} brought to {self.base.name} by {key}: {self.relationship}.",
            balances,
            {
                "relationship": self.relationship,
                "expected": self.step.expect,
                "pairs": pairs,
                "new_columns": new,
                "rows": len(table),
            },
            (*self._unmatched_listing(), *self._near_listing(near), *overlap.listings),
            (*self.keys.notes, *self._few_repeated(), *self._missing_key_notes(), *overlap.notes),
            self._advice(near),
            left_out=(0 if base_kept else int(np.count_nonzero(~self.base_matched)))
            + (0 if added_kept else int(np.count_nonzero(~self.added_matched))),
        )

    def _side(self, table: Table, codes: Array, matched: Mask, kept: bool) -> Balance:
        gone = codes < 0
        fate = "" if kept else ", left out"
        return Balance(
            f"rows of {table.name}",
            len(table),
            (
                ("with a partner", int(np.count_nonzero(matched))),
                (f"without a partner{fate}", int(np.count_nonzero(~matched & ~gone))),
                (f"key missing{fate}", int(np.count_nonzero(gone))),
            ),
        )

    @property
    def expected_pairs(self) -> int:
        """How many rows of the result stand in both tables, as the keys say."""
        return self.counts.pairs

    def _distinct_keys(self) -> tuple[Balance, ...]:
        in_base, in_added = self.counts.base > 0, self.counts.added > 0
        return (
            Balance(
                "distinct keys",
                int(np.count_nonzero(in_base | in_added)),
                (
                    ("in both", int(np.count_nonzero(in_base & in_added))),
                    (f"only in {self.base.name}", int(np.count_nonzero(in_base & ~in_added))),
                    (f"only in {self.added.name}", int(np.count_nonzero(in_added & ~in_base))),
                ),
            ),
        )

    def _cells(self, table: Table, overlap: Overlap) -> tuple[Balance, ...]:
        """Values of the base's own columns, where each of its rows stands in the result once."""
        if len(self.base_rows) - int(np.count_nonzero(self.base_rows < 0)) != len(self.base) or not self.base_is_once:
            return ()
        names = [name for name in self.base.names if name not in overlap.columns and name not in dict(self.key)]
        before = sum(len(self.base) - self.base[name].missing_count for name in names)
        after = sum(len(table) - table[name].missing_count for name in names)
        return (
            Balance(
                f"values in the columns of {self.base.name} alone", before, (("in the result", after),), quiet=True
            ),
        )

    @cached_property
    def base_is_once(self) -> bool:
        """True where each base row stands in the result exactly once."""
        return self.base_is_whole or bool((np.bincount(self.base_rows[self.base_rows >= 0]) == 1).all())

    def _unmatched_listing(self) -> tuple[Listing, ...]:
        sides = (
            (self.base, self.keys.base, self.base_matched, 0),
            (self.added, self.keys.added, self.added_matched, 1),
        )
        rows: list[tuple[object, ...]] = []
        for table, codes, matched, side in sides:
            names = [pair[side] for pair in self.key]
            some = self._alone(side)[:MOST_EXAMPLES]
            times = np.bincount(codes[~matched & (codes >= 0)], minlength=self.keys.size)[codes[some]]
            texts = key_texts(table, names, some)
            rows += [
                (table.name, text, int(count), int(row) + table.first_row)
                for text, count, row in zip(texts, times, some, strict=True)
            ]
        heads = ("file", "key", "rows", "first row")
        return (Listing("keys without a partner, the first", heads, tuple(rows)),) if rows else ()

    def _few_repeated(self) -> tuple[Note, ...]:
        """Keys that repeat where nearly all stand once: probably a slip, and no many-to-one by design."""
        notes = []
        sides = ((self.base, self.keys.base, self.counts.base), (self.added, self.keys.added, self.counts.added))
        for side, (table, codes, counts) in enumerate(sides):
            repeated, distinct = int(np.count_nonzero(counts > 1)), int(np.count_nonzero(counts))
            if 0 < repeated <= FEW_REPEATED * distinct:
                notes.append(
                    Note(f"{self._repeated(table, codes, counts, side)}.", kind="repeated-key", count=repeated)
                )
        return tuple(notes)

    def _missing_key_notes(self) -> tuple[Note, ...]:
        notes = []
        for table, codes, side in ((self.base, self.keys.base, 0), (self.added, self.keys.added, 1)):
            rows = np.flatnonzero(codes < 0)
            if len(rows):
                name = self.key[0][side]
                examples = tuple((int(row) + table.first_row, None) for row in rows[:MOST_EXAMPLES])
                lack = counted(len(rows), "row", "rows")
                text = f"{lack} of {table.name} without {name}; a missing key matches nothing."
                notes.append(Note(text, name, examples, "missing-key", len(rows)))
        return tuple(notes)

    def _near_listing(self, near: dict[str, NearMiss]) -> tuple[Listing, ...]:
        if not near:
            return ()
        name = self.key[0][0]
        rows = tuple(
            (visible(miss.key), visible(miss.partner), miss.differs_by, miss.option or miss.ledger_row(name))
            for miss in list(near.values())[:MOST_NEAR]
        )
        title = f"likely partners, {counted(len(near), 'key', 'keys')} in all"
        heads = (f"in {self.base.name}", f"in {self.added.name}", "differ by", "option, or ledger row, that mends it")
        return (Listing(title, heads, rows),)

    def _advice(self, near: dict[str, NearMiss]) -> tuple[str, ...]:
        if len(self.added) and not self.added_matched.any() and not near:
            return ("no key matched at all: check that ‹key› names the right columns",)
        causes = {word for miss in near.values() for word in OPTIONS.get(miss.differs_by, "").split(",") if word}
        if causes:
            words = ",".join(word for word in get_args(TidyWord) if word in causes)
            return (f"‹tidy_keys={words}› would bring keys together; ‹unmatched=FILE› writes all of them",)
        return ()
