"""Score as it is asked for."""

from __future__ import annotations

from typing import Annotated, ClassVar, Self

from pydantic import Field, model_validator

from lomrix.core.steps.settings import Columns, Names, Setting, parsed_by
from lomrix.core.steps.step import Role, Step, need
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.scale import Method, Scale, span_of


class Score(Step):
    """Score items as a scale: a sum or a mean, items turned round, too few items told."""

    word: ClassVar[str] = "score"
    done_by: ClassVar[str] = "lomrix.core.steps.score.run:scored"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file that holds the items."),)

    name: Annotated[str, Setting("Name of the score; without it the dictionary's scales are scored.", "NAME")] = ""
    items: Annotated[Columns, Setting("The items.", "COLUMNS")] = ""
    reverse: Annotated[Columns, Setting("Items that are worded the other way round.", "COLUMNS")] = ""
    span: Annotated[
        str, parsed_by(span_of), Setting("Lowest and highest score of an item; others stop the work.", "LOW:HIGH")
    ] = ""
    method: Annotated[Method, Setting("What the score is of its items.")] = "sum"
    at_least: Annotated[
        int, Field(ge=0), Setting("So many items must be present, a sum being prorated; 0 is all.", "N")
    ] = 0
    scale: Annotated[Names, Setting("Which of the dictionary's scales; all where none is named.", "NAMES")] = ()
    header: Annotated[
        str,
        parsed_by(HeaderTemplate.parsed),
        Setting("In a wide file, how item and occasion stand in a name.", "TEMPLATE"),
    ] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(bool(self.name) == bool(self.items), "items" if self.name else "name",
             "A score needs a name, and its items.", "Say ‹name=fatigue› and ‹items=f1..f6›.")  # fmt: skip
        said = self.reverse or self.span or self.at_least or self.method != "sum"
        need(self.name or not said, "name", "Something is said of a score that was not named.",
             "Say ‹name=fatigue› and ‹items=f1..f6›, or put it into the dictionary: [scales.fatigue].")  # fmt: skip
        need(not (self.name and self.scale), "scale", "A scale of the dictionary and a score of your own were named.",
             "Ask for one of them.")  # fmt: skip
        return self

    @property
    def own(self) -> Scale:
        """The scale that was said, and not taken from the dictionary."""
        parts = {"items": self.items, "reverse": self.reverse, "span": self.span}
        return Scale(**parts, method=self.method, at_least=self.at_least)
