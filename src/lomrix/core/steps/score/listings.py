"""What is shown of scores: each of them in a line, their items, and what looks wrong."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from lomrix.core.arrays.statistics import Values
from lomrix.core.steps.account import Listing
from lomrix.core.steps.score.one_score import ScoreOf
from lomrix.core.table.notes import Note, plural

MOST_ITEM_LISTINGS = 6


def listings_of(scores: Sequence[ScoreOf]) -> Iterator[Listing]:
    """A line for each score, and a table of items for each of the first."""
    heads = ("score", "values", "mean", "sd", "smallest", "largest", "alpha", "rows for alpha")
    yield Listing("scores", heads, tuple(line_of(score) for score in scores), splits=True)
    for score in scores[:MOST_ITEM_LISTINGS]:
        yield items_of(score)


def line_of(score: ScoreOf) -> tuple[object, ...]:
    """One score: how many values, their mean and spread, and alpha."""
    values = score.column.values[~score.column.is_missing]
    all_in_one = Values(np.zeros(len(values), np.int64), values, 1)
    ends = (f"{values.min():g}", f"{values.max():g}") if len(values) else ("", "")
    mean, spread = float(all_in_one.mean[0]), float(all_in_one.standard_deviation[0])
    found = score.reliability
    return (score.name, len(values), told(mean), told(spread), *ends, told(found.alpha), found.n)


def items_of(score: ScoreOf) -> Listing:
    """The items of a score: which were turned round, and how each goes with the others."""
    found, lines = score.reliability, []
    for at, name in enumerate(score.items):
        column, cells = score.table[name], score.cells[at]
        present = cells[~column.is_missing]
        mean = told(float(present.mean())) if len(present) else ""
        turned = "here" if name in score.turned else "before" if name in score.turned_before else ""
        lines.append((name, turned, len(present), mean, told(found.item_rest[at]), told(found.alpha_without[at])))
    heads = ("item", "turned", "values", "mean", "item-rest r", "alpha without it")
    return Listing(f"items of {score.name}, as they count", heads, tuple(lines))


def told(value: float) -> str:
    """A number to three places; nothing where there is none."""
    return "" if np.isnan(value) else f"{value:.3f}"


def notes_of(score: ScoreOf) -> Iterator[Note]:
    """Items that run against the others, that were turned before, or that are not there."""
    against = [
        name for name, r in zip(score.items, score.reliability.item_rest.tolist(), strict=True) if r < 0
    ]  # fmt: skip
    if against:
        names, turned = ", ".join(against), {*score.turned, *score.turned_before}
        runs = plural(len(against), "runs", "run")
        hint = "likely turned round twice, or not at all where it should be" if turned & set(against) else (
            "likely worded the other way round: name it in ‹reverse›"
        )  # fmt: skip
        text = f"{runs} against the other items (item-rest r below 0): {hint}."
        yield Note(f"{names} {text}", score.name, (), "against", len(against))
    twice = [score.columns[item] for item in score.reverse if score.columns.get(item) in score.turned_before]
    if twice:
        text = f"{', '.join(twice)}: turned round by an earlier step already, so not turned again."
        yield Note(text, score.name, (), "turned-already", len(twice))
    absent = [item for item in score.wanted if item not in score.columns]
    if absent:
        text = f"not in the file{f' at {score.occasion}' if score.occasion else ''}: {', '.join(absent)}."
        yield Note(text, score.name, (), "item-not-in-file", len(absent))
    if score.prorated and score.scale.method == "sum":
        text = f"{score.prorated:,} sums are prorated: the mean of the items present, times {len(score.wanted)}."
        yield Note(text, score.name, (), "prorated", score.prorated, done=True)
