"""Settings of subset."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from lomrix.core.errors import UsageError
from lomrix.core.language.parse import find_choices, find_names, find_needs, is_by_case, is_by_row, parse
from lomrix.core.steps.settings import (
    JOINED,
    Columns,
    Names,
    Setting,
    SortWords,
    join_parts,
    parsed_by,
    require_different,
)
from lomrix.core.steps.step import ANY_ROWS, WHOLE, Division, Extra, Role, Step, require
from lomrix.core.table.selection import choose_by_name, parse_sort_word

# At most this many left-out columns are tested for being the only ones that distinguish rows of a case.
MOST_TESTED = 12
FIRST_SEED = 1
Pick = Literal["first", "last", "earliest", "latest"]


def join_conditions(conditions: Sequence[str]) -> str:
    """Join several conditions into one that is true if all are.

    Raises UsageError if one of them is not valid.

    >>> join_conditions(("age >= 16", "sex == 1 or sex == 2"))
    '(age >= 16) and (sex == 1 or sex == 2)'
    """
    for condition in conditions:
        parse(condition)  # each on its own, so that no parenthesis closes one of another
    return " and ".join(f"({condition.strip()})" for condition in conditions)


def parse_pick(text: str) -> tuple[Pick, str]:
    """Parse `first`, `last`, `earliest:COLUMN` or `latest:COLUMN` as the word and the column.

    Raises UsageError if it is none of these.

    >>> parse_pick("latest: int_date")
    ('latest', 'int_date')
    """
    word, colon, name = (part.strip() for part in text.partition(":"))
    if word in ("first", "last") and not colon:
        return word, ""  # type: ignore[return-value]
    if word in ("earliest", "latest") and name:
        return word, name  # type: ignore[return-value]
    raise UsageError(
        f'"{text}" is not a way to pick a row.',
        todo="Use ‹pick=first›, ‹pick=last›, ‹pick=earliest:visit_date› or ‹pick=latest:visit_date›.",
    )


class Subset(Step):
    """Choose columns and rows, and sort."""

    word: ClassVar[str] = "subset"
    implementation: ClassVar[str] = "lomrix.core.steps.subset.run:subset"
    cell_size: ClassVar[int] = 18
    surveying: ClassVar[str] = "lomrix.core.steps.subset.run:survey"
    conclusion: ClassVar[str] = "lomrix.core.steps.subset.run:conclude"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to choose from."),)
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("left_out", "Write the rows that are left out, with their row numbers and why."),
    )

    columns: Annotated[Columns, Setting("Keep these columns, in this order.", "COLUMNS")] = ""
    without: Annotated[Columns, Setting("Leave these columns out, even if also kept.", "COLUMNS")] = ""
    where: Annotated[
        str,
        join_parts(join_conditions),
        JOINED,
        parsed_by(parse),
        Setting("Keep rows for which this is true.", "EXPRESSION"),
    ] = ""
    one_per: Annotated[
        Names, parsed_by(require_different), Setting("Keep one row for each value of these columns.", "COLUMNS")
    ] = ()
    pick: Annotated[
        str,
        parsed_by(parse_pick),
        Setting("Which row to keep: first, last, earliest:visit_date or latest:visit_date.", "WHICH"),
    ] = ""
    ties: Annotated[
        Literal["first", "last"] | None,
        Setting("Which row to keep if the earliest or latest are equal, or all are missing."),
    ] = None
    sample: Annotated[int, Field(ge=0), Setting("Draw this many rows at random, or cases with --case.", "N")] = 0
    sample_by: Annotated[Names, Setting("Draw that many from each group of these columns.", "COLUMNS")] = ()
    seed: Annotated[int | None, Field(ge=0), Setting("Another number draws another sample; 1 by default.", "N")] = None
    sort_by: Annotated[SortWords, Setting("Sort the rows by these columns; -age for descending.", "COLUMNS")] = ()
    case: Annotated[
        Names, Setting("Column that names the case, for samples and for conditions on all rows of a case.", "COLUMNS")
    ] = ()
    occasion: Annotated[
        Names, Setting("Column that names the occasion, if the condition needs the order.", "COLUMNS")
    ] = ()

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.one_per or not self.pick, "pick", "‹pick› requires ‹one_per›.", "Add ‹one_per=pid,wave›.")
        require(self.pick or not self.one_per, "one_per", "‹one_per› requires ‹pick›.",
                "Use ‹pick=first›, ‹pick=last›, ‹pick=earliest:visit_date› or ‹pick=latest:visit_date›.")  # fmt: skip
        require(self.ties is None or ":" in self.pick, "ties", "‹ties› requires ‹pick› with a column.",
                "Use ‹pick=latest:visit_date›, or leave ‹ties› out.")  # fmt: skip
        for name, value in (("sample_by", self.sample_by), ("seed", self.seed is not None)):
            require(self.sample or not value, name, f"‹{name}› requires ‹sample›.", "Add ‹sample=200›.")
        return self

    @property
    def idle(self) -> Mapping[str, str]:
        """Case and occasion, if nothing looks at other rows of a case."""
        needs = find_needs([parse(self.where)] if self.where else []) | ({"case"} if self.sample else set())
        return {
            name: "no condition uses other rows of a case"
            for name in ("case", "occasion")
            if getattr(self, name) and name not in needs
        }

    @property
    def leaves_rows_out(self) -> bool:
        """True if a setting may leave rows out."""
        return bool(self.where or self.one_per or self.sample)

    @property
    def draws_of_all_rows(self) -> bool:
        """True for a plain sample: of all rows, not of cases or groups."""
        return bool(self.sample) and not (self.where or self.one_per or self.case or self.sample_by)

    @property
    def keeps_rows(self) -> bool:
        """Whether every row stays."""
        return not self.leaves_rows_out

    @property
    def division(self) -> Division:
        """By rows, by the key of which one row stays, by case, or by their order, unless other rows decide too."""
        tree = parse(self.where) if self.where else None
        is_by_rows = tree is None or is_by_row(tree)
        if self.sort_by:
            decides_more = self.sample or self.one_per or not is_by_rows
            return WHOLE if decides_more else Division("by order", {"source": self.sort_by})
        if self.draws_of_all_rows:
            return ANY_ROWS
        if self.sample or not is_by_rows:
            stays_in_case = self.case and ({*self.case} <= {*self.one_per} or not self.one_per)
            is_known = is_by_rows or (tree is not None and not self.sample and is_by_case(tree))
            return Division("by key", {"source": self.case}) if stays_in_case and is_known else WHOLE
        return Division("by key", {"source": self.one_per}) if self.one_per else ANY_ROWS

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """Return the kept columns, those of the condition and the other choices, and the first left-out ones."""
        chosen = choose_by_name(self.columns, names) if self.columns else list(names)
        excluded = choose_by_name(self.without, names) if self.without else []
        if chosen is None or excluded is None:
            return None
        excluded_set = set(excluded)
        kept = [name for name in chosen if name not in excluded_set]
        stays = set(kept)
        lost = [name for name in names if name not in stays][:MOST_TESTED]
        used = [*self.case, *self.occasion, *self.one_per, *self.sample_by]
        used += [parse_pick(self.pick)[1]] if ":" in self.pick else []
        used += [parse_sort_word(word, names)[0] for word in self.sort_by]
        if self.where:
            tree = parse(self.where)
            chosen_by = [choose_by_name(words, names) for words in find_choices(tree)]
            if None in chosen_by:
                return None
            used += [*find_names(tree), *(name for names_found in chosen_by for name in names_found or ())]
        return [*kept, *used, *lost]
