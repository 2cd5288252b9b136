"""Settings of stack."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Names, Setting, parsed_by, require_distinct
from lomrix.core.steps.step import ANY_ROWS, NOTHING, Division, Extra, Role, Step, require
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.wording import split_list

if TYPE_CHECKING:
    from lomrix.core.table.table import Table

Repeated = Literal["stop", "first", "last", "keep"]


def parse_mark(text: str) -> tuple[str, tuple[str, ...], HeaderTemplate | None]:
    """Parse `wave=0,6`, or `wave=fatigue_m{wave}` if the files' names hold the marks, or `wave` if they are the marks,
    into the column's name and the marks or the template.

    Raises UsageError if it is not valid.

    >>> parse_mark("wave=0, 6")[:2]
    ('wave', ('0', '6'))
    """
    name, equals, value = (part.strip() for part in text.partition("="))
    if name and not equals:
        value = f"{{{name}}}"
    if not name or not value or "{" in name:
        raise UsageError(f'The mark "{text}" is not valid.', todo="Use ‹mark=wave=0,6› or ‹mark=wave=fatigue_m{wave}›.")
    if "{" not in value:
        return name, split_list(value), None
    template = HeaderTemplate.parse(value, measure_needed=False)
    if len(template.parts) != 3:
        raise UsageError(f'The mark "{text}" is not valid.', todo="Use one pair of braces.")
    return name, (), template


def parse_pairs(texts: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """Parse `old=new`.

    Raises UsageError if a pair is not valid.
    """
    pairs = []
    for text in texts:
        old, equals, new = (part.strip() for part in text.partition("="))
        if not equals or not old or not new:
            raise UsageError(f'The pair "{text}" is not valid.', todo="Use ‹pair=old_name=new_name›.")
        pairs.append((old, new))
    require_distinct([old for old, _ in pairs], "The new name of")
    return tuple(pairs)


class Stack(Step):
    """Add cases or waves: append files to each other, by column name."""

    word: ClassVar[str] = "stack"
    implementation: ClassVar[str] = "lomrix.core.steps.stack.repeated:stack_files"
    simplifying: ClassVar[str] = "lomrix.core.steps.stack.repeated:stack_cases"
    surveying: ClassVar[str] = "lomrix.core.steps.stack.run:survey"
    checking: ClassVar[str] = "lomrix.core.steps.stack.run:check"
    in_study_beside: ClassVar[Mapping[str, str]] = {"case": "mark"}
    roles: ClassVar[tuple[Role, ...]] = (
        Role("source", "The files, in order.", many=True),
        Role("pair_file", "Table of columns old, new.", "FILE", is_option=True, needed=False, content="texts"),
    )
    gives: ClassVar[tuple[Extra, ...]] = (
        Extra("draft_pairs", "Write columns that may be one variable as a pair file to edit.",
              then=("stack", "pair_file")),
    )  # fmt: skip

    mark: Annotated[
        str,
        parsed_by(parse_mark),
        Setting("Mark the rows: wave=0,6, or wave=fatigue_m{wave} from file names; wave for these.", "NAME=VALUES"),
    ] = ""
    columns: Annotated[Literal["all", "shared"], Setting("All columns of all files, or only the shared ones.")] = "all"
    pair: Annotated[Names, parsed_by(parse_pairs), Setting("A column with another name in some files.", "OLD=NEW")] = ()
    case: Annotated[Names, Setting("Columns that, with the mark, uniquely identify rows.", "COLUMNS")] = ()
    repeated: Annotated[Repeated, Setting("What to do with several rows of one case and occasion.")] = "stop"
    other_labels: Annotated[Literal["stop", "first"], Setting("What to do when a code has different labels.")] = "stop"

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(self.case or self.repeated == "stop", "repeated", "Without ‹case› no row repeats another.",
                "Use ‹case=COLUMN› too.")  # fmt: skip
        return self

    @property
    def keeps_rows(self) -> bool:
        """Whether every row stays."""
        return not self.case

    @property
    def division(self) -> Division:
        """By rows; those that repeat are looked for in the result."""
        return ANY_ROWS

    def can_divide(self, wanted: Collection[str] = (), given: Mapping[str, int] = NOTHING) -> bool:
        """As for every step; a draft of pairs is made from whole files."""
        return super().can_divide(wanted, given) and "draft_pairs" not in wanted

    @property
    def mark_name(self) -> str:
        """The column that says which file a row is of; empty where there is none."""
        return parse_mark(self.mark)[0] if self.mark else ""

    def list_renames(self, role: str, file: str, others: Mapping[str, Table]) -> Mapping[str, str]:
        """The pairs, as typed and as a file holds them."""
        from lomrix.core.table.texts import read_text_rows, require_heads

        pairs = list(parse_pairs(self.pair))
        if "pair_file" in others:
            require_heads(others["pair_file"], ("old", "new"), "pair file")
            pairs += [(row["old"], row["new"]) for row in read_text_rows(others["pair_file"])]
        return dict(pairs)

    def marks(self, files: Sequence[str]) -> tuple[str, ...]:
        """The mark of each file.

        Raises UsageError if there are more or fewer marks than files, or a file's name does not fit the template.
        """
        name, marks, template = parse_mark(self.mark)
        if template is not None:
            readings = [template.read(file) for file in files]
            for file, reading in zip(files, readings, strict=True):
                if reading is None:
                    raise UsageError(f'The file name {file} does not fit "{template.text}".', todo="Check ‹mark›.")
            return tuple(next(iter(reading.values())) for reading in readings if reading is not None)
        if len(marks) != len(files):
            message = f"{len(marks)} mark{'' if len(marks) == 1 else 's'}"
            raise UsageError(
                f"There are {len(files)} files and {message} for them.",
                todo=f"Use ‹mark={name}=…› with one value for each file, commas between.",
            )
        return marks

    @property
    def told_apart_by(self) -> tuple[str, ...]:
        """The case and the mark."""
        return (*self.case, *([self.mark_name] if self.mark else ()))
