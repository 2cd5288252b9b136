"""Settings of derive."""

from __future__ import annotations

import ast
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, ClassVar, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.language.parse import find_needs, is_by_case, is_by_row, parse
from lomrix.core.steps.settings import Names, Setting, Texts, parsed_by, require_distinct
from lomrix.core.steps.step import ANY_ROWS, WHOLE, Division, HelpTopic, Role, Step, require
from lomrix.core.table.selection import choose_columns
from lomrix.core.wording import format_operand

# The equals sign after a name, which is not part of ==, <=, >= or !=.
EQUALS = re.compile(r"(?<![=<>!])=(?!=)")
MANY = re.compile(r"[@*?\[,]|\.\.|::")
OLD = "{old}"
EXAMPLE = 'Write "sleep_h = sleep / 60"; for many columns at once "@string = strip(@string)".'


@dataclass(frozen=True)
class Assignment:
    """One assignment: a new variable, or a choice of columns, and its expression."""

    left: str  # the new variable, or a choice of columns, and the expression as typed
    right: str
    # for a choice of columns, the names of the results, such as `{old}_h`; empty where they take the columns' places
    naming: str
    is_many: bool  # whether the left side is a choice of columns

    def expression_for(self, name: str) -> str:
        """Return the expression for one of many columns, with the choice replaced by that column."""
        parts = re.split(r"""('(?:\\.|[^'\\])*'|"(?:\\.|[^"\\])*")""", self.right)
        parts[::2] = [part.replace(self.left, format_operand(name)) for part in parts[::2]]
        return "".join(parts)

    def list_variables(self, types: Mapping[str, str], table: str) -> list[tuple[str, str]]:
        """Return pairs of a new variable and its expression.

        Raises UsageError if the choice is empty.
        """
        if not self.is_many:
            return [(self.left, self.right)]
        return [
            ((self.naming or OLD).replace(OLD, name), self.expression_for(name))
            for name in choose_columns(self.left, types, table)
        ]


def parse_assignment(text: str) -> Assignment:
    """Parse `sleep_h = sleep / 60`.

    Raises UsageError if there is no name, or the expression is not valid.

    >>> parse_assignment("f1..f3 as {old}_r = 3 - f1..f3").naming
    '{old}_r'
    """
    equals = EQUALS.search(text)
    left, right = (text[: equals.start()].strip(), text[equals.end() :].strip()) if equals else ("", "")
    if not left or not right:
        raise UsageError(f'"{text}" is not of the form NAME = EXPRESSION.', todo=EXAMPLE)
    left, _, naming = (part.strip() for part in left.partition(" as ")) if OLD in left else (left, "", "")
    if naming and OLD not in naming:
        raise UsageError(f'"{naming}" would give all columns one name.', todo='Write "f1..f6 as {old}_r = 3 - f1..f6".')
    assignment = Assignment(left, right, naming, bool(naming or MANY.search(left)))
    parse(assignment.expression_for("x") if assignment.is_many else right)
    return assignment


def parse_assignments(texts: Sequence[str]) -> tuple[Assignment, ...]:
    """All assignments in turn."""
    return tuple(parse_assignment(text) for text in texts)


def parse_texts_by_name(texts: Sequence[str]) -> dict[str, str]:
    """Parse `sleep_h=Sleep in hours` for several variables.

    Raises UsageError if the name or the text is missing.
    """
    result = {}
    for pair in texts:
        name, _, text = (part.strip() for part in pair.partition("="))
        if not name or not text:
            raise UsageError(f'"{pair}" is not of the form NAME=TEXT.', todo="Write NAME=TEXT.")
        result[name] = text
    require_distinct([pair.partition("=")[0].strip() for pair in texts], "The text for")
    return result


def parse_renames(texts: Sequence[str]) -> dict[str, str]:
    """Parse `sex=gender, vessel=ship`.

    Raises UsageError if a name is missing, or two columns would get the same.
    """
    new_by_old = parse_texts_by_name([pair for text in texts for pair in text.split(",") if pair.strip()])
    repeated = {name for name in new_by_old.values() if list(new_by_old.values()).count(name) > 1}
    if repeated:
        raise UsageError(f"Two columns would be named {', '.join(sorted(repeated))}.", todo="Give each its own name.")
    return new_by_old


