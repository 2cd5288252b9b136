"""Aggregate as it is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Self

from pydantic import Field, model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Names, Setting, Texts, parsed_by
from lomrix.core.steps.step import Division, Role, Step, need
from lomrix.core.table.selection import columns_by_name

COUNTING = ("n", "missing")
COMPUTED = ("mean", "sd", "median", "min", "max", "sum")
KNOWN = (*COUNTING, *COMPUTED)
EXAMPLE = "Say ‹stat=sleep,heart_rate: n mean sd›."
Asked = tuple[tuple[str, tuple[str, ...]], ...]


def statistics_asked(words: Sequence[str]) -> Asked:
    """Read `sleep,hr: n mean sd`.

    Raises
    ------
    UsageError
        Where there is no colon, or a statistic is not known.

    Examples
    --------
    >>> statistics_asked(("sleep,hr: n mean",))
    (('sleep,hr', ('n', 'mean')),)
    """
    asked = []
    for word in words:
        columns, colon, names = word.rpartition(":")
        wanted = tuple(names.replace(",", " ").split())
        if not colon or not columns.strip() or not wanted:
            raise UsageError(f'"{word}" does not say which statistics of which columns.', todo=EXAMPLE)
        for name in wanted:
            if name not in KNOWN:
                raise UsageError(f"There is no statistic {name}.", todo=f"Statistics are {' '.join(KNOWN)}.")
        asked.append((columns.strip(), wanted))
    return tuple(asked)


class Aggregate(Step):
    """Compute statistics of groups: one row per group."""

    word: ClassVar[str] = "aggregate"
    done_by: ClassVar[str] = "lomrix.core.steps.aggregate.run:aggregated"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file whose rows are put together."),)

    by: Annotated[Names, Setting("The columns whose values make the groups.", "COLUMNS")]
    stat: Annotated[
        Texts,
        parsed_by(statistics_asked),
        Setting(f"Statistics wanted: {' '.join(KNOWN)}.", "'COLUMNS: WORDS'"),
    ] = ()
    attach: Annotated[bool, Setting("Put the statistics beside every row instead.")] = False
    min_n: Annotated[int, Field(ge=0), Setting("Statistics of fewer values are missing, too-few.", "N")] = 0

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(self.by, "by", "No ‹by› was given.", "Name the columns whose values make the groups.")
        return self

    @property
    def statistics(self) -> Asked:
        """Pairs: a choice of columns, and the statistics wanted of each."""
        return statistics_asked(self.stat)

    @property
    def division(self) -> Division:
        """By group."""
        return Division("by key", {"source": self.by})

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The grouping columns and those that statistics are asked of."""
        if self.attach:
            return None
        return columns_by_name(",".join([*self.by, *(words for words, _ in self.statistics)]), names)
