"""The step: a frozen, validated setting that maps tables to a table and an account."""

from __future__ import annotations

import importlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self, get_args, get_origin

from pydantic import BaseModel, ConfigDict, ModelWrapValidatorHandler, ValidationError, model_validator

from lomrix.core.errors import SettingError
from lomrix.core.steps.delivery import AS_ALWAYS, Delivery
from lomrix.core.steps.settings import setting_error

if TYPE_CHECKING:
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.table.table import Table


@dataclass(frozen=True)
class Role:
    """An input of a step.

    Parameters
    ----------
    name
        The role, such as `base`.
    help
        What it is, in one sentence.
    metavar
        A word for it where a command is explained.
    option
        Name behind which it stands on a command line; empty where it stands by its place.
    many
        Whether several tables may have the role.
    needed
        Whether some table must.
    content
        `table`; `texts` where every cell is wanted as the text that stands in the file; `secret` for a file whose
        one line nobody may see, given as a table of one cell.
    """

    name: str
    help: str
    metavar: str = "SOURCE"
    option: str = ""
    many: bool = False
    needed: bool = True
    content: Literal["table", "texts", "secret"] = "table"


@dataclass(frozen=True)
class Extra:
    """Something besides its table that a step can give.

    Parameters
    ----------
    name
        Its name, such as `unmatched`; also that of the option that asks for it.
    help
        What it is, in one sentence.
    content
        `table`, `figure` for what is drawn, `companion` and `codebook` for texts that describe a delivery.
    owner_only
        Whether only its owner may read the file.
    needed
        Whether the step has no sense without it.
    apart_unless
        Name of the setting without which it may not stand in the folder of the table.
    then
        The step that takes it in, and in which role, where a person works on it in between.
    """

    name: str
    help: str
    content: Literal["table", "figure", "companion", "codebook"] = "table"
    owner_only: bool = False
    needed: bool = False
    apart_unless: str = ""
    then: tuple[str, str] = ("", "")


@dataclass(frozen=True)
class Aside:
    """Something that a step can explain without doing anything.

    Parameters
    ----------
    name
        Its name; also that of the option that asks for it.
    help
        What is explained, in one sentence.
    told_by
        Module and function that give the listings to be shown.
    """

    name: str
    help: str
    told_by: str

    def listings(self) -> list[Listing]:
        """What is shown."""
        module, _, name = self.told_by.partition(":")
        found: list[Listing] = getattr(importlib.import_module(module), name)()
        return found


@dataclass(frozen=True)
class Division:
    """How the work of a step may be divided: by any rows, by key (columns of each role), or not at all."""

    kind: Literal["any rows", "by key", "whole"] = "whole"
    columns: Mapping[str, tuple[str, ...]] = field(default_factory=dict)


ANY_ROWS = Division("any rows")
WHOLE = Division("whole")


class Inputs:
    """The tables of a step by role.

    Parameters
    ----------
    roles
        For each role a table, or several.
    """

    def __init__(self, **roles: Table | Sequence[Table]) -> None:
        self._tables: dict[str, tuple[Table, ...]] = {
            role: tuple(given) if isinstance(given, Sequence) else (given,) for role, given in roles.items()
        }

    def one(self, role: str = "source") -> Table:
        """The table of a role that has one."""
        (table,) = self._tables[role]
        return table

    def many(self, role: str) -> tuple[Table, ...]:
        """The tables of a role; none where nothing was given."""
        return self._tables.get(role, ())

    def maybe(self, role: str) -> Table | None:
        """The table of a role that may have none."""
        return next(iter(self.many(role)), None)

    def __iter__(self) -> Iterator[Table]:
        return (table for tables in self._tables.values() for table in tables)


@dataclass(frozen=True)
class Result:
    """What a step returns.

    Parameters
    ----------
    table
        The new table.
    account
        What was done.
    extras
        By name, what else was wanted of it.
    shown
        The columns that matter most where only some rows are shown; all where none are named.
    settled
        Columns of text that are numbers or dates now: what reading found to keep them from it was mended.
    """

    table: Table
    account: Account
    extras: Mapping[str, Any] = field(default_factory=dict)
    shown: tuple[str, ...] = ()
    settled: tuple[str, ...] = ()


