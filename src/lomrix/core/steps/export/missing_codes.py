"""Missing codes as they are said: for every cell, for a reason, for some columns, or for a reason in some columns."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from lomrix.core.errors import UsageError
from lomrix.core.table.selection import chosen_columns

AUTO = "auto"
CLEAR = "Say ‹missing_code=-9› for all, ‹missing_code=refused=-8› for a reason, ‹missing_code=sleep_*:-99› for columns."


@dataclass(frozen=True)
class Said:
    """One missing code as it was said.

    Parameters
    ----------
    code
        What stands in the cells; `auto` where it is to be found.
    reason
        The reason that it stands for; empty for all.
    columns
        Words that choose the columns it is for; empty for all.
    """

    code: str
    reason: str = ""
    columns: str = ""


def codes_said(words: Sequence[str]) -> tuple[Said, ...]:
    """Read `-9`, `refused=-8`, `sleep_*:-99` and `sleep_*:refused=-98`.

    Raises
    ------
    UsageError
        Where a code is not clear, or two are said of the same cells.

    Examples
    --------
    >>> codes_said(("-9", "refused=-8", "sleep_*:-99"))
    (Said(code='-9', reason='', columns=''), Said(code='-8', reason='refused', columns=''), \
Said(code='-99', reason='', columns='sleep_*'))
    """
    found: list[Said] = []
    for word in words:
        left, equals, code = (part.strip() for part in word.rpartition("="))
        columns, colon, rest = (part.strip() for part in (left if equals else code).rpartition(":"))
        one = Said(code, rest, columns) if equals else Said(rest, "", columns)
        if not one.code or (equals and not one.reason) or (colon and not one.columns):
            raise UsageError(f'The missing code "{word}" is not clear.', todo=CLEAR)
        if any((one.reason, one.columns) == (other.reason, other.columns) for other in found):
            raise UsageError(f'The missing code "{word}" is said of cells that have one already.', todo=CLEAR)
        if one.code == AUTO and (one.reason or one.columns):
            raise UsageError(f'"{word}": a code that is found by itself stands for every cell.', todo=CLEAR)
        found.append(one)
    return tuple(found)


@dataclass(frozen=True)
class MissingCodes:
    """The missing codes of a table: for each column and reason, the one that was said most closely.

    Parameters
    ----------
    everywhere
        The code of cells that nothing closer was said of; empty where there is none.
    by_reason
        Codes of reasons, in every column.
    by_column
        For each column the codes that were said of it, by reason; the empty reason stands for all others.
    """

    everywhere: str
    by_reason: Mapping[str, str]
    by_column: Mapping[str, Mapping[str, str]]

    @classmethod
    def of(cls, said: Sequence[Said], types: Mapping[str, str], table: str) -> MissingCodes:
        """What was said, for the columns of a table.

        Parameters
        ----------
        said
            The codes.
        types
            Type of each column.
        table
            How messages call the table.

        Raises
        ------
        UsageError
            Where two codes are said of one column and reason, or a column is not there.
        """
        everywhere = next((one.code for one in said if not one.reason and not one.columns), "")
        by_reason = {one.reason: one.code for one in said if one.reason and not one.columns}
        by_column: dict[str, dict[str, str]] = {}
        for one in (one for one in said if one.columns):
            for name in chosen_columns(one.columns, types, table):
                own = by_column.setdefault(name, {})
                if own.setdefault(one.reason, one.code) != one.code:
                    raise UsageError(
                        f"Two missing codes are said of {name}: {own[one.reason]} and {one.code}.",
                        todo="Name each column in one of them only.",
                    )
        return cls(everywhere, by_reason, by_column)

    def of_cell(self, column: str, reason: str) -> str:
        """The code of a column's cells that are missing for a reason; empty where they have none."""
        own = self.by_column.get(column, {})
        return own.get(reason) or own.get("") or self.by_reason.get(reason) or self.everywhere

    def of_column(self, column: str, reasons: Iterable[str]) -> list[str]:
        """Every code that may stand in a column whose cells are missing for some reasons."""
        own = self.by_column.get(column, {})
        # A code of a reason that no cell of the column has does not stand in it.
        general = [] if "" in own else [*(self.by_reason.get(reason, "") for reason in reasons), self.everywhere]
        return list(dict.fromkeys(code for code in (*own.values(), *general) if code))

    @property
    def said(self) -> set[str]:
        """The codes of some reasons or columns."""
        return {*self.by_reason.values(), *(code for own in self.by_column.values() for code in own.values())}


NO_CODES = MissingCodes("", {}, {})
