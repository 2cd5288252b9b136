"""Settings of aggregate."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, ClassVar, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

from lomrix.core.errors import IdleSettingError, UsageError
from lomrix.core.language.parse import find_choices, find_names, is_by_row, parse
from lomrix.core.nearest import advise
from lomrix.core.rows.statistic_names import KNOWN, SHARE, WITH_WEIGHTS, is_statistic
from lomrix.core.steps.settings import Names, Setting, Texts, parsed_by
from lomrix.core.steps.step import WHOLE, Division, Extra, Role, Step, require
from lomrix.core.table.header import MEASURE, HeaderTemplate
from lomrix.core.table.selection import choose_by_name

WORDS = re.compile(r"[^\s,()]+\((?:[^()]|\([^()]*\))*\)|[^\s,]+")
# A statistic of a condition, such as share(age >= 16), has a comparison in it; any other text is a value.
OF_CONDITION = re.compile(
    r"(?:(?P<name>\w+)\s*=\s*)?(?P<statistic>share|n)\((?P<condition>.*(?:[<>]|==|!=|\bin\s*[(\[]).*)\)"
)
EXAMPLE = "Use ‹stat=sleep,heart_rate: n mean sd›."
STATISTIC = "statistic"
Statistics = tuple[tuple[str, tuple[str, ...]], ...]


@dataclass(frozen=True)
class OfCondition:
    """The number or share of the rows for which a condition is true; `name` is that of its column, if stated."""

    statistic: Literal["n", "share"]
    condition: str
    name: str = ""


def parse_of_condition(text: str) -> OfCondition | None:
    """Parse `share(age >= 16)` or `adults = n(age >= 16)`; None if it is another statistic.

    Raises UsageError if the condition is not valid.
    """
    match = OF_CONDITION.fullmatch(text.strip())
    if match is None:
        return None
    condition = match["condition"].strip()
    try:
        if not find_names(parse(condition)):
            return None
    except UsageError:
        # A label may look like this: share(< 16)
        if condition[0] in "<>":
            return None
        raise
    return OfCondition(match["statistic"], condition, match["name"] or "")  # type: ignore[arg-type]


def parse_statistics(texts: Sequence[str]) -> Statistics:
    """Parse `sleep,hr: n mean sd`; statistics of conditions are not included.

    Raises UsageError if there is no colon, or a statistic is unknown.

    >>> parse_statistics(("sleep,hr: n q90 share(night)", "share(age >= 16)"))
    (('sleep,hr', ('n', 'q90', 'share(night)')),)
    """
    result = []
    for text in texts:
        if parse_of_condition(text):
            continue
        columns, colon, names = text.rpartition(":")
        statistics = tuple(WORDS.findall(names))
        if not colon or not columns.strip() or not statistics:
            raise UsageError(f'"{text}" does not state statistics and columns.', todo=EXAMPLE)
        plain = tuple(name for name in statistics if not parse_of_condition(name))
        for name in plain:
            if not is_statistic(name):
                todo = f"Statistics are {' '.join(KNOWN)}, q10 or any other percentage, and share(value)."
                todo = advise(name, KNOWN, todo)
                raise UsageError(f"Unknown statistic {name}.", todo=todo)
        result += [(columns.strip(), plain)] if plain else []
    return tuple(result)


def parse_conditions(texts: Sequence[str]) -> tuple[OfCondition, ...]:
    """Return the statistics of conditions, wherever they stand.

    >>> [found.condition for found in parse_conditions(("age: mean share(age >= 16)", "grown = n(age >= 18)"))]
    ['age >= 16', 'age >= 18']
    """
    words = [[text] if parse_of_condition(text) else WORDS.findall(text.rpartition(":")[2]) for text in texts]
    found = [parse_of_condition(word) for group in words for word in group]
    return tuple(dict.fromkeys(statistic for statistic in found if statistic))


def split_keys(value: object) -> object:
    """Split at commas, but not inside parentheses.

    >>> split_keys("vessel, bands(age, 30, labels=('a', 'b'))")
    ('vessel', "bands(age, 30, labels=('a', 'b'))")
    """
    given = [value] if isinstance(value, str) else value
    if not isinstance(given, list | tuple) or not all(isinstance(text, str) for text in given):
        return value
    keys, depth = [""], 0
    for character in ",".join(given):
        depth += {"(": 1, ")": -1}.get(character, 0)
        if character == "," and depth <= 0:
            keys.append("")
        else:
            keys[-1] += character
    return tuple(key.strip() for key in keys if key.strip())


def parse_key(text: str) -> tuple[str, str]:
    """Parse a key: a choice of columns (empty name), or an expression, as in `age_band = bands(age, 30, 45)`.

    Raises UsageError if the expression is not valid.

    >>> parse_key("vessel"), parse_key("bands(age, 30, 45)")
    (('', 'vessel'), ('age_band', 'bands(age, 30, 45)'))
    """
    if "(" not in text:
        return "", text
    name, equals, expression = text.partition("=")
    if not equals or "(" in name:
        name, expression = "", text
    tree = parse(expression)
    used = find_names(tree)
    key_name = name.strip() or (
        f"{used[0]}_{'band' if expression.strip().startswith('bands(') else 'group'}" if used else ""
    )
    if not key_name:
        raise UsageError(f"{text} has no name.", todo="Use ‹by=age_band = bands(age, 30, 45)›.")
    return key_name, expression.strip()


def parse_keys(words: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """All keys in turn."""
    return tuple(map(parse_key, words))


def require_naming(text: str) -> None:
    """Stop if a template cannot name statistics.

    Raises UsageError if the measure or the statistic is missing in it.
    """
    template = HeaderTemplate.parse(text, measure_needed=False)
    if {MEASURE, STATISTIC} != set(template.parts[1::2]):
        raise UsageError(
            f'The template "{text}" needs {{measure}} and {{statistic}}.',
            todo="Use ‹header={statistic}_{measure}›.",
        )


class Aggregate(Step):
    """Compute statistics of groups: one row per group."""

    word: ClassVar[str] = "aggregate"
    implementation: ClassVar[str] = "lomrix.core.steps.aggregate.run:aggregate"
    cell_size: ClassVar[int] = 43
    surveying: ClassVar[str] = "lomrix.core.steps.aggregate.run:survey"
    keying: ClassVar[str] = "lomrix.core.steps.aggregate.run:make_keys"
    streaming: ClassVar[str] = "lomrix.core.steps.aggregate.few_groups:aggregate_few_groups"
    arranging: ClassVar[str] = "lomrix.core.steps.aggregate.run:arrange"
    conclusion: ClassVar[str] = "lomrix.core.steps.aggregate.account:conclude"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to aggregate."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("figure", "Draw group means with their intervals; the last key is the axis.", "figure"),
    )

    by: Annotated[
        tuple[str, ...],
        BeforeValidator(split_keys),
        parsed_by(parse_keys),
        Setting("What makes the groups: columns, or bands(age, 30, 45).", "COLUMNS"),
    ]
    stat: Annotated[
        Texts,
        parsed_by(parse_statistics),
        Setting(f"Statistics wanted: {' '.join(KNOWN)}, q10, share(value); share(age >= 16).", "'COLUMNS: WORDS'"),
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
    deviation: Annotated[bool, Setting("Also add each row's deviation from the mean of its group.")] = False

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.by, "by", "No ‹by› was given.", "Name the columns whose values make the groups.")
        require(self.attach or not self.deviation, "deviation", "‹deviation› requires ‹attach›.", "Use ‹attach› too.")
        rows_only = self.totals or self.empty_groups
        require(not (self.attach and rows_only), "attach", "‹totals› and ‹empty_groups› add rows, ‹attach› adds none.",
                "Leave one of them out.")  # fmt: skip
        require(self.min_n or not self.hide_second, "hide_second", "Nothing is suppressed without ‹min_n›.",
                "Add ‹min_n=5›.")  # fmt: skip
        require(self.min_n or not self.case, "case", "‹case› counts cases for ‹min_n›, which was not given.",
                "Add ‹min_n=5›, or leave ‹case› out.", IdleSettingError)  # fmt: skip
        if self.weight:
            for _, names in self.statistics:
                for name in names:
                    fits = name in WITH_WEIGHTS or SHARE.fullmatch(name)
                    require(fits, "weight", f"The {name} has no weighted form here.",
                            f"With ‹weight› ask {' '.join(WITH_WEIGHTS)} or share(value).")  # fmt: skip
            require(all(found.statistic == "share" for found in self.conditions), "weight",
                    "The number of rows has no weighted form here.", "Use share(age >= 16).")  # fmt: skip
        return self

    @property
    def statistics(self) -> Statistics:
        """Pairs of a choice of columns and the statistics wanted of each."""
        return parse_statistics(self.stat)

    @property
    def conditions(self) -> tuple[OfCondition, ...]:
        """The statistics of conditions."""
        return parse_conditions(self.stat)

    @property
    def keys(self) -> tuple[tuple[str, str], ...]:
        """Name and expression of each key; for a choice of columns the name is empty."""
        return parse_keys(self.by)

    @property
    def division(self) -> Division:
        """By group; in blocks if there is more than these, which only few groups allow."""
        computed = [parse(expression) for name, expression in self.keys if name]
        guesses_case = self.min_n and not self.case  # among all columns, and computed ones are in none of the blocks
        if (guesses_case and computed) or self.weight or not all(map(is_by_row, computed)):
            return WHOLE
        is_together = self.min_n or self.totals or self.empty_groups
        return Division("blocks" if is_together else "by key", {"source": self.by})

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """Return the grouping columns and those of the statistics."""
        if self.attach or (self.min_n and not self.case):
            return None
        choices = [expression for expression, _ in self.statistics] + [
            name for name in (self.weight, *self.case) if name
        ]
        choices += [expression for name, expression in self.keys if not name]
        expressions = [expression for name, expression in self.keys if name]
        trees = [parse(expression) for expression in (*expressions, *(found.condition for found in self.conditions))]
        result = [name for tree in trees for name in find_names(tree)]
        choices += [choice for tree in trees for choice in find_choices(tree)]
        chosen = choose_by_name(",".join(choices), names) if choices else []
        return None if chosen is None else list(dict.fromkeys([*result, *chosen]))
