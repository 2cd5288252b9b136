"""Settings of subset."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar

from lomrix.core.language.parse import find_choices, find_names, is_by_row, parse
from lomrix.core.steps.settings import JOINED, Columns, Names, Setting, join_parts, parsed_by
from lomrix.core.steps.step import ANY_ROWS, WHOLE, Division, Role, Step
from lomrix.core.table.selection import choose_by_name

# At most this many left-out columns are tested for being the only ones that distinguish rows of a case.
MOST_TESTED = 12


def join_conditions(conditions: Sequence[str]) -> str:
    """Join several conditions into one that is true if all are.

    Raises UsageError if one of them is not valid.

    >>> join_conditions(("age >= 16", "sex == 1 or sex == 2"))
    '(age >= 16) and (sex == 1 or sex == 2)'
    """
    for condition in conditions:
        parse(condition)  # each on its own, so that no parenthesis closes one of another
    return " and ".join(f"({condition.strip()})" for condition in conditions)


class Subset(Step):
    """Choose columns and rows."""

    word: ClassVar[str] = "subset"
    implementation: ClassVar[str] = "lomrix.core.steps.subset.run:subset"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to choose from."),)

    columns: Annotated[Columns, Setting("Keep these columns, in this order.", "COLUMNS")] = ""
    without: Annotated[Columns, Setting("Leave these columns out, even if also kept.", "COLUMNS")] = ""
    where: Annotated[
        str,
        join_parts(join_conditions),
        JOINED,
        parsed_by(parse),
        Setting("Keep rows for which this is true.", "EXPRESSION"),
    ] = ""
    case: Annotated[
        Names, Setting("Column that names the case, if the condition uses all rows of a case.", "COLUMNS")
    ] = ()
    occasion: Annotated[
        Names, Setting("Column that names the occasion, if the condition needs the order.", "COLUMNS")
    ] = ()

    @property
    def division(self) -> Division:
        """By rows, unless the condition uses other rows."""
        return ANY_ROWS if not self.where or is_by_row(parse(self.where)) else WHOLE

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """Return the kept columns, those of the condition, and the first left-out ones."""
        chosen = choose_by_name(self.columns, names) if self.columns else list(names)
        excluded = choose_by_name(self.without, names) if self.without else []
        if chosen is None or excluded is None:
            return None
        excluded_set = set(excluded)
        kept = [name for name in chosen if name not in excluded_set]
        stays = set(kept)
        lost = [name for name in names if name not in stays][:MOST_TESTED]
        used = [*self.case, *self.occasion]
        if self.where:
            tree = parse(self.where)
            chosen_by = [choose_by_name(words, names) for words in find_choices(tree)]
            if None in chosen_by:
                return None
            used += [*find_names(tree), *(name for names_found in chosen_by for name in names_found or ())]
        return [*kept, *used, *lost]
