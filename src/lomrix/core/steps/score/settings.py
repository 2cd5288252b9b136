"""Settings of score."""

from __future__ import annotations

from typing import Annotated, ClassVar, Self

from pydantic import Field, model_validator

from lomrix.core.steps.settings import Columns, Names, Setting, parsed_by
from lomrix.core.steps.step import ANY_ROWS, Division, Role, Step, require
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.table.scale import Method, Scale, parse_span


class Score(Step):
    """Score items as a scale: a sum or a mean, with reverse-scored items and a minimum of items."""

    word: ClassVar[str] = "score"
    implementation: ClassVar[str] = "lomrix.core.steps.score.run:score_items"
    surveying: ClassVar[str] = "lomrix.core.steps.score.run:survey"
    checking: ClassVar[str] = "lomrix.core.steps.score.run:check"
    conclusion: ClassVar[str] = "lomrix.core.steps.score.run:conclude"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file that holds the items."),)

    name: Annotated[str, Setting("Name of the score; without it the dictionary's scales are scored.", "NAME")] = ""
    items: Annotated[Columns, Setting("The items.", "COLUMNS")] = ""
    reverse: Annotated[Columns, Setting("Items to reverse-score.", "COLUMNS")] = ""
    span: Annotated[
        str,
        parsed_by(parse_span),
        Setting("Lowest and highest score of an item; other scores are an error.", "LOW:HIGH"),
    ] = ""
    method: Annotated[Method, Setting("How the items are combined.")] = "sum"
    at_least: Annotated[
        int, Field(ge=0), Setting("Minimum number of present items; sums are prorated. 0: all.", "N")
    ] = 0
    scale: Annotated[Names, Setting("Which of the dictionary's scales; all by default.", "NAMES")] = ()
    header: Annotated[
        str,
        parsed_by(HeaderTemplate.parse),
        Setting("In a wide file, how names combine item and occasion.", "TEMPLATE"),
    ] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(bool(self.name) == bool(self.items), "items" if self.name else "name",
                "A score needs a name, and its items.", "Use ‹name=fatigue› and ‹items=f1..f6›.")  # fmt: skip
        given = self.reverse or self.span or self.at_least or self.method != "sum"
        require(self.name or not given, "name", "These options describe a score, but no ‹name› was given.",
                "Use ‹name=fatigue› and ‹items=f1..f6›, or put it into the dictionary: [scales.fatigue].")  # fmt: skip
        require(not (self.name and self.scale), "scale",
                "‹scale› is for scales of the dictionary, ‹name› for a score of your own.",
                "Use one of them.")  # fmt: skip
        return self

    @property
    def division(self) -> Division:
        """Any rows go together."""
        return ANY_ROWS

    @property
    def stated_scale(self) -> Scale:
        """The scale as stated in the settings."""
        parts = {"items": self.items, "reverse": self.reverse, "span": self.span}
        return Scale(**parts, method=self.method, at_least=self.at_least)
