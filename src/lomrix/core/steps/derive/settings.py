"""Derive as it is asked for."""

from __future__ import annotations

import keyword
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, ClassVar, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.language.parse import is_by_row, parsed
from lomrix.core.steps.settings import Names, Setting, Texts, parsed_by, require_distinct
from lomrix.core.steps.step import ANY_ROWS, WHOLE, Aside, Division, Role, Step, need
from lomrix.core.table.selection import chosen_columns

# The equals sign that stands after a name, and is no part of ==, <=, >= or !=.
EQUALS = re.compile(r"(?<![=<>!])=(?!=)")
MANY = re.compile(r"[@*?\[,]|\.\.|::")
OLD = "{old}"
EXAMPLE = 'Say "sleep_h = sleep / 60"; for many columns at once "@string = strip(@string)".'


def as_operand(name: str) -> str:
    """A column as it stands in an expression: by its name alone, where that can be one there."""
    return name if name.isidentifier() and not keyword.iskeyword(name) else f"column({name!r})"


@dataclass(frozen=True)
class Assignment:
    """What becomes of an expression.

    Parameters
    ----------
    left, right
        The new variable, or a choice of columns, and the expression as typed.
    naming
        For a choice of columns, the names of the results, such as `{old}_h`; empty where they take the columns' places.
    is_many
        Whether the left side is a choice of columns.
    """

    left: str
    right: str
    naming: str
    is_many: bool

    def expression_for(self, name: str) -> str:
        """The expression for one of many columns: the choice, wherever it stands, is that column."""
        parts = re.split(r"""('(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*")""", self.right)
        parts[::2] = [part.replace(self.left, as_operand(name)) for part in parts[::2]]
        return "".join(parts)

    def named(self, types: Mapping[str, str], table: str) -> list[tuple[str, str]]:
        """Pairs of a new variable and its expression.

        Parameters
        ----------
        types, table
            The columns that there are, with their types, and how messages call the table.

        Raises
        ------
        UsageError
            Where the choice names none.
        """
        if not self.is_many:
            return [(self.left, self.right)]
        return [
            ((self.naming or OLD).replace(OLD, name), self.expression_for(name))
            for name in chosen_columns(self.left, types, table)
        ]


def assignment_of(text: str) -> Assignment:
    """Read `sleep_h = sleep / 60`.

    Raises
    ------
    UsageError
        Where there is no name, or the expression cannot be understood.

    Examples
    --------
    >>> assignment_of("f1..f3 as {old}_r = 3 - f1..f3").naming
    '{old}_r'
    """
    sign = EQUALS.search(text)
    left, right = (text[: sign.start()].strip(), text[sign.end() :].strip()) if sign else ("", "")
    if not left or not right:
        raise UsageError(f'"{text}" does not say which variable is to be what.', todo=EXAMPLE)
    left, _, naming = (part.strip() for part in left.partition(" as ")) if OLD in left else (left, "", "")
    if naming and OLD not in naming:
        raise UsageError(f'"{naming}" would give all columns one name.', todo='Say "f1..f6 as {old}_r = 3 - f1..f6".')
    made = Assignment(left, right, naming, bool(naming or MANY.search(left)))
    parsed(made.expression_for("x") if made.is_many else right)
    return made


def assignments_of(words: Sequence[str]) -> tuple[Assignment, ...]:
    """All assignments in turn."""
    return tuple(assignment_of(word) for word in words)


def said_of_names(words: Sequence[str]) -> dict[str, str]:
    """Read `sleep_h=Sleep in hours` for several variables.

    Raises
    ------
    UsageError
        Where there is no name or nothing is said of it.
    """
    told = {}
    for word in words:
        name, _, text = (part.strip() for part in word.partition("="))
        if not name or not text:
            raise UsageError(f'"{word}" does not say of which variable, and what.', todo="Say NAME=TEXT.")
        told[name] = text
    require_distinct([word.partition("=")[0].strip() for word in words], "The text for")
    return told


def renamed_to(words: Sequence[str]) -> dict[str, str]:
    """Read `sex=gender, vessel=ship`.

    Raises
    ------
    UsageError
        Where a name is wanting, or two columns would get one.
    """
    told = said_of_names([pair for word in words for pair in word.split(",") if pair.strip()])
    twice = {name for name in told.values() if list(told.values()).count(name) > 1}
    if twice:
        raise UsageError(f"Two columns would be named {', '.join(sorted(twice))}.", todo="Give each its own name.")
    return told


def naming_of(text: str) -> tuple[str, str]:
    """Read `f1..f6: {old}_w2`, or `{old}_w2` for all columns but the key.

    Raises
    ------
    UsageError
        Where the old name has no place in the new one.

    Examples
    --------
    >>> naming_of("f1..f6: {old}_w2"), naming_of("{old}_w2")
    (('f1..f6', '{old}_w2'), ('', '{old}_w2'))
    """
    columns, _, naming = text.rpartition(":")
    if OLD not in naming:
        raise UsageError(
            f'"{text}" does not say how the old name becomes the new one.', todo="Say ‹rename_with={old}_w2›."
        )
    return columns.strip(), naming.strip()


def namings_of(words: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """All templates in turn."""
    return tuple(map(naming_of, words))


class Derive(Step):
    """Compute new variables; rename variables."""

    word: ClassVar[str] = "derive"
    done_by: ClassVar[str] = "lomrix.core.steps.derive.run:derived"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to add variables to."),)
    asides: ClassVar[tuple[Aside, ...]] = (
        Aside(
            "functions", "Show the functions of the language, and stop.", "lomrix.core.steps.derive.functions:listings"
        ),
    )

    expressions: Annotated[
        Texts,
        parsed_by(assignments_of),
        Setting("What each new variable is; one may use those before it.", "'NAME = EXPRESSION'", place=True),
    ] = ()
    case: Annotated[Names, Setting("Who a row is of, for functions within a case.", "COLUMNS")] = ()
    occasion: Annotated[Names, Setting("When a row was measured, for functions that go by that.", "COLUMNS")] = ()
    replace: Annotated[bool, Setting("Let a new variable take the place of an old one.")] = False
    label: Annotated[Texts, parsed_by(said_of_names), Setting("Label of a new variable.", "NAME=TEXT")] = ()
    unit: Annotated[Texts, parsed_by(said_of_names), Setting("Unit of a new variable.", "NAME=TEXT")] = ()
    after: Annotated[str, Setting("Put new variables behind this column, not at the end.", "COLUMN")] = ""
    rename: Annotated[
        Texts, parsed_by(renamed_to), Setting("New names, given after all is computed.", "OLD=NEW, …")
    ] = ()
    rename_with: Annotated[
        Texts, parsed_by(namings_of), Setting("New names for several: 'f1..f6: {old}_w2'.", "'[COLUMNS:] TEMPLATE'")
    ] = ()

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        asked = self.expressions or self.rename or self.rename_with
        need(asked, "expressions", "Nothing to derive was named.", EXAMPLE)
        need(self.expressions or not (self.label or self.unit or self.after), "expressions",
             "‹label›, ‹unit› and ‹after› say something of new variables, and none was named.", EXAMPLE)  # fmt: skip
        return self

    @property
    def division(self) -> Division:
        """Each row on its own, unless an expression looks at other rows."""
        trees = (
            parsed(one.expression_for("x") if one.is_many else one.right) for one in assignments_of(self.expressions)
        )
        return ANY_ROWS if all(map(is_by_row, trees)) else WHOLE
