"""Aggregate as it is asked for."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

from lomrix.core.errors import UsageError
from lomrix.core.language.parse import choices_used, is_by_row, names_used, parsed
from lomrix.core.nearest import advice
from lomrix.core.rows.statistic_names import KNOWN, SHARE, WITH_WEIGHTS, is_statistic
from lomrix.core.steps.settings import Names, Setting, Texts, parsed_by
from lomrix.core.steps.step import WHOLE, Division, Extra, Role, Step, need
from lomrix.core.table.header import MEASURE, HeaderTemplate
from lomrix.core.table.selection import columns_by_name

WORDS = re.compile(r"[^\s,()]+\([^()]*\)|[^\s,]+")
OUTSIDE_BRACES = re.compile(r",(?![^(]*\))")
EXAMPLE = "Say ‹stat=sleep,heart_rate: n mean sd›."
STATISTIC = "statistic"
Asked = tuple[tuple[str, tuple[str, ...]], ...]


def statistics_asked(words: Sequence[str]) -> Asked:
    """Read `sleep,hr: n mean sd`.

    Raises
    ------
    UsageError
        Where there is no colon, or a statistic is not known.

    Examples
    --------
    >>> statistics_asked(("sleep,hr: n q90 share(night)",))
    (('sleep,hr', ('n', 'q90', 'share(night)')),)
    """
    asked = []
    for word in words:
        columns, colon, names = word.rpartition(":")
        wanted = tuple(WORDS.findall(names))
        if not colon or not columns.strip() or not wanted:
            raise UsageError(f'"{word}" does not say which statistics of which columns.', todo=EXAMPLE)
        for name in wanted:
            if not is_statistic(name):
                todo = f"Statistics are {' '.join(KNOWN)}, q10 or any other per cent, and share(value)."
                todo = advice(name, KNOWN, todo)
                raise UsageError(f"There is no statistic {name}.", todo=todo)
        asked.append((columns.strip(), wanted))
    return tuple(asked)


def key_words(value: object) -> object:
    """Cut at commas, but not at those inside parentheses."""
    given = [value] if isinstance(value, str) else value
    if isinstance(given, list | tuple) and all(isinstance(one, str) for one in given):
        return tuple(part.strip() for one in given for part in OUTSIDE_BRACES.split(one) if part.strip())
    return value


def key_of(word: str) -> tuple[str, str]:
    """Read a key: a choice of columns, or what is computed, as in `age_band = bands(age, 30, 45)`.

    Returns
    -------
    Name and expression; for a choice of columns the name is empty.

    Raises
    ------
    UsageError
        Where the expression cannot be understood.

    Examples
    --------
    >>> key_of("vessel"), key_of("bands(age, 30, 45)")
    (('', 'vessel'), ('age_band', 'bands(age, 30, 45)'))
    """
    if "(" not in word:
        return "", word
    name, sign, expression = word.partition("=")
    if not sign or "(" in name:
        name, expression = "", word
    tree = parsed(expression)
    used = names_used(tree)
    named = name.strip() or (
        f"{used[0]}_{'band' if expression.strip().startswith('bands(') else 'group'}" if used else ""
    )
    if not named:
        raise UsageError(f"{word} has no name.", todo="Say ‹by=age_band = bands(age, 30, 45)›.")
    return named, expression.strip()


def keys_of(words: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """All keys in turn."""
    return tuple(map(key_of, words))


def require_naming(text: str) -> None:
    """Stop where a template cannot name statistics.

    Raises
    ------
    UsageError
        Where the measure or the statistic has no place in it.
    """
    template = HeaderTemplate.parsed(text, measure_needed=False)
    if {MEASURE, STATISTIC} != set(template.parts[1::2]):
        raise UsageError(
            f'The template "{text}" has not both {{measure}} and {{statistic}}.',
            todo="Say ‹header={statistic}_{measure}›.",
        )


class Aggregate(Step):
    """Compute statistics of groups: one row per group."""

    word: ClassVar[str] = "aggregate"
    done_by: ClassVar[str] = "lomrix.core.steps.aggregate.run:aggregated"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file whose rows are put together."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("figure", "Draw group means with their intervals; the last key is the axis.", "figure"),
    )

    by: Annotated[
        tuple[str, ...],
        BeforeValidator(key_words),
        parsed_by(keys_of),
        Setting("What makes the groups: columns, or bands(age, 30, 45).", "COLUMNS"),
    ]
    stat: Annotated[
        Texts,
        parsed_by(statistics_asked),
        Setting(f"Statistics wanted: {' '.join(KNOWN)}, q10, share(value).", "'COLUMNS: WORDS'"),
    ] = ()
    header: Annotated[str, parsed_by(require_naming), Setting("Names of the statistics.", "TEMPLATE")] = (
        "{measure}_{statistic}"
    )
    weight: Annotated[str, Setting("Column of weights.", "COLUMN")] = ""
    case: Annotated[Names, Setting("Column that names the case: a minimum size counts cases.", "COLUMNS")] = ()
    missing_group: Annotated[
        Literal["left-out", "own"], Setting("Rows whose key is missing: left out, or a group of their own.")
    ] = "left-out"
    min_n: Annotated[
        int, Field(ge=0), Setting("Suppress groups of fewer cases, and others that would give them away.", "N")
    ] = 0
    hide_second: Annotated[bool, Setting("No longer needed: what would give a group away is always suppressed.")] = (
        False
    )
    empty_groups: Annotated[bool, Setting("Show groups of declared codes that no row has.")] = False
    totals: Annotated[bool, Setting("Add rows for all groups together, key by key from the last.")] = False
    attach: Annotated[bool, Setting("Put the statistics beside every row instead.")] = False
    deviation: Annotated[bool, Setting("Beside every row also its distance from the mean of its group.")] = False

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(self.by, "by", "No ‹by› was given.", "Name the columns whose values make the groups.")
        need(self.attach or not self.deviation, "deviation", "A deviation stands beside its row.", "Say ‹attach› too.")
        rows_only = self.totals or self.empty_groups
        need(not (self.attach and rows_only), "attach", "‹totals› and ‹empty_groups› add rows, ‹attach› adds none.",
             "Leave one of them out.")  # fmt: skip
        need(self.min_n or not self.hide_second, "hide_second", "Nothing is suppressed without ‹min_n›.",
             "Add ‹min_n=5›.")  # fmt: skip
        need(self.min_n or not self.case, "case", "‹case› counts cases for ‹min_n›, which was not given.",
             "Add ‹min_n=5›, or leave ‹case› out.")  # fmt: skip
        if self.weight:
            for _, names in self.statistics:
                for name in names:
                    fits = name in WITH_WEIGHTS or SHARE.fullmatch(name)
                    need(fits, "weight", f"The {name} has no weighted form here.",
                         f"With ‹weight› ask {' '.join(WITH_WEIGHTS)} or share(value).")  # fmt: skip
        return self

    @property
    def statistics(self) -> Asked:
        """Pairs: a choice of columns, and the statistics wanted of each."""
        return statistics_asked(self.stat)

    @property
    def keys(self) -> tuple[tuple[str, str], ...]:
        """Name and expression of each key; for a choice of columns the name is empty."""
        return keys_of(self.by)

    @property
    def division(self) -> Division:
        """By group, where the keys are columns."""
        if self.totals or any(name and not is_by_row(parsed(words)) for name, words in self.keys):
            return WHOLE
        if any(name for name, _ in self.keys):
            return WHOLE
        return Division("by key", {"source": self.by})

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The grouping columns and those that statistics are asked of."""
        if self.attach or (self.min_n and not self.case):  # what looks like the case is looked for in all columns
            return None
        wanted = [words for words, _ in self.statistics] + [name for name in (self.weight, *self.case) if name]
        found: list[str] = []
        for name, words in self.keys:
            if name:
                tree = parsed(words)
                found += names_used(tree)
                wanted += choices_used(tree)
            else:
                wanted.append(words)
        chosen = columns_by_name(",".join(wanted), names) if wanted else []
        return None if chosen is None else list(dict.fromkeys([*found, *chosen]))
