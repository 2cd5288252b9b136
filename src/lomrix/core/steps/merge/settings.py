"""Merge as it is asked for: keys, what is expected of them, and what happens to rows and columns."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import BY_COMMAS, Columns, Names, Setting, parsed_by
from lomrix.core.steps.step import Division, Extra, Role, Step, need
from lomrix.core.table.selection import columns_by_name

if TYPE_CHECKING:
    from lomrix.core.table.table import Table

KeyPairs = tuple[tuple[str, str], ...]
Relationship = Literal["one-to-one", "many-to-one", "one-to-many", "many-to-many"]
RowsKept = Literal["all", "matched", "base"]
OverlapRule = Literal["check", "base", "added", "fill", "both"]
Side = Literal["either", "before", "after"]
Ties = Literal["before", "after"]
TidyWord = Literal["blanks", "case", "zeros"]
SECOND_NAME = "{column}_from_{file}"
# So many rows of many-to-many keys are more likely a slip than a wish.
MOST_ROWS = 20_000_000
WINDOW = re.compile(r"(\d+(?:\.\d+)?)\s*(d|h|min)?")
Unit = Literal["d", "h", "min", ""]


def file_of(word: str) -> str:
    """The file that a key speaks of, without folder and extension; empty where it speaks of all.

    Examples
    --------
    >>> file_of("raw/b.csv:pid=person"), file_of("pid=person")
    ('b', '')
    """
    file, colon, _ = word.rpartition(":")
    return file.rpartition("/")[2].partition(".")[0].strip() if colon else ""


def key_pair(word: str) -> tuple[str, str]:
    """One key column: its name in the base and in the added table, whichever file it speaks of.

    Raises
    ------
    UsageError
        Where a name is empty.
    """
    base, equals, added = (part.strip() for part in word.rpartition(":")[2].partition("="))
    if not base or (equals and not added):
        raise UsageError(f'The key "{word}" is not a column name.', todo="Say ‹key=pid›, or ‹key=pid=person›.")
    return base, added or base


def key_pairs(words: Sequence[str]) -> KeyPairs:
    """Keys as typed: `pid`, or `pid=person` where the added file calls it differently.

    A word with a file in front, `b.csv:pid=person`, speaks of that file alone; see `key_pairs_of`.

    Raises
    ------
    UsageError
        Where a word is empty or a column is named twice.

    Examples
    --------
    >>> key_pairs(("pid", "visit=occasion"))
    (('pid', 'pid'), ('visit', 'occasion'))
    """
    pairs = [key_pair(word) for word in words if not file_of(word)]
    for word in words:
        if file_of(word):
            key_pair(word)
    for side in (0, 1):
        names = [pair[side] for pair in pairs]
        if len(set(names)) < len(names):
            raise UsageError(f"A key column is named twice: {', '.join(names)}.", todo="Name each key column once.")
    return tuple(pairs)


@dataclass(frozen=True)
class Near:
    """What nearest means.

    Parameters
    ----------
    base, added
        The columns that are compared.
    within
        Largest distance, in `unit`.
    unit
        `d` days, `h` hours, `min` minutes; empty for plain numbers.
    side
        Whether the partner may stand `before`, `after`, or `either`.
    ties
        Which of two equally far is taken.
    once
        Whether a row of the added table has one partner at most: the nearest.
    """

    base: str
    added: str
    within: float
    unit: Unit = ""
    side: Side = "either"
    ties: Ties = "before"
    once: bool = False


def window_of(text: str) -> tuple[float, Unit]:
    """Read `30d`, `6h`, `15min` or `2.5`.

    Raises
    ------
    UsageError
        Where it is none of these.

    Examples
    --------
    >>> window_of("30d"), window_of("2.5")
    ((30.0, 'd'), (2.5, ''))
    """
    found = WINDOW.fullmatch(text.strip())
    if found is None:
        raise UsageError(f'The window "{text}" is not clear.', todo="Say ‹within=30d›, 6h, 15min, or a plain number.")
    unit: Unit = found[2] or ""  # type: ignore[assignment]
    return float(found[1]), unit


def compared_columns(text: str) -> tuple[str, str]:
    """Read `visit_date=drawn_on`; one name stands for both.

    Raises
    ------
    UsageError
        Where a side is empty.
    """
    base, equals, added = (part.strip() for part in text.partition("="))
    if not base or (equals and not added):
        raise UsageError(f'"{text}" does not name two columns.', todo="Say ‹near=visit_date=drawn_on›.")
    return base, added or base


class Merge(Step):
    """Bring the columns of other tables to a base table by equal keys; the base's order is kept."""

    word: ClassVar[str] = "merge"
    done_by: ClassVar[str] = "lomrix.core.steps.merge.run:merged"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("base", "The file that is built on; its row order is kept.", "BASE"),
        Role("added", "Files whose variables are brought to it, in order.", "ADDED", many=True),
        Role("links", "Links from the base's ids to those of the added file.", "FILE", option="through", needed=False),
    )
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("unmatched", "Write all keys without a partner, with likely ones."),
        Extra("conflicts", "Write cells in which files differ as a ledger.", then=("correct", "ledger")),
    )

    key: Annotated[
        Names,
        parsed_by(key_pairs),
        Setting(
            "Key column; pid=person, or b.csv:pid=person, where an added file calls it differently.", "COLUMN", "k"
        ),
    ]
    expect: Annotated[Relationship | None, Setting("The relationship that the keys should have.")] = None
    rows: Annotated[RowsKept, Setting("Rows to keep: all, matched ones only, or those of the base.")] = "all"
    overlap: Annotated[
        OverlapRule, Setting("Columns that both files have: check that they agree, take one side, or keep both.")
    ] = "check"
    second_name: Annotated[
        str, Setting("With overlap both, the added file's column: {column} and {file} are filled in.", "NAME")
    ] = SECOND_NAME
    take: Annotated[Columns, Setting("Which columns of the added file to bring.", "COLUMNS")] = ""
    status: Annotated[str, Setting("Add a column that says where each row came from.", "NAME")] = ""
    tidy_keys: Annotated[
        tuple[TidyWord, ...],
        BY_COMMAS,
        Setting("What does not count in keys: blanks, case, zeros, commas between.", "WORDS"),
    ] = ()
    near: Annotated[
        str,
        parsed_by(compared_columns),
        Setting("Match the nearest date or number too: visit_date=drawn_on.", "COLUMN=COLUMN"),
    ] = ""
    within: Annotated[
        str, parsed_by(window_of), Setting("Largest distance: 30d, 6h, 15min, or a number.", "WINDOW")
    ] = ""
    side: Annotated[Side, Setting("Where the nearest may stand.")] = "either"
    ties: Annotated[Ties, Setting("Which of two equally near is taken.")] = "before"
    once: Annotated[bool, Setting("Leave each added row to the base row it is nearest to.")] = False
    other_labels: Annotated[Literal["stop", "first"], Setting("One code with different labels.")] = "stop"
    most_rows: Annotated[int, Field(ge=1), Setting("Largest result of many-to-many keys.", "N")] = MOST_ROWS

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(self.key, "key", "No ‹key› was given.", "Name the column that the files share.")
        for name, said in (("within", self.within), ("once", self.once), ("side", self.side != "either"),
                           ("ties", self.ties != "before")):  # fmt: skip
            need(self.near or not said, name, f"‹{name}› says something of ‹near›, which was not given.",
                 "Say ‹near=visit_date=drawn_on› too, or leave it out.")  # fmt: skip
        need(self.within or not self.near, "within", "‹near› needs a window.", "Say ‹within=30d›, 6h, or a number.")
        return self

    @property
    def pairs(self) -> KeyPairs:
        """The key columns in the base and in every added table of which nothing else was said."""
        return key_pairs(self.key)

    def pairs_of(self, file: str) -> KeyPairs:
        """The key columns in the base and in one added table.

        Examples
        --------
        >>> step = Merge(key=("pid", "visit", "b.csv:pid=person"))
        >>> step.pairs_of("a"), step.pairs_of("b")
        ((('pid', 'pid'), ('visit', 'visit')), (('pid', 'person'), ('visit', 'visit')))
        """
        own = dict(key_pair(word) for word in self.key if file_of(word) == file)
        general = dict(self.pairs)
        return tuple({**general, **own}.items())

    def names_given(self, role: str, file: str, others: Mapping[str, Table]) -> Mapping[str, str]:
        """The keys of an added file that are called differently there."""
        return {added: base for base, added in self.pairs_of(file) if base != added} if role == "added" else {}

    def require_files(self, files: Sequence[str]) -> None:
        """Stop where a key speaks of a file that is none of the added ones.

        Raises
        ------
        UsageError
            Naming the files that there are.
        """
        for word in self.key:
            if file_of(word) and file_of(word) not in files:
                raise UsageError(f'The key "{word}" names no added file.', todo=f"Added files are {', '.join(files)}.")

    @property
    def nearness(self) -> Near | None:
        """What nearest means; None where keys alone count."""
        if not self.near:
            return None
        base, added = compared_columns(self.near)
        within, unit = window_of(self.within)
        return Near(base, added, within, unit, self.side, self.ties, self.once)

    @property
    def always_taken(self) -> tuple[str, ...]:
        """Columns of an added table that are brought whatever was chosen."""
        near = self.nearness
        own = (key_pair(word)[1] for word in self.key)
        return tuple(dict.fromkeys([*own, *([near.added] if near is not None else [])]))

    @property
    def division(self) -> Division:
        """By key, where keys alone count."""
        base, added = (tuple(pair[side] for pair in self.pairs) for side in (0, 1))
        if any(file_of(word) for word in self.key):
            return Division()
        return Division("by key", {"base": base, "added": added})

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """All of the base; of the added table the keys and what is taken."""
        if role != "added" or not self.take:
            return None
        taken = columns_by_name(self.take, names)
        return None if taken is None else [*taken, *(name for name in self.always_taken if name in names)]
