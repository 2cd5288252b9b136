"""Recode as it is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.recode.value_map import Pair, value_map
from lomrix.core.steps.settings import Setting, Texts, parsed_by
from lomrix.core.steps.step import ANY_ROWS, Division, Role, Step, need
from lomrix.core.table.numbers import is_number

Rest = Literal["keep", "missing", "refuse"]
Order = Literal["given", "appearance", "alphabet"]


def span_of(text: str) -> tuple[float, float]:
    """Read `0:3`.

    Raises
    ------
    UsageError
        Where it is not two numbers, the smaller first.

    Examples
    --------
    >>> span_of("0:3")
    (0.0, 3.0)
    """
    ends = [end.strip() for end in text.split(":")]
    if len(ends) != 2 or not all(map(is_number, ends)) or float(ends[0]) >= float(ends[1]):
        raise UsageError(f'The span "{text}" is not clear.', todo="Say ‹span=0:3›, the lowest score first.")
    return float(ends[0]), float(ends[1])


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
    to_codes: Annotated[str, Setting("Turn texts into codes 1, 2, 3 …, with labels.", "COLUMNS")] = ""
    order: Annotated[Order, Setting("How those codes are counted.")] = "given"
    to_labels: Annotated[str, Setting("Put labels in place of codes.", "COLUMNS")] = ""
    reverse: Annotated[str, Setting("Turn the scores of items round in their span.", "COLUMNS")] = ""
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
