"""The step: a frozen, validated setting that maps tables to a table and an account."""

from __future__ import annotations

import importlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self, get_args, get_origin

from pydantic import BaseModel, ConfigDict, ModelWrapValidatorHandler, PrivateAttr, ValidationError, model_validator

from lomrix.core.combining import combine_all
from lomrix.core.errors import SettingError, UsageError
from lomrix.core.nearest import advise
from lomrix.core.steps.delivery import DEFAULT_DELIVERY, Delivery
from lomrix.core.steps.settings import advise_to_add, explain_validation_error
from lomrix.core.table.notes import Note

if TYPE_CHECKING:
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.table.column import Column
    from lomrix.core.table.table import Table


@dataclass(frozen=True)
class Role:
    """An input of a step.

    `is_option` makes it an option of the command line instead of an argument; `many` allows several tables; `content`
    is `table`, `texts` if every cell is wanted as text, or `secret` for a file with one confidential line, given as a
    table of one cell.
    """

    name: str
    help: str
    metavar: str = "SOURCE"
    is_option: bool = False
    many: bool = False
    needed: bool = True
    content: Literal["table", "texts", "secret"] = "table"


@dataclass(frozen=True)
class Extra:
    """Something besides its table that a step can produce, requested by the option of the same name.

    `content` is `table`, `figure`, or `companion` and `codebook` for texts that describe a delivery; `apart_unless`
    names the setting without which it may not be in the table's folder; `then` is the step that uses it, and its role
    there, after a person worked on it.
    """

    name: str
    help: str
    content: Literal["table", "figure", "companion", "codebook"] = "table"
    owner_only: bool = False
    needed: bool = False
    apart_unless: str = ""
    then: tuple[str, str] = ("", "")


@dataclass(frozen=True)
class HelpTopic:
    """Something that a step can explain without doing anything; `told_by` is the module and function that lists it."""

    name: str
    help: str
    listed_by: str

    def load(self) -> list[Listing]:
        """Return the listings to be shown."""
        listings: list[Listing] = load_function(self.listed_by)()
        return listings


@dataclass(frozen=True)
class Division:
    """How the work of a step may be divided: by rows of the first role, by key, by the order in which rows are sorted,
    or not at all; with "survey only" its survey, of any rows or by key, is all that it needs, and with "blocks" its
    `streaming` decides.
    """

    kind: Literal["any rows", "survey only", "by key", "by order", "blocks", "whole"] = "whole"
    columns: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def is_by_key(self) -> bool:
        """True if rows with the same key must be together."""
        return self.kind == "by key" or (self.kind == "survey only" and bool(self.columns))


ANY_ROWS = Division("any rows")
SURVEY_ONLY = Division("survey only")
WHOLE = Division("whole")
NOTHING: Mapping[str, int] = {}
# Bytes that a cell takes while its row is sorted, as measured.
SORTED_CELL_SIZE = 30


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

    @property
    def roles(self) -> list[str]:
        """The roles that have tables."""
        return list(self._tables)

    def get_one(self, role: str = "source") -> Table:
        """Return the table of a role that has exactly one."""
        (table,) = self._tables[role]
        return table

    def get_all(self, role: str) -> tuple[Table, ...]:
        """Return the tables of a role, possibly none."""
        return self._tables.get(role, ())

    def get_optional(self, role: str) -> Table | None:
        """Return the table of a role, or None."""
        return next(iter(self.get_all(role)), None)

    def __iter__(self) -> Iterator[Table]:
        return (table for tables in self._tables.values() for table in tables)


@dataclass(frozen=True)
class Result:
    """The result of a step: table, account, extras by name, the columns to show in a rehearsal (all if empty), and the
    text columns that are now numbers or dates (`retyped`: their notes from reading are obsolete).

    For a part of a table, `tally` is what the conclusion needs besides the account; with `stops` its table is not
    meant, since the conclusion will raise an error.
    """

    table: Table
    account: Account
    extras: Mapping[str, Any] = field(default_factory=dict)
    shown: tuple[str, ...] = ()
    retyped: tuple[str, ...] = ()
    tally: Any = None
    stops: bool = False


