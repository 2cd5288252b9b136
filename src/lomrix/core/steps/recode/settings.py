"""Recode as it is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.steps.recode.value_map import Pair, value_map
from lomrix.core.steps.settings import Columns, Setting, Texts, parsed_by
from lomrix.core.steps.step import ANY_ROWS, Division, Role, Step, need
from lomrix.core.table.scale import span_of

Rest = Literal["keep", "missing", "refuse"]
Order = Literal["given", "appearance", "alphabet"]


def maps_of(words: Sequence[str]) -> tuple[tuple[str, tuple[Pair, ...]], ...]:
    """The choice of columns and the pairs of each map."""
    return tuple(value_map(word) for word in words)


class Recode(Step):
    """Recode whole values: to other values, codes, labels, or a missing reason."""

    word: ClassVar[str] = "recode"
    done_by: ClassVar[str] = "lomrix.core.steps.recode.run:recoded"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("source", "The file to recode."),
        Role("map_file", "Table of columns variable, old, new.", "FILE", "map_file", needed=False, content="texts"),
    )

    map: Annotated[
        Texts,
        parsed_by(maps_of),
        Setting("Values; also 0 to 9=low, others=high, 99=missing:refused.", "'COLUMNS: OLD=NEW, …'"),
    ] = ()
    others: Annotated[Rest, Setting("Values that a map does not name.")] = "keep"
    into: Annotated[str, Setting("Put it into a new column; {column} is the old one's name.", "NAME")] = ""
    to_codes: Annotated[Columns, Setting("Turn texts into codes 1, 2, 3 …, with labels.", "COLUMNS")] = ""
    order: Annotated[Order, Setting("How those codes are counted.")] = "given"
    to_labels: Annotated[Columns, Setting("Put labels in place of codes.", "COLUMNS")] = ""
    reverse: Annotated[Columns, Setting("Turn the scores of items round in their span.", "COLUMNS")] = ""
    span: Annotated[str, parsed_by(span_of), Setting("Span of the items that are turned round.", "LOW:HIGH")] = ""

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(self.span or not self.reverse, "span", "The span of the items is not named.", "Say ‹span=0:3›.")
        need(self.reverse or not self.span, "reverse", "‹span› says something of ‹reverse›, which was not given.",
             "Name the items with ‹reverse› too, or leave ‹span› out.")  # fmt: skip
        return self

    @property
    def maps(self) -> tuple[tuple[str, tuple[Pair, ...]], ...]:
        """The maps: a choice of columns, and the pairs of old and new values."""
        return maps_of(self.map)

    @property
    def division(self) -> Division:
        """Each cell is recoded on its own, unless codes are counted from the data."""
        return Division("whole") if self.to_codes else ANY_ROWS
