"""Settings of merge: keys, their expected relationship, and what happens to rows and columns."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal, Self

from pydantic import BeforeValidator, Field, model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import BY_COMMAS, Columns, Names, Setting, parse_spell, parsed_by
from lomrix.core.steps.step import Division, Extra, Role, Step, require
from lomrix.core.table.selection import choose_by_name

if TYPE_CHECKING:
    from lomrix.core.table.table import Table

KeyPairs = tuple[tuple[str, str], ...]
Relationship = Literal["one-to-one", "many-to-one", "one-to-many", "many-to-many"]
RowsKept = Literal["all", "matched", "base"]
OverlapRule = Literal["check", "base", "added", "fill", "both"]
Side = Literal["either", "before", "after"]
Ties = Literal["before", "after"]
TidyWord = Literal["spaces", "case", "zeros", "characters"]
SECOND_NAME = "{column}_from_{file}"
# More rows from many-to-many keys are probably a mistake.
MOST_ROWS = 20_000_000
WINDOW = re.compile(r"(\d+(?:\.\d+)?)\s*(d|h|min)?")
Unit = Literal["d", "h", "min", ""]


def get_file(key: str) -> str:
    """Return the file that a key is for, without folder and extension; empty for all files.

    >>> get_file("raw/b.csv:pid=person"), get_file("pid=person")
    ('b', '')
    """
    file, colon, _ = key.rpartition(":")
    return file.rpartition("/")[2].partition(".")[0].strip() if colon else ""


def parse_key_pair(key: str) -> tuple[str, str]:
    """Return a key's name in the base and in the added table.

    Raises UsageError if a name is empty.
    """
    base, equals, added = (part.strip() for part in key.rpartition(":")[2].partition("="))
    if not base or (equals and not added):
        raise UsageError(f'The key "{key}" is not a column name.', todo="Use ‹key=pid›, or ‹key=pid=person›.")
    return base, added or base


def parse_key_pairs(keys: Sequence[str]) -> KeyPairs:
    """Parse keys:

    `pid`, or `pid=person` if the added file has another name. A key with a file before it, `b.csv:pid=person`, applies
    to that file only; see `Merge.pairs_of`.

    Raises UsageError if a key is empty or a column is named twice.

    >>> parse_key_pairs(("pid", "visit=occasion"))
    (('pid', 'pid'), ('visit', 'occasion'))
    """
    pairs = [parse_key_pair(key) for key in keys if not get_file(key)]
    for key in keys:
        if get_file(key):
            parse_key_pair(key)
    for side in (0, 1):
        names = [pair[side] for pair in pairs]
        if len(set(names)) < len(names):
            raise UsageError(f"A key column is named twice: {', '.join(names)}.", todo="Name each key column once.")
    return tuple(pairs)


@dataclass(frozen=True)
class Near:
    """How the nearest partner is chosen: the compared columns, largest distance, its unit (`d`, `h`, `min`; empty for
    numbers), direction, which of two equally near is taken, and whether an added row is used at most once.
    """

    base: str
    added: str
    within: float
    unit: Unit = ""
    side: Side = "either"
    ties: Ties = "before"
    once: bool = False


def parse_window(text: str) -> tuple[float, Unit]:
    """Parse `30d`, `6h`, `15min` or `2.5`.

    Raises UsageError if it is none of these.

    >>> parse_window("30d"), parse_window("2.5")
    ((30.0, 'd'), (2.5, ''))
    """
    match = WINDOW.fullmatch(text.strip())
    if match is None:
        raise UsageError(f'The window "{text}" is not valid.', todo="Use ‹within=30d›, 6h, 15min, or a plain number.")
    unit: Unit = match[2] or ""  # type: ignore[assignment]
    return float(match[1]), unit


def parse_column_pair(text: str) -> tuple[str, str]:
    """Parse `visit_date=drawn_on`; one name is used for both.

    Raises UsageError if a side is empty.
    """
    base, equals, added = (part.strip() for part in text.partition("="))
    if not base or (equals and not added):
        raise UsageError(f'"{text}" does not name two columns.', todo="Use ‹near=visit_date=drawn_on›.")
    return base, added or base


@dataclass(frozen=True)
class During:
    """The spell that covers a row's day: the base's column, and the start and end of the added spells."""

    day: str
    start: str
    end: str


def parse_during(text: str) -> During:
    """Parse `day=from..until`.

    Raises UsageError if it does not name a column and a spell.

    >>> parse_during("visit_date=from..until")
    During(day='visit_date', start='from', end='until')
    """
    day, equals, spell = (part.strip() for part in text.partition("="))
    if not equals or not day:
        raise UsageError(f'"{text}" does not name a day and a spell.', todo="Use ‹during=visit_date=from..until›.")
    return During(day, *parse_spell(spell))


def rename_tidy_words(words: object) -> object:
    """Understand a former word, which plans and histories of earlier versions have."""
    return ["spaces" if word == "blanks" else word for word in words] if isinstance(words, list | tuple) else words


class Merge(Step):
    """Bring the columns of other tables to a base table by equal keys; the base's order is kept."""

    word: ClassVar[str] = "merge"
    implementation: ClassVar[str] = "lomrix.core.steps.merge.run:merge"
    cell_size: ClassVar[int] = 23
    keying: ClassVar[str] = "lomrix.core.steps.merge.tidy:make_keys"
    surveying: ClassVar[str] = "lomrix.core.steps.merge.run:survey"
    conclusion: ClassVar[str] = "lomrix.core.steps.merge.run:conclude"
    streaming: ClassVar[str] = "lomrix.core.steps.merge.lookup:merge_lookup"
    completing: ClassVar[str] = "lomrix.core.steps.merge.run:complete"
    simplifying: ClassVar[str] = "lomrix.core.steps.merge.each:merge_each"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("base", "The file that is built on; its row order is kept.", "BASE"),
        Role("added", "Files whose variables are added to it, in order.", "ADDED", many=True),
        Role("links", "Links from the base's ids to those of the added file.", "FILE", is_option=True, needed=False),
    )
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("unmatched", "Write all unmatched keys, with likely partners."),
        Extra("conflicts", "Write cells in which files differ as a ledger.", then=("correct", "ledger")),
    )

    key: Annotated[
        Names,
        parsed_by(parse_key_pairs),
        Setting(
            "Key column; pid=person, or b.csv:pid=person, if an added file has another name for it.", "COLUMN", "k"
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
    take: Annotated[Columns, Setting("Which columns of the added file to take.", "COLUMNS")] = ""
    status: Annotated[str, Setting("Add a column with the files that each row is in.", "NAME")] = ""
    tidy_keys: Annotated[
        tuple[TidyWord, ...],
        BeforeValidator(rename_tidy_words),
        BY_COMMAS,
        Setting("Ignore in keys: spaces, case, zeros (leading), characters (that look alike).", "WORDS"),
    ] = ()
    near: Annotated[
        str,
        parsed_by(parse_column_pair),
        Setting("Match the nearest date or number too: visit_date=drawn_on.", "COLUMN=COLUMN"),
    ] = ""
    within: Annotated[
        str, parsed_by(parse_window), Setting("Largest distance: 30d, 6h, 15min, or a number.", "WINDOW")
    ] = ""
    side: Annotated[Side, Setting("Match only earlier, only later, or either.")] = "either"
    ties: Annotated[Ties, Setting("Which of two at the same distance to use.")] = "before"
    once: Annotated[bool, Setting("Use each added row at most once.")] = False
    during: Annotated[
        str,
        parsed_by(parse_during),
        Setting("Match the spell that covers the day: visit_date=from..until.", "DAY=START..END"),
    ] = ""
    other_labels: Annotated[Literal["stop", "first"], Setting("What to do when a code has different labels.")] = "stop"
    most_rows: Annotated[int, Field(ge=1), Setting("Largest result of many-to-many keys.", "N")] = MOST_ROWS

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.key, "key", "No ‹key› was given.", "Name the column that the files share.")
        for name, given in (("within", self.within), ("once", self.once), ("side", self.side != "either"),
                           ("ties", self.ties != "before")):  # fmt: skip
            require(self.near or not given, name, f"‹{name}› requires ‹near›.",
                    "Add ‹near=visit_date=drawn_on›, or leave it out.")  # fmt: skip
        require(not (self.near and self.during), "during", "‹near› and ‹during› exclude each other.",
                "Use ‹near› for times, and ‹during› for spells with a start and an end.")  # fmt: skip
        require(self.expect == "many-to-many" or self.most_rows == MOST_ROWS, "most_rows",
                "‹most_rows› requires ‹expect=many-to-many›.",
                "Leave it out, or add ‹expect=many-to-many›.")  # fmt: skip
        require(self.within or not self.near, "within", "‹near› needs a window.", "Use ‹within=30d›, 6h, or a number.")
        return self

    @property
    def keeps_rows(self) -> bool:
        """Whether every row stays."""
        return self.rows != "matched"

    @property
    def division(self) -> Division:
        """By key; one of a single file is known where that is merged."""
        base, added = zip(*map(parse_key_pair, self.key), strict=True)
        return Division("by key", {"base": base, "added": added})

    @property
    def pairs(self) -> KeyPairs:
        """The key columns in the base and in every added table without keys of its own."""
        return parse_key_pairs(self.key)

    def pairs_of(self, file: str) -> KeyPairs:
        """Return the key columns in the base and in one added table.

        >>> step = Merge(key=("pid", "visit", "b.csv:pid=person"))
        >>> step.pairs_of("a"), step.pairs_of("b")
        ((('pid', 'pid'), ('visit', 'visit')), (('pid', 'person'), ('visit', 'visit')))
        """
        own_pairs = dict(parse_key_pair(key) for key in self.key if get_file(key) == file)
        pairs = dict(self.pairs)
        return tuple({**pairs, **own_pairs}.items())

    def list_renames(self, role: str, file: str, others: Mapping[str, Table]) -> Mapping[str, str]:
        """Return the keys that have another name in an added file."""
        return {added: base for base, added in self.pairs_of(file) if base != added} if role == "added" else {}

    def require_files(self, files: Sequence[str]) -> None:
        """Stop if a key is for a file that is not among the added ones.

        Raises UsageError naming the added files.
        """
        for key in self.key:
            if get_file(key) and get_file(key) not in files:
                raise UsageError(f'The key "{key}" names no added file.', todo=f"Added files are {', '.join(files)}.")

    @property
    def nearness(self) -> Near | None:
        """How the nearest partner is chosen; None if only keys matter."""
        if not self.near:
            return None
        base, added = parse_column_pair(self.near)
        within, unit = parse_window(self.within)
        return Near(base, added, within, unit, self.side, self.ties, self.once)

    @property
    def compared_columns(self) -> tuple[str, ...]:
        """Columns of an added table that decide, beside keys, which rows match."""
        if self.during:
            during = parse_during(self.during)
            return during.start, during.end
        return (parse_column_pair(self.near)[1],) if self.near else ()

    @property
    def required_columns(self) -> tuple[str, ...]:
        """Columns of an added table that are taken whatever is chosen."""
        return tuple(dict.fromkeys([*(parse_key_pair(key)[1] for key in self.key), *self.compared_columns]))

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """Return all columns of the base; of the added table the keys and what is taken."""
        if role != "added" or not self.take:
            return None
        chosen = choose_by_name(self.take, names)
        return None if chosen is None else [*chosen, *(name for name in self.required_columns if name in names)]
