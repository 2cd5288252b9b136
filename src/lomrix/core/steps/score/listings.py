"""Listings and notes of scores: one line each, their items, and what looks wrong."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from lomrix.core.steps.account import Listing
from lomrix.core.steps.score.one_score import ItemScore, ScoreTally
from lomrix.core.table.notes import Note, plural

MOST_ITEM_LISTINGS = 6


def make_listings(scores: Sequence[tuple[ItemScore, ScoreTally]]) -> Iterator[Listing]:
    """Return a line for each score, and a table of items for the first ones."""
    heads = ("score", "values", "mean", "sd", "minimum", "maximum", "alpha", "rows for alpha")
    yield Listing("scores", heads, tuple(summarize_score(tally) for _, tally in scores), splits=True)
    for score, tally in scores[:MOST_ITEM_LISTINGS]:
        yield list_items(score, tally)


def summarize_score(tally: ScoreTally) -> tuple[object, ...]:
    """Return one score's number of values, mean, spread and alpha."""
    extremes = [f"{extreme.value:g}" if tally.scores.n else "" for extreme in (tally.minimum, tally.maximum)]
    return (
        tally.name,
        tally.scores.n,
        format_decimals(float(tally.scores.means[0])),
        format_decimals(float(np.sqrt(tally.scores.covariance[0, 0]))),
        *extremes,
        format_decimals(tally.reliability.alpha),
        tally.reliability.n,
    )


def list_items(score: ItemScore, tally: ScoreTally) -> Listing:
    """List the items of a score: which were reversed, and how each correlates with the others."""
    reliability, lines = tally.reliability, []
    for index, (name, mean) in enumerate(tally.item_means.items()):
        reversed_where = "here" if name in score.reversed_here else "before" if name in score.reversed_before else ""
        lines.append(
            (
                name,
                reversed_where,
                tally.present.value[name],
                format_decimals(mean),
                format_decimals(reliability.item_rest[index]),
                format_decimals(reliability.alpha_without[index]),
            )
        )
    heads = ("item", "reversed", "values", "mean", "item-rest r", "alpha without it")
    return Listing(f"items of {score.name}, as scored", heads, tuple(lines))


def format_decimals(value: float) -> str:
    """Format a number with three decimals; empty for NaN."""
    return "" if np.isnan(value) else f"{value:.3f}"


def make_notes(score: ItemScore, tally: ScoreTally) -> Iterator[Note]:
    """Note items that seem to hold missing codes, run against the others, were reversed before, or do not exist."""
    for name, evidence in tally.evidence.items():
        yield from evidence.make_notes(name, score.table.dictionary)
    against = [
        name for name, r in zip(score.items, tally.reliability.item_rest.tolist(), strict=True) if r < 0
    ]  # fmt: skip
    if against:
        names, reversed_items = ", ".join(against), {*score.reversed_here, *score.reversed_before}
        runs, them = plural(len(against), "runs", "run"), plural(len(against), "it", "them")
        hint = "probably reversed twice, or not reversed where needed" if reversed_items & set(against) else (
            f"probably worded the other way round; if so, name {them} in ‹reverse›"
        )  # fmt: skip
        text = f"{runs} against the other items (item-rest r below 0), {hint}."
        yield Note(f"{names} {text}", score.name, (), "against", len(against))
    repeated = [score.columns[item] for item in score.reverse if score.columns.get(item) in score.reversed_before]
    if repeated:
        text = f"{', '.join(repeated)}: already reversed by an earlier step, so not reversed again."
        yield Note(text, score.name, (), "turned-already", len(repeated))
    absent = [item for item in score.wanted if item not in score.columns]
    if absent:
        text = f"not in the file{f' at {score.occasion}' if score.occasion else ''}: {', '.join(absent)}."
        yield Note(text, score.name, (), "item-not-in-file", len(absent))
    if tally.prorated and score.scale.method == "sum":
        text = f"{tally.prorated:,} sums are prorated: the mean of the present items times {len(score.wanted)}."
        yield Note(text, score.name, (), "prorated", tally.prorated, done=True)
