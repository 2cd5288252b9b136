"""Roles: which columns of a long table are spread, which are constants, and which are left out."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.cases import FEW, Change
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import Occasion, told
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import some_of

Rows = npt.NDArray[np.int64]
SPREAD, CONSTANT, LEFT_OUT, LABELS = "spread", "constant", "left out", "labels"
MOST_EXAMPLES = 4


@dataclass
class Roles:
    """What becomes of each column beside case and occasion.

    Parameters
    ----------
    step
        What was asked for.
    table
        The long table.
    grid
        Its cases and occasions.
    memory
        What is remembered of the wide layout: its measures are spread though they may not change.
    """

    step: ToWide
    table: Table
    grid: Grid
    memory: OtherLayout | None

    @cached_property
    def others(self) -> list[str]:
        """The columns beside case and occasion."""
        taken = (*self.grid.case, *self.grid.names)
        return [name for name in self.table.names if name not in taken]

    @cached_property
    def changes(self) -> dict[str, Change]:
        """How each of them changes within cases."""
        return {name: self.grid.cases.change(name) for name in self.others}

    @cached_property
    def of(self) -> dict[str, str]:
        """The role of each column.

        Raises
        ------
        UsageError
            Where what was asked for contradicts itself.
        DataError
            Where the data contradict it, or nothing is left to spread.
        """
        stated = {SPREAD: self._stated(self.step.spread), CONSTANT: self._stated(self.step.constant)}
        both = [name for name in stated[SPREAD] if name in stated[CONSTANT]]
        if both:
            raise UsageError(f"{both[0]} cannot be both spread and constant.", todo="Name it in one of them.")
        remembered = {place.measure for place in self.memory.places} if self.memory is not None else set()
        roles = {}
        for name in self.others:
            if name == self.step.label_from:
                roles[name] = LABELS
            elif name in stated[SPREAD] or name in stated[CONSTANT]:
                roles[name] = SPREAD if name in stated[SPREAD] else CONSTANT
            elif stated[SPREAD] and stated[CONSTANT]:
                roles[name] = LEFT_OUT
            elif stated[SPREAD]:
                roles[name] = CONSTANT
            else:
                roles[name] = self._found(name, name in remembered)
        constants = [name for name, role in roles.items() if role == CONSTANT]
        by_level = [name for name in constants if self.table.dictionary.of(name).level == "case"]
        self._require_constant(constants, [*stated[CONSTANT], *by_level])
        if SPREAD not in roles.values() and len(self.table):
            raise DataError(
                "No column changes within a case, so there is nothing to spread.",
                where=f"beside {', '.join((*self.grid.case, *self.grid.names))} there are "
                f"{some_of(self.others) or 'no columns'}",
                todo="Name the measures with ‹spread›, or check ‹case›.",
            )
        return roles

    def _found(self, name: str, remembered: bool) -> str:
        """The role that dictionary and data give a column of which nothing was said."""
        level = self.table.dictionary.of(name).level
        if remembered or level == "occasion":
            return SPREAD
        if not self.changes[name].changes:
            return CONSTANT
        # Missing cells beside one value do not speak against what the dictionary says.
        return CONSTANT if level == "case" and not len(self.contradicting(name)) else SPREAD

    @property
    def only_missing(self) -> list[str]:
        """Columns that are spread because they are missing in some rows of a case, and not because they change."""
        if self.step.spread:
            return []
        found = []
        for name in self.spread:
            change = self.changes[name]
            if change.changes and change.cases is not None and not len(change.cases):
                found.append(name)
        return found

    def _stated(self, words: str) -> list[str]:
        if not words:
            return []
        types = {name: self.table[name].type for name in self.others}
        return chosen_columns(words, types, self.table.name)

    def _require_constant(self, constants: list[str], stated: list[str]) -> None:
        """Stop where a constant changes, unless it was told what to take; a missing cell is no change."""
        for name in constants:
            change = self.changes[name]
            if not change.changes or (name in stated and self.step.if_changing != "stop"):
                continue
            cases = self.contradicting(name)
            if name not in stated and self.step.if_changing != "stop" and self.step.spread:
                continue
            if not len(cases) and name in stated:
                continue
            if not len(cases):
                raise DataError(
                    f"{name} is missing in some rows of a case and not in others, so it is not constant.",
                    todo=f"Name it in ‹spread› too, or say ‹constant={name}› to carry the value that is there.",
                )
            todo = f"Mend the cells, name {name} in ‹spread›, or say ‹if_changing=first›, last or commonest."
            self.grid.cases.rows_of_constant(name, "stop", todo)

    def contradicting(self, name: str) -> Rows:
        """Cases in which a column has different present values."""
        known = self.changes[name].cases
        return self.grid.cases.contradicting(self.table[name]) if known is None else known

    def _with(self, role: str) -> list[str]:
        return [name for name in self.others if self.of[name] == role]

    @property
    def spread(self) -> list[str]:
        """The columns that are spread over the occasions."""
        return self._with(SPREAD)

    @property
    def constants(self) -> list[str]:
        """The columns that are carried."""
        return self._with(CONSTANT)

    @property
    def left_out(self) -> list[str]:
        """The columns that are neither."""
        return self._with(LEFT_OUT)

    @property
    def slips(self) -> list[str]:
        """Columns that are spread, but change in so few cases that a slip is likely."""
        found = []
        for name in self.spread:
            cases = self.changes[name].cases
            if cases is not None and 0 < len(cases) <= FEW * len(self.grid.cases):
                found.append(name)
        return found

    def rows_of_constant(self, name: str) -> Rows:
        """For each case the row whose cell is carried."""
        if not self.changes[name].changes:
            return self.grid.cases.firsts
        return self.grid.cases.rows_of_constant(name, self.step.if_changing, "")

    @cached_property
    def labels(self) -> dict[Occasion, str]:
        """By occasion the label of its columns, where a column holds them.

        Raises
        ------
        DataError
            Where one occasion has several labels.
        """
        if not self.step.label_from:
            return {}
        column = self.table[self.step.label_from].encoded()
        texts = column.to_text() if column.type != "string" else column.strings.strings
        number = np.arange(len(column)) if column.type != "string" else column.values
        place = self.grid
        present = np.flatnonzero(~column.is_missing)
        occasion = place.cells[present] % max(place.times, 1)
        pairs = np.unique(np.stack([occasion, number[present]], axis=1), axis=0)
        found: dict[Occasion, str] = {}
        for at, text_at in pairs:
            text = texts[int(text_at)].as_py()
            if found.setdefault(place.occasions[at], text) != text:
                raise DataError(
                    f"{self.step.label_from} holds two labels for one occasion.",
                    where=f'{told(place.names, place.occasions[at])}: "{found[place.occasions[at]]}" and "{text}"',
                    todo="Labels go with the occasion; mend the file or take another column.",
                )
        return found
