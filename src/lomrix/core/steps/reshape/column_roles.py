"""Roles: which columns of a long table are spread, which are constants, and which are left out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from lomrix.core.errors import DataError, UsageError
from lomrix.core.rows.cases import FEW, Variation, varying_constant_error
from lomrix.core.rows.grid import Grid
from lomrix.core.rows.occasions import Occasion, format_occasion_pair
from lomrix.core.steps.reshape.to_wide import ToWide
from lomrix.core.steps.reshape.wide_survey import WideSurvey
from lomrix.core.table.other_layout import OtherLayout
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

Rows = npt.NDArray[np.int64]
SPREAD, CONSTANT, LEFT_OUT, LABELS = "spread", "constant", "left out", "labels"


@dataclass
class Roles:
    """The role of each column beside case and occasion."""

    step: ToWide  # what was asked for
    table: Table  # the long table, or a part of it
    grid: Grid  # its cases and occasions
    # what is remembered of the wide layout: its measures are spread though they may not change
    memory: OtherLayout | None
    survey: WideSurvey  # what is known of the whole

    @property
    def variations(self) -> Mapping[str, Variation]:
        """How each column beside case and occasion varies within cases."""
        return self.survey.variations

    @property
    def others(self) -> list[str]:
        """The columns beside case and occasion."""
        return list(self.survey.variations)

    @cached_property
    def of(self) -> dict[str, str]:
        """The role of each column.

        Raises UsageError if settings contradict each other. Raises DataError if the data contradict them, or nothing is
        left to spread.
        """
        stated = {SPREAD: self._choose_stated(self.step.spread), CONSTANT: self._choose_stated(self.step.constant)}
        both = [name for name in stated[SPREAD] if name in stated[CONSTANT]]
        if both:
            raise UsageError(f"{both[0]} cannot be both spread and constant.", todo="Name it in one of them.")
        remembered = {position.measure for position in self.memory.places} if self.memory is not None else set()
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
                roles[name] = self._infer(name, name in remembered)
        constants = [name for name, role in roles.items() if role == CONSTANT]
        by_level = [name for name in constants if self.table.dictionary.of(name).level == "case"]
        self._require_constant(constants, [*stated[CONSTANT], *by_level])
        if SPREAD not in roles.values() and self.survey.rows:
            raise DataError(
                "No column varies within a case, so there is nothing to spread.",
                where=f"beside {', '.join((*self.grid.case, *self.grid.names))} there are "
                f"{shorten_list(self.others) or 'no columns'}",
                todo="Name the measures with ‹spread›, or check ‹case›.",
            )
        return roles

    def _infer(self, name: str, remembered: bool) -> str:
        """Return the role that dictionary and data give a column without a stated one."""
        level = self.table.dictionary.of(name).level
        if remembered or level == "occasion":
            return SPREAD
        if not self.variations[name].varies:
            return CONSTANT
        # Missing cells beside one value do not contradict the dictionary.
        return CONSTANT if level == "case" and not self.variations[name].contradicting else SPREAD

    @property
    def only_missing(self) -> list[str]:
        """Columns that are spread only because they are missing in some rows of a case."""
        if self.step.spread:
            return []
        result = []
        for name in self.spread:
            variation = self.variations[name]
            if variation.varies and not variation.contradicting:
                result.append(name)
        return result

    def _choose_stated(self, choice: str) -> list[str]:
        if not choice:
            return []
        types = {name: self.table[name].type for name in self.others}
        return choose_columns(choice, types, self.table.name)

    def _require_constant(self, constants: list[str], stated: list[str]) -> None:
        """Stop if a constant varies and no choice is stated; a missing cell is not a variation."""
        for name in constants:
            variation = self.variations[name]
            if not variation.varies or (name in stated and self.step.if_changing != "stop"):
                continue
            if name not in stated and self.step.if_changing != "stop" and self.step.spread:
                continue
            if not variation.contradicting and name in stated:
                continue
            if not variation.contradicting:
                raise DataError(
                    f"{name} is missing in some rows of a case and not in others, so it is not constant.",
                    todo=f"Name it in ‹spread› too, or use ‹constant={name}› to carry the present value.",
                )
            raise varying_constant_error(
                name, variation.contradicting, variation.examples,
                f"Correct the cells, name {name} in ‹spread›, or use ‹if_changing=first›, last or commonest.",
            )  # fmt: skip

    def _list_role(self, role: str) -> list[str]:
        return [name for name in self.others if self.of[name] == role]

    @property
    def spread(self) -> list[str]:
        """The columns that are spread over the occasions."""
        return self._list_role(SPREAD)

    @property
    def constants(self) -> list[str]:
        """The constants."""
        return self._list_role(CONSTANT)

    @property
    def left_out(self) -> list[str]:
        """The columns that are neither."""
        return self._list_role(LEFT_OUT)

    @property
    def likely_errors(self) -> list[str]:
        """Columns that are spread, but vary in so few cases that an error is likely."""
        most = FEW * self.survey.grid.cases
        return [name for name in self.spread if 0 < self.variations[name].contradicting <= most]

    def find_constant_rows(self, name: str) -> Rows:
        """Return for each case the row with the constant's cell."""
        if not self.variations[name].varies:
            return self.grid.cases.firsts
        return self.grid.cases.find_constant_rows(name, self.step.if_changing, "")

    @cached_property
    def labels(self) -> dict[Occasion, str]:
        """By occasion the label of its columns, if a column holds them.

        Raises DataError if one occasion has several labels.
        """
        result: dict[Occasion, str] = {}
        for occasion in self.grid.occasions:
            labels = self.survey.labels.get(occasion, {})
            first, *others = sorted(labels, key=lambda text: labels[text].value) or [""]
            if others:
                raise DataError(
                    f"{self.step.label_from} holds two labels for one occasion.",
                    where=f'{format_occasion_pair(self.grid.names, occasion)}: "{first}" and "{others[0]}"',
                    todo="Labels belong to the occasion; correct the file or use another column.",
                )
            if labels:
                result[occasion] = first
        return result