class Step(BaseModel):
    """What all steps have in common.

    A step is a value: steps with equal settings do the same. It knows no file, terminal or plan, and is validated when
    created; the code that does it is loaded on use.
    """

    model_config = ConfigDict(frozen=True, extra="forbid", defer_build=True)

    word: ClassVar[str] = ""
    _former: dict[str, str] = PrivateAttr(default_factory=dict)
    # Module and function that process a table, or a part of one.
    implementation: ClassVar[str] = ""
    # Bytes of memory that a cell takes while the step works on it, as measured.
    cell_size: ClassVar[int] = 26
    # The same for a row, if its table is on disk and it works on one column after the other; 0 if it does not.
    row_size_on_disk: ClassVar[int] = 0
    # Module and function that find in a part what the whole decides; the last argument of the implementation.
    surveying: ClassVar[str] = ""
    # Module and function that stop a step by what the survey of all parts shows.
    checking: ClassVar[str] = ""
    # Module and function that make the result of blocks of rows if that takes less memory than a division by key, else
    # return None.
    streaming: ClassVar[str] = ""
    # Module and function that return the keys of each row, if they are not just columns; and that sort a result.
    keying: ClassVar[str] = ""
    # Module and function that add the column that a result is sorted by, if it is not one of the file.
    preparing: ClassVar[str] = ""
    arranging: ClassVar[str] = ""
    # Module and function that complete extras other than tables, once the parts of the table are together.
    completing: ClassVar[str] = ""
    # Module and function that do it as several simpler steps, or return None if it is simple.
    simplifying: ClassVar[str] = ""
    # Module and function that complete the account, given the step, the account of all parts, and their tallies.
    conclusion: ClassVar[str] = ""
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file."),)
    gives: ClassVar[tuple[Extra, ...]] = ()
    asides: ClassVar[tuple[HelpTopic, ...]] = ()
    # Whether earlier history must be hidden: the history of its table begins with it.
    hides_origin: ClassVar[bool] = False
    # Former names of settings, which still work for a release, with their new names.
    former_names: ClassVar[Mapping[str, str]] = {}
    # Settings that a study file fills in only beside another one, by name.
    in_study_beside: ClassVar[Mapping[str, str]] = {}
    # Whether it delivers to other programs: it names its destination with ‹to›, and can be rehearsed.
    delivers: ClassVar[bool] = False
    # Kinds of notes of reading that its own findings repeat.
    repeats_notes: ClassVar[frozenset[str]] = frozenset()
    # Whether its table can be turned back, so that whatever would differ is noted.
    is_reversible: ClassVar[bool] = False
    # Whether the output is read back and compared before success is reported.
    read_back: ClassVar[bool] = False
    # What it produces: a table, a report that may be written as a table too, only a report, or a page.
    result: ClassVar[Literal["table", "report", "report only", "page"]] = "table"

    @model_validator(mode="wrap")
    @classmethod
    def _in_plain_words(cls, given: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        former = {old: new for old, new in cls.former_names.items() if isinstance(given, dict) and old in given}
        if former:
            given = {former.get(name, name): value for name, value in given.items()}
        try:
            step = handler(given)
        except ValidationError as error:
            raise explain_validation_error(error, cls.model_fields) from error
        step._former = former
        return step

    @model_validator(mode="after")
    def _case_and_occasion(self) -> Self:
        cases, occasions = getattr(self, "case", ()), getattr(self, "occasion", ())
        both = next((name for name in cases if name in occasions), "")
        require(not both, "occasion", f"{both} cannot name both case and occasion.", "Check ‹case› and ‹occasion›.")
        return self

    @property
    def keeps_rows(self) -> bool:
        """Whether its table has at least as many rows as its first inputs."""
        return False

    @property
    def idle(self) -> Mapping[str, str]:
        """Settings that have no effect beside the others, and why."""
        return {}

    @property
    def draws_survey(self) -> bool:
        """Whether its figure shows only what its survey knows."""
        return False

    @property
    def delivery(self) -> Delivery:
        """How its table is written to its file or server."""
        return DEFAULT_DELIVERY

    @property
    def memory_per_cell(self) -> int:
        """Bytes of memory that a cell takes while the step works on it, with these settings."""
        return max(self.cell_size, SORTED_CELL_SIZE) if self.division.kind == "by order" else self.cell_size

    @property
    def division(self) -> Division:
        """How the work may be divided if a table exceeds memory."""
        return WHOLE

    def can_divide(self, wanted: Collection[str] = (), given: Mapping[str, int] = NOTHING) -> bool:
        """Return whether it can work in parts, given the number of tables by role, and produce these extras; most
        figures are drawn of the whole.
        """
        drawn = {extra.name for extra in self.gives if extra.content != "table" and not self.draws_survey}
        return self.division.kind != "whole" and not drawn & {*wanted}

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """Return the columns of an input that the step uses, so that only these are read; None for all."""
        return None

    def list_renames(self, role: str, file: str, others: Mapping[str, Table]) -> Mapping[str, str]:
        """Return the columns of an input that get another name, by which the dictionary describes them.

        `others` gives inputs that are not data, such as a table of names, by role.
        """
        return {}

    def with_settings(self, **settings: Any) -> Self:
        """Return the step with some settings changed, validated again."""
        return type(self)(**{**self.to_dict(), **settings})

    def to_dict(self) -> dict[str, Any]:
        """Return the settings that are not the default, as plain values."""
        return self.model_dump(mode="json", exclude_defaults=True)

    def apply(self, tables: Inputs, wanted: Collection[str] = (), survey: Any = None) -> Result:
        """Run the step on whole tables by role; `wanted` names the extras to produce, and a survey may be known.

        Raises DataError if the data break an expectation. Raises UsageError if a setting does not fit the tables.
        """
        result = self.process(tables, wanted, survey)
        return replace(result, account=self.conclude([(result.account, result.tally)]), tally=None)

    def survey(self, tables: Inputs) -> Any:
        """Return what must be known of all parts before one of them is processed; None if nothing."""
        return load_function(self.surveying)(self, tables) if self.surveying else None

    def check(self, tables: Inputs, survey: Any) -> None:
        """Stop if settings and data of the whole, known by its survey, do not fit together."""
        if self.checking:
            load_function(self.checking)(self, tables, survey)

    def process(self, tables: Inputs, wanted: Collection[str] = (), survey: Any = None) -> Result:
        """Run the step on whole tables, or on parts that its division allows, with the combined survey of all parts."""
        self._require_roles(tables)
        known = () if survey is None else (survey,)
        result: Result = load_function(self.implementation)(self, tables, frozenset(wanted), *known)
        return result

    def make_keys(self, role: str, table: Table) -> list[Column]:
        """Return the keys of each row, by which a table is divided."""
        if self.keying:
            keys: list[Column] = load_function(self.keying)(self, role, table)
            return keys
        return [table[name] for name in self.division.columns[role]]

    def prepare(self, tables: Inputs) -> Table:
        """Return the first table with the column that the result is sorted by."""
        first = tables.get_one(self.roles[0].name)
        prepared: Table = load_function(self.preparing)(self, tables) if self.preparing else first
        return prepared

    def arrange(self, table: Table, tables: Inputs) -> Table:
        """Return the rows of all partitions in the order that they have in the whole."""
        result: Table = load_function(self.arranging)(self, table, tables) if self.arranging else table
        return result

    def complete(self, result: Result, tables: Inputs) -> Result:
        """Return the result of all parts with what only the whole table shows."""
        whole: Result = load_function(self.completing)(self, result, tables) if self.completing else result
        return whole

    def conclude(self, parts: Sequence[tuple[Account, Any]]) -> Account:
        """Return the account of the whole from the accounts and tallies of its parts, in their order."""
        account = combine_all(account for account, _ in parts)
        if self.conclusion:
            account = load_function(self.conclusion)(self, account, [tally for _, tally in parts])
        notes = [Note(f"‹{name}› had no effect: {why}.", kind="no-effect") for name, why in self.idle.items()]
        notes += [
            Note(f"‹{old}› is now called ‹{new}›; the former name works until the next release.", kind="renamed")
            for old, new in self._former.items()
        ]
        return replace(account, notes=(*(note for note in account.notes if not note.is_empty), *notes))

    def _require_roles(self, tables: Inputs) -> None:
        """Stop if a required input is missing, or a role is unknown or has too many tables."""
        known = {role.name: role for role in self.roles}
        for name in tables.roles:
            if name not in known:
                raise UsageError(
                    f"{self.word} has no input {name}.", todo=advise(name, list(known), f"Use {', '.join(known)}.")
                )
        for role in self.roles:
            given = tables.get_all(role.name)
            if role.needed and not given:
                todo = advise_to_add(role.name, role.metavar, role.help)
                raise SettingError(role.name, f"‹{role.name}› is required.", todo=todo)
            if len(given) > 1 and not role.many:
                raise SettingError(role.name, f"{self.word} takes one table as ‹{role.name}›, not {len(given)}.")


def load_function(reference: str) -> Any:
    """Load what `module:name` refers to, on first use."""
    module, _, name = reference.partition(":")
    return getattr(importlib.import_module(module), name)


def require(truth: object, name: str, what: str, todo: str, error: type[SettingError] = SettingError) -> None:
    """Stop if settings do not fit together.

    Raises SettingError, or another error, for that setting.
    """
    if not truth:
        raise error(name, what, todo=todo)


def list_choices(annotation: Any) -> tuple[str, ...]:
    """Return the values that a setting allows; empty if it is free."""
    if get_origin(annotation) is Literal:
        return tuple(map(str, get_args(annotation)))
    return tuple(choice for part in get_args(annotation) for choice in list_choices(part))