class Step(BaseModel):
    """What all steps have in common.

    A step is a value: two steps with equal settings do the same. It knows no file, terminal or plan. It is checked
    when it is made, so that a step that could not be done does not exist; how it is done stands in a module of its
    own, which is loaded when it is.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    word: ClassVar[str] = ""
    # Module and function that do the step.
    done_by: ClassVar[str] = ""
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file."),)
    gives: ClassVar[tuple[Extra, ...]] = ()
    asides: ClassVar[tuple[Aside, ...]] = ()
    # Whether what came before must not be told: the history of its table begins with it.
    hides_origin: ClassVar[bool] = False
    # Whether the way back from its table is promised, so that whatever comes back otherwise is told.
    comes_back: ClassVar[bool] = False
    # Whether what was written is read back and compared before success is told.
    read_back: ClassVar[bool] = False
    # What is wanted of it: a table, a report that may be written as a table too, only a report, or a page for people.
    result: ClassVar[Literal["table", "report", "report only", "page"]] = "table"

    @model_validator(mode="wrap")
    @classmethod
    def _in_plain_words(cls, given: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        try:
            return handler(given)
        except ValidationError as error:
            raise setting_error(error, cls.model_fields) from error

    @model_validator(mode="after")
    def _case_and_occasion(self) -> Self:
        cases, occasions = getattr(self, "case", ()), getattr(self, "occasion", ())
        both = next((name for name in cases if name in occasions), "")
        need(not both, "occasion", f"{both} cannot name both case and occasion.", "Check ‹case› and ‹occasion›.")
        return self

    @property
    def delivery(self) -> Delivery:
        """How its table is to be laid out in its file or on its server."""
        return AS_ALWAYS

    @property
    def division(self) -> Division:
        """How the work may be divided when a table is too big for the memory."""
        return WHOLE

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """Which columns of an input the step looks at, so that only these need be read; None for all.

        Parameters
        ----------
        role
            Which input is meant.
        names
            Names of the columns that it has.
        """
        return None

    def names_given(self, role: str, file: str, others: Mapping[str, Table]) -> Mapping[str, str]:
        """Which columns of an input get another name; the dictionary speaks of them by the name that they get.

        Parameters
        ----------
        role, file
            Which input is meant, and the name of its file.
        others
            By role, the inputs that are no data, such as a table of names.
        """
        return {}

    def changed(self, **settings: Any) -> Self:
        """The step with some of its settings changed, checked like any other."""
        return type(self)(**{**self.said(), **settings})

    def said(self) -> dict[str, Any]:
        """The settings that are not the default, as plain values."""
        return self.model_dump(mode="json", exclude_defaults=True)

    def apply(self, tables: Inputs, wanted: Collection[str] = ()) -> Result:
        """Do the step.

        Parameters
        ----------
        tables
            The tables by role.
        wanted
            Names of the extras that are wanted.

        Returns
        -------
        The new table, the account, and the extras.

        Raises
        ------
        DataError
            Where the data break what was expected.
        UsageError
            Where a setting does not fit the tables.
        """
        module, _, name = self.done_by.partition(":")
        result: Result = getattr(importlib.import_module(module), name)(self, tables, frozenset(wanted))
        return result


def need(truth: object, name: str, what: str, todo: str) -> None:
    """Stop where settings do not go together.

    Raises
    ------
    SettingError
        Of the setting of that name.
    """
    if not truth:
        raise SettingError(name, what, todo=todo)


def choices_of(annotation: Any) -> tuple[str, ...]:
    """The words that a setting may have; none where it is free."""
    if get_origin(annotation) is Literal:
        return tuple(map(str, get_args(annotation)))
    return tuple(choice for part in get_args(annotation) for choice in choices_of(part))
