"""Columns of different files that may be one variable under two names: alike in name, label or values."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from lomrix.core.combining import Combinable
from lomrix.core.table.column import Column, is_exact, join_types
from lomrix.core.table.numbers import Type
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_table

# Pairs of at least this likeness are proposed.
LIKE = 75.0
# Names of the same words are at least this alike.
SAME_WORDS = 95.0
# Values are compared if they are at most this many: codes, words, scores.
MOST_VALUES = 50
# Equal values add this to the likeness of the names; without a common value it is less.
FOR_VALUES = 15.0
# Equal words are likely the same variable, whatever it is called, if there are at least this many.
FEW_WORDS = 3
PAIR_HEADS = ("old", "new", "because")
WORDS = re.compile(r"[^\W_]+")


@dataclass(frozen=True)
class LikelyPair:
    """Two columns, their files, and why they may be one variable."""

    first: str
    second: str
    first_file: str
    second_file: str
    why: str


@dataclass(frozen=True)
class Held(Combinable):
    """What a column of a file holds: cells with a value, integers that are not exact as decimals, and its distinct
    values as texts, if these are compared and few.
    """

    present: int
    inexact: int
    values: frozenset[str] | None = frozenset()

    @classmethod
    def of(cls, column: Column, *, is_compared: bool) -> Held:
        """Find it in a column, or a part of one."""
        inexact = int(np.count_nonzero(~is_exact(column.values))) if column.type == "integer" else 0
        values: frozenset[str] | None = frozenset()
        if is_compared and column.type != "number" and len(column):
            distinct = column.to_text().unique().drop_null()
            values = frozenset(distinct.to_pylist()) if len(distinct) <= MOST_VALUES else None
        return cls(len(column) - column.missing_count, inexact, values)

    def combine(self, later: Held) -> Held:
        """Return what both parts hold."""
        both = None if self.values is None or later.values is None else self.values | later.values
        values = both if both is not None and len(both) <= MOST_VALUES else None
        return Held(self.present + later.present, self.inexact + later.inexact, values)


def survey_files(tables: Sequence[Table]) -> tuple[dict[str, Held], ...]:
    """Survey the columns of each file, or of parts of them."""
    return tuple(
        {
            name: Held.of(column, is_compared=any(name not in other.columns for other in tables))
            for name, column in table.columns.items()
        }
        for table in tables
    )


def find_likely_pairs(tables: Sequence[Table], survey: Sequence[Mapping[str, Held]]) -> list[LikelyPair]:
    """Return the likely pairs, the likeliest first; each column of a file once."""
    scored = []
    for (first, first_held), (second, second_held) in itertools.combinations(zip(tables, survey, strict=True), 2):
        first_only = [name for name in first.names if name not in second.columns]
        second_only = [name for name in second.names if name not in first.columns]
        for names in itertools.product(first_only, second_only):
            held = ((first[names[0]], first_held[names[0]]), (second[names[1]], second_held[names[1]]))
            if choose_type(held) is None:
                if score_likeness(*names) >= SAME_WORDS:
                    scored.append((LIKE, LikelyPair(*names, first.name, second.name, "alike in name, not in type")))
                continue
            own, other = (each.values or frozenset[str]() for _, each in held)
            score, why = score_pair(first, second, *names, compare_values(own, other))
            if score < LIKE and first[names[0]].type == "string" and own == other and len(own) >= FEW_WORDS:
                score, why = LIKE, "alike in values"
            if score >= LIKE:
                scored.append((score, LikelyPair(*names, first.name, second.name, why)))
    seen: set[tuple[str, str]] = set()
    result = []
    for _, pair in sorted(scored, key=lambda scored_pair: (-scored_pair[0], scored_pair[1].first)):
        columns = {(pair.first_file, pair.first), (pair.second_file, pair.second)}
        if not columns & seen:
            seen |= columns
            result.append(pair)
    return result


def choose_type(columns: Iterable[tuple[Column, Held]]) -> Type | None:
    """Return the narrowest type that holds all columns without loss, by what the whole of each holds; else None."""
    known = list(columns)
    types = {column.type for column, held in known if held.present}
    return join_types(types, known[0][0].type, lambda: not any(held.inexact for _, held in known))


def compare_values(first: frozenset[str], second: frozenset[str]) -> float | None:
    """Return the share of the values that both have; None if one has too few or too many to say."""
    return len(first & second) / len(first | second) if len(first) > 1 and len(second) > 1 else None


def score_pair(
    first: Table, second: Table, first_name: str, second_name: str, shared: float | None
) -> tuple[float, str]:
    """Return how likely two columns are the same variable, and why."""
    from rapidfuzz import fuzz

    labels = [table.dictionary.of(name).label for table, name in ((first, first_name), (second, second_name))]
    by_name = score_likeness(first_name, second_name)
    by_label = fuzz.token_sort_ratio(*labels, processor=str.casefold) if all(labels) else 0.0
    score, why = (by_label, "label") if by_label > by_name else (by_name, "name")
    if shared is None:
        return score, f"alike in {why}"
    if shared == 0:
        return score - FOR_VALUES, f"alike in {why}"
    return score + FOR_VALUES * shared, f"alike in {why} and values" if shared > 1 / 2 else f"alike in {why}"


def score_likeness(first_name: str, second_name: str) -> float:
    """Return how similar two names are, up to 100: the same words in another order or with one more are similar.

    >>> score_likeness("rest_days", "days_rest"), score_likeness("nap", "nap_min"), score_likeness("Crew", "crew")
    (95.0, 80.0, 95.0)
    >>> score_likeness("nap", "mood") < 75
    True
    """
    from rapidfuzz import fuzz

    first, second = (WORDS.findall(name.casefold()) for name in (first_name, second_name))
    if sorted(first) == sorted(second):
        return 95.0
    shorter, longer = sorted((set(first), set(second)), key=len)
    if shorter and shorter < longer and len(longer) == len(shorter) + 1:
        return 80.0
    return fuzz.ratio(first_name.casefold(), second_name.casefold())


def make_pair_table(pairs: Sequence[LikelyPair]) -> Table:
    """Return the pairs as a pair file: the second file's name becomes the first's."""
    rows = [(pair.second, pair.first, f"{pair.second_file} and {pair.first_file} are {pair.why}") for pair in pairs]
    return make_text_table(PAIR_HEADS, rows, "pairs")