def parse_naming(text: str) -> tuple[str, str]:
    """Parse `f1..f6: {old}_w2`, or `{old}_w2` for all columns but the key.

    Raises UsageError if the new name does not include the old one.

    >>> parse_naming("f1..f6: {old}_w2"), parse_naming("{old}_w2")
    (('f1..f6', '{old}_w2'), ('', '{old}_w2'))
    """
    columns, _, naming = text.rpartition(":")
    if OLD not in naming:
        raise UsageError(f'"{text}" does not include {{old}}, the old name.', todo="Use ‹rename_with={old}_w2›.")
    return columns.strip(), naming.strip()


def parse_namings(texts: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """All templates in turn."""
    return tuple(map(parse_naming, texts))


class Derive(Step):
    """Compute new variables; rename variables."""

    word: ClassVar[str] = "derive"
    implementation: ClassVar[str] = "lomrix.core.steps.derive.run:derive"
    surveying: ClassVar[str] = "lomrix.core.steps.derive.run:survey"
    conclusion: ClassVar[str] = "lomrix.core.steps.derive.run:conclude"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to add variables to."),)
    asides: ClassVar[tuple[HelpTopic, ...]] = (
        HelpTopic(
            "functions",
            "Show the functions of the language, and stop.",
            "lomrix.core.steps.derive.run:list_functions",
        ),
    )

    expressions: Annotated[
        Texts,
        parsed_by(parse_assignments),
        Setting("Each new variable; one may use those before it.", "'NAME = EXPRESSION'", positional=True),
    ] = ()
    case: Annotated[Names, Setting("Column that names the case, for functions within a case.", "COLUMNS")] = ()
    occasion: Annotated[
        Names, Setting("Column that names the occasion, for functions that need the order.", "COLUMNS")
    ] = ()
    replace: Annotated[bool, Setting("Allow a new variable to replace an old one.")] = False
    label: Annotated[Texts, parsed_by(parse_texts_by_name), Setting("Label of a new variable.", "NAME=TEXT")] = ()
    unit: Annotated[Texts, parsed_by(parse_texts_by_name), Setting("Unit of a new variable.", "NAME=TEXT")] = ()
    after: Annotated[str, Setting("Put new variables after this column, not at the end.", "COLUMN")] = ""
    rename: Annotated[
        Texts, parsed_by(parse_renames), Setting("New names, given after everything is computed.", "OLD=NEW, …")
    ] = ()
    rename_with: Annotated[
        Texts, parsed_by(parse_namings), Setting("New names for several: 'f1..f6: {old}_w2'.", "'[COLUMNS:] TEMPLATE'")
    ] = ()

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        asked = self.expressions or self.rename or self.rename_with
        require(asked, "expressions", "No expression was given.", EXAMPLE)
        require(self.expressions or not (self.label or self.unit or self.after), "expressions",
                "‹label›, ‹unit› and ‹after› concern new variables, and there are none.", EXAMPLE)  # fmt: skip
        return self

    @property
    def idle(self) -> Mapping[str, str]:
        """Case and occasion, if no expression looks at other rows of a case."""
        needs = find_needs(self._trees)
        return {
            name: "no expression uses other rows of a case"
            for name in ("case", "occasion")
            if getattr(self, name) and name not in needs
        }

    @property
    def _trees(self) -> list[ast.expr]:
        """The expressions; of one for several columns that of one of them."""
        assignments = parse_assignments(self.expressions)
        return [parse(one.expression_for("x") if one.is_many else one.right) for one in assignments]

    @property
    def keeps_rows(self) -> bool:
        """Whether every row stays."""
        return True

    @property
    def memory_per_cell(self) -> int:
        """Less if each row is used on its own."""
        return 18 if self.division.kind == "any rows" else self.cell_size

    @property
    def division(self) -> Division:
        """Each row on its own, or the rows of each case, unless an expression uses those of several."""
        assignments, trees = parse_assignments(self.expressions), self._trees
        if all(map(is_by_row, trees)):
            return ANY_ROWS
        new = {one.left for one in assignments}
        is_known = len(assignments) == 1 or not any(one.is_many for one in assignments)
        stays_in_case = self.case and is_known and all(is_by_case(tree, new) for tree in trees)
        return Division("by key", {"source": self.case}) if stays_in_case else WHOLE
