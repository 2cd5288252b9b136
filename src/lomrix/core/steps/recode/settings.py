"""Settings of recode."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.steps.recode.value_map import Pair, parse_map
from lomrix.core.steps.settings import Columns, Setting, Texts, parsed_by
from lomrix.core.steps.step import ANY_ROWS, Division, Role, Step, require
from lomrix.core.table.scale import parse_span

Rest = Literal["keep", "missing", "refuse"]
Order = Literal["given", "appearance", "alphabet"]


def parse_maps(texts: Sequence[str]) -> tuple[tuple[str, tuple[Pair, ...]], ...]:
    """Return the choice of columns and the pairs of each map."""
    return tuple(parse_map(text) for text in texts)


class Recode(Step):
    """Recode whole values: to other values, codes, labels, or a missing reason."""

    word: ClassVar[str] = "recode"
    repeats_notes: ClassVar[frozenset[str]] = frozenset({"coded", "several-answers"})
    implementation: ClassVar[str] = "lomrix.core.steps.recode.run:recode"
    surveying: ClassVar[str] = "lomrix.core.steps.recode.run:survey"
    cell_size: ClassVar[int] = 18
    roles: ClassVar[tuple[Role, ...]] = (
        Role("source", "The file to recode."),
        Role("map_file", "Table of columns variable, old, new.", "FILE", is_option=True, needed=False, content="texts"),
    )

    map: Annotated[
        Texts,
        parsed_by(parse_maps),
        Setting("Values; also 0 to 9=low, others=high, 99=missing:refused.", "'COLUMNS: OLD=NEW, …'"),
    ] = ()
    others: Annotated[Rest, Setting("Values that a map does not name.")] = "keep"
    into: Annotated[str, Setting("Put the result into a new column; {column} is the old one's name.", "NAME")] = ""
    to_codes: Annotated[
        Columns,
        Setting("Turn texts into codes with labels: 1, 2, 3 …, or 4 of 4 = often.", "COLUMNS"),
    ] = ""
    order: Annotated[Order, Setting("Order of the codes.")] = "given"
    to_labels: Annotated[Columns, Setting("Put labels in place of codes.", "COLUMNS")] = ""
    to_answers: Annotated[
        Columns, Setting("A column of 0 and 1 for each answer, where cells have several: 1;3.", "COLUMNS")
    ] = ""
    reverse: Annotated[Columns, Setting("Reverse the scores of items.", "COLUMNS")] = ""
    span: Annotated[
        str, parsed_by(parse_span), Setting("Lowest and highest score of the reversed items.", "LOW:HIGH")
    ] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        require(
            self.span or not self.reverse, "span", "Reverse scoring needs the span of the items.", "Use ‹span=0:3›."
        )
        require(self.reverse or not self.span, "reverse", "‹span› requires ‹reverse›.",
                "Name the items with ‹reverse›, or leave ‹span› out.")  # fmt: skip
        require(self.to_codes or self.order == "given", "order", "‹order› requires ‹to_codes›.",
                "Name the columns with ‹to_codes›, or leave ‹order› out.")  # fmt: skip
        return self

    @property
    def keeps_rows(self) -> bool:
        """Whether every row stays."""
        return True

    @property
    def division(self) -> Division:
        """Each row on its own."""
        return ANY_ROWS

    @property
    def maps(self) -> tuple[tuple[str, tuple[Pair, ...]], ...]:
        """The maps: a choice of columns, and the pairs of old and new values."""
        return parse_maps(self.map)
