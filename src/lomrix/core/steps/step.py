"""The step: a frozen, validated setting that maps tables to a table and an account."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass

from pydantic import BaseModel, ConfigDict

from lomrix.core.steps.account import Account
from lomrix.core.table.table import Table


@dataclass(frozen=True)
class Result:
    """What a step returns."""

    table: Table
    account: Account


class Step(BaseModel):
    """What all steps have in common.

    A step is a value: two steps with equal settings do the same. It knows no file, terminal or plan.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    @property
    @abstractmethod
    def kept_together(self) -> tuple[str, ...]:
        """The columns whose equal values must stay in one part when a big table is worked on in parts."""

    def columns_needed(self, place: int, names: list[str]) -> list[str] | None:
        """Which columns of a table the step looks at, so that only these need be read; None for all.

        Parameters
        ----------
        place
            Which of the step's tables is meant, counted from 0.
        names
            The table's column names.
        """
        return None

    @abstractmethod
    def apply(self, *tables: Table) -> Result:
        """Do the step.

        Parameters
        ----------
        tables
            The tables, in the order in which the command names them.

        Returns
        -------
        The new table and the account.

        Raises
        ------
        DataError
            Where the data break what was expected.
        UsageError
            Where a setting does not fit the tables.
        """
