"""Subset as it is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar

from lomrix.core.language.parse import choices_used, is_by_row, names_used, parsed
from lomrix.core.steps.settings import ADDS_UP, Columns, Names, Setting, joined_by, parsed_by
from lomrix.core.steps.step import ANY_ROWS, WHOLE, Division, Role, Step
from lomrix.core.table.selection import columns_by_name

# So many of the columns that are left out are looked at, whether they alone tell rows of one case apart.
MOST_LOOKED_AT = 12


def all_of(conditions: Sequence[str]) -> str:
    """Several conditions as one that is true where all of them are.

    Raises
    ------
    UsageError
        Where one of them cannot be understood.

    Examples
    --------
    >>> all_of(("age >= 16", "sex == 1 or sex == 2"))
    '(age >= 16) and (sex == 1 or sex == 2)'
    """
    for condition in conditions:
        parsed(condition)  # each on its own, so that no parenthesis closes one of another
    return " and ".join(f"({condition.strip()})" for condition in conditions)


class Subset(Step):
    """Choose columns and rows."""

    word: ClassVar[str] = "subset"
    done_by: ClassVar[str] = "lomrix.core.steps.subset.run:chosen"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to choose from."),)

    columns: Annotated[Columns, Setting("Keep these columns, in this order.", "COLUMNS")] = ""
    without: Annotated[Columns, Setting("Leave these columns out; out wins over kept.", "COLUMNS")] = ""
    where: Annotated[
        str, joined_by(all_of), ADDS_UP, parsed_by(parsed), Setting("Keep rows for which this is true.", "EXPRESSION")
    ] = ""
    case: Annotated[Names, Setting("Who a row is of, where the condition looks at all rows of a case.", "COLUMNS")] = ()
    occasion: Annotated[Names, Setting("When a row was measured, where the condition goes by that.", "COLUMNS")] = ()

    @property
    def division(self) -> Division:
        """Each row is judged on its own, unless the condition looks at others."""
        return ANY_ROWS if not self.where or is_by_row(parsed(self.where)) else WHOLE

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The columns that are kept, those of the condition, and the first of those that are left out."""
        chosen = columns_by_name(self.columns, names) if self.columns else list(names)
        out = columns_by_name(self.without, names) if self.without else []
        if chosen is None or out is None:
            return None
        gone = set(out)
        kept = [name for name in chosen if name not in gone]
        stays = set(kept)
        lost = [name for name in names if name not in stays][:MOST_LOOKED_AT]
        looked_at = [*self.case, *self.occasion]
        if self.where:
            tree = parsed(self.where)
            chosen_by = [columns_by_name(words, names) for words in choices_used(tree)]
            if None in chosen_by:
                return None
            looked_at += [*names_used(tree), *(name for found in chosen_by for name in found or ())]
        return [*kept, *looked_at, *lost]
