"""Remove names, replace the id, shift dates, coarsen ages, and say what may still identify."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.parse import names_used, parsed
from lomrix.core.rows.keys import grouped, ordered_ranks
from lomrix.core.steps.account import Account, Balance, Listing, kept_cells
from lomrix.core.steps.deidentify.identifying import SMALL_GROUP, identifying, removed_texts_elsewhere
from lomrix.core.steps.deidentify.new_ids import SHIFT_DAYS, new_ids, shifts
from lomrix.core.steps.deidentify.settings import Deidentify
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, counted, plural
from lomrix.core.table.pool import Pool
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable


def unnamed(step: Deidentify, tables: Inputs, wanted: Collection[str]) -> Result:
    """Unname the table; the linkage that leads back is an extra."""
    secret = tables.one("seed")["secret"].first_text() or ""
    return Unnaming(step, secret).result(tables.one())


@dataclass(frozen=True)
class Unnaming:
    """A table on its way to having no names.

    Parameters
    ----------
    step
        What was asked for.
    secret
        What the new ids and the shifts come from.
    """

    step: Deidentify
    secret: str

    def result(self, table: Table) -> Result:
        """The unnamed table, its account, and the linkage."""
        step = self.step
        removed = chosen_columns(step.remove, table.types(), table.name) if step.remove else []
        if step.id in removed:
            raise UsageError("The id is replaced, so it cannot be removed too.", todo="Leave it out of ‹remove›.")
        moved = chosen_columns(step.shift, table.types(), table.name) if step.shift else []
        for name in removed:
            if name in moved or name in dict(step.bands):
                raise UsageError(f"{name} is removed, so it cannot be changed too.", todo="Name it once.")
        groups = grouped(table, (step.id,))
        old = [text.removesuffix(".0") for text in groups.values[step.id].to_text().to_pylist()]
        new_ids = self._new_ids(old)
        columns = {name: column for name, column in table.columns.items() if name not in removed}
        columns[step.id] = new_ids.take_or(groups.codes, "blank")
        days = shifts(old, self.secret)
        for name in moved:
            columns[name] = shifted_dates(columns[name], groups.codes, days, name)
        for name, width in step.bands:
            columns[name] = age_bands(table[name], width, step.on_day, name)
        made = self._described(table.with_columns(columns), moved)
        # The order of the rows could give people away as well, so it becomes that of the new ids.
        by_new_id = np.argsort(ordered_ranks(new_ids)[0], kind="stable")
        place = np.empty(groups.count, np.int64)
        place[by_new_id] = np.arange(groups.count)
        order = np.argsort(np.where(groups.codes < 0, groups.count, np.append(place, 0)[groups.codes]), kind="stable")
        made = made.take(order)
        linkage = self._linkage(table.take(order), groups.codes[order], new_ids, removed, days if moved else None)
        return Result(made, self._account(table, made, removed, moved, groups.count), {"linkage": linkage})

    def _described(self, made: Table, moved: Sequence[str]) -> Table:
        """The table with what its dictionary may still say: nothing of the values of a column that is gone or new."""
        dictionary = made.dictionary
        for name, _ in self.step.bands:
            label = f"{dictionary.of(name).label or name}, as age in bands of years on {self.step.on_day}"
            dictionary = dictionary.with_variable(name, Variable(label=label, unit="years"))
        for name in (self.step.id, *moved):
            entry = dictionary.of(name)
            plain = Variable(label=entry.label, description=entry.description, unit=entry.unit, level=entry.level)
            dictionary = dictionary.with_variable(name, plain)
        rules = {
            name: rule for name, rule in dictionary.rules.items()
            if set(names_used(parsed(rule))) <= set(made.names) - {self.step.id}
        }  # fmt: skip
        dictionary = replace(dictionary.for_columns(made.names), rules=rules, other_layout=None)
        return replace(made, dictionary=dictionary)

    def _new_ids(self, old: Sequence[str]) -> Column:
        new = new_ids(old, self.secret)
        if len(set(new)) < len(old):
            raise DataError("Two ids got the same new id.", todo="Use another seed file.")
        return Column.of_strings(None, Pool.of(new))

    def _linkage(
        self, table: Table, codes: npt.NDArray[np.int64], new_ids: Column, removed: list[str], shifts: object
    ) -> Table:
        """One row for each row of the table with an id: new id, old id, what was removed, days of the shift."""
        rows = np.flatnonzero(codes >= 0)
        columns = {f"new_{self.step.id}": new_ids.take(codes[rows]), self.step.id: table[self.step.id].take(rows)}
        columns |= {name: table[name].take(rows) for name in removed}
        if isinstance(shifts, np.ndarray):
            columns["shifted_days"] = Column.of("integer", shifts[codes[rows]])
        _, firsts = np.unique(codes[rows], return_index=True)
        distinct = Table(columns, table.dictionary.for_columns(columns), name="linkage")
        return distinct.take(np.sort(firsts)) if not removed else distinct

    # ----------------------------------------------------------------- account

    def _account(self, table: Table, made: Table, removed: list[str], shifted: list[str], cases: int) -> Account:
        new, gone = len(made) - made[self.step.id].missing_count, table[self.step.id].missing_count
        notes = (
            [Note(f"removed: {', '.join(removed)}.", kind="removed", count=len(removed), done=True)] if removed else []
        )
        notes.append(Note("rows stand in the order of the new ids.", kind="order", done=True))
        if gone:
            notes.append(
                Note(
                    f"{counted(gone, 'row', 'rows')} without an id: nothing leads back to them.",
                    self.step.id,
                    (),
                    "no-id",
                    gone,
                )
            )
        if shifted:
            notes.append(
                Note(
                    f"moved by up to {SHIFT_DAYS} days, each case by its own: {', '.join(shifted)}.",
                    kind="shifted",
                    done=True,
                )
            )
        for name, width in self.step.bands:
            text = f"ages in bands of {counted(width, 'year', 'years')} on {self.step.on_day} in place of days: {name}."
            notes.append(Note(text, kind="coarsened", done=True))
        notes += [
            note
            for name, column in made.columns.items()
            if name != self.step.id and name not in shifted
            for note in identifying(name, column)
        ]
        made_anew = [self.step.id, *(name for name, _ in self.step.bands)]
        notes += removed_texts_elsewhere(table, [*removed, self.step.id], made, made_anew)
        listings: tuple[Listing, ...] = ()
        if self.step.quasi:
            listings = (self._small_groups(made),)
        return Account(
            "deidentify",
            f"{counted(cases, 'id', 'ids')} of {self.step.id} became {plural(cases, 'a new one', 'new ones')}, "
            "the same in every file of this secret.",
            (
                Balance("rows", len(table), (("with a new id", new), ("without an id", gone))),
                Balance("columns", len(table.names), (("kept", len(made.names)), ("removed", len(removed)))),
                kept_cells(
                    table.only([name for name in made.names if name not in shifted]),
                    made.only([name for name in made.names if name not in shifted]),
                ),
            ),
            {
                "cases": cases, "removed": removed, "shifted": shifted,
                "coarsened": [name for name, _ in self.step.bands],
            },
            listings,
            tuple(notes),
        )  # fmt: skip

    def _small_groups(self, table: Table) -> Listing:
        names = chosen_columns(self.step.quasi, table.types(), table.name)
        groups = grouped(table, names)
        sizes = np.bincount(groups.codes[groups.codes >= 0], minlength=groups.count)
        order = np.argsort(sizes, kind="stable")[:10]
        small = int(sizes[sizes < SMALL_GROUP].sum())
        rows = []
        for at in order.tolist():
            cells = [str(groups.values[name].to_text()[at].as_py()) for name in names]
            rows.append((*cells, int(sizes[at])))
        title = f"smallest groups; {counted(small, 'row stands', 'rows stand')} in groups of fewer than {SMALL_GROUP}"
        return Listing(title, (*names, "rows"), tuple(rows))


def shifted_dates(column: Column, codes: npt.NDArray[np.int64], shifts: npt.NDArray[np.int64], name: str) -> Column:
    """Dates moved by their case's days; distances within a case stay as they are.

    Raises
    ------
    UsageError
        Where the column holds no dates.
    """
    if column.type not in ("date", "datetime"):
        raise UsageError(f"{name} is {column.type}, so it cannot be moved in time.", todo="Name columns of dates.")
    days = np.append(shifts, 0)[codes].astype("timedelta64[D]")
    moved = Column.of(column.type, column.values + days, column.why, column.reasons)
    # A date without a case has nothing to hide behind, and nothing to be moved by.
    return moved.with_missing(codes < 0, "suppressed")


def age_bands(column: Column, width: int, on_day: str, name: str) -> Column:
    """Ages in bands of some years, reckoned from dates of birth: "30 to 39".

    Raises
    ------
    UsageError
        Where the column holds no dates.
    """
    if column.type != "date":
        raise UsageError(f"{name} is {column.type}, not a date of birth.", todo="Name a column of dates.")
    day = np.datetime64(on_day, "D")
    present = ~column.is_missing
    months = (day.astype("datetime64[M]") - column.values.astype("datetime64[M]")).astype(np.int64)
    of_month = (column.values - column.values.astype("datetime64[M]")).astype(np.int64)
    day_of_month = int((day - day.astype("datetime64[M]").astype("datetime64[D]")).astype(np.int64))
    months = np.where(present, months - (of_month > day_of_month), 0)
    band = np.where(present, months // 12 // width, 0)
    distinct, places = np.unique(band, return_inverse=True)
    texts = [f"{low * width} to {low * width + width - 1}" for low in distinct.tolist()]
    return Column.of_strings(places.astype(np.int32), Pool.of(texts), column.why, column.reasons)
