"""Items scored as scales, once or at each occasion of a wide file."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

import numpy as np

from lomrix.core.errors import UsageError
from lomrix.core.nearest import advice
from lomrix.core.steps.account import Account, Balance, kept_cells
from lomrix.core.steps.score.listings import listings_of, notes_of
from lomrix.core.steps.score.one_score import ScoreOf
from lomrix.core.steps.score.settings import Score
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import MEASURE, HeaderTemplate, occasion_text
from lomrix.core.table.notes import counted
from lomrix.core.table.scale import Scale
from lomrix.core.table.selection import chosen_columns
from lomrix.core.table.table import Table, require_free
from lomrix.core.wording import some_of

MOST_EXAMPLES = 5


def scored(step: Score, tables: Inputs, wanted: Collection[str]) -> Result:
    """Score what was asked for."""
    table = tables.one()
    scores = [
        score
        for name, scale in scales_of(step, table.dictionary).items()
        for score in at_occasions(step, table, name, scale)
    ]
    made, dictionary = dict(table.columns), table.dictionary
    for score in scores:
        require_free(score.name, made, "the score")
        made[score.name] = score.column
        dictionary = dictionary.with_variable(score.name, score.described())
    result = replace(table, columns=made, dictionary=dictionary, names_in_source=())
    items = [name for score in scores for name in score.items]
    shown = dict.fromkeys([table.names[0], *(score.name for score in scores), *items])
    return Result(result, account_of(table, result, scores), shown=tuple(shown))


def scales_of(step: Score, dictionary: Dictionary) -> Mapping[str, Scale]:
    """The scales that are to be scored, by name.

    Raises
    ------
    UsageError
        Where there is none, or the dictionary has none of that name.
    """
    if step.name:
        return {step.name: step.own}
    if not dictionary.scales:
        raise UsageError(
            "No score was named, and the dictionary declares no scale.",
            todo='Say ‹name=fatigue› and ‹items=f1..f6›, or add [scales.fatigue] with items = "f1..f6" to it.',
        )
    for name in step.scale:
        if name not in dictionary.scales:
            todo = advice(name, dictionary.scales, f"Its scales are {some_of(dictionary.scales)}.")
            raise UsageError(f"The dictionary has no scale {name}.", todo=todo)
    return {name: dictionary.scales[name] for name in step.scale or dictionary.scales}


def at_occasions(step: Score, table: Table, name: str, scale: Scale) -> list[ScoreOf]:
    """The scale once, or where a header template is given at each occasion that has items."""
    types = table.types()
    if not step.header:
        items = chosen_columns(scale.items, types, table.name)
        turned = chosen_columns(scale.reverse, types, table.name) if scale.reverse else []
        return [ScoreOf(table, name, scale, tuple(items), {one: one for one in items}, tuple(turned))]
    template = HeaderTemplate.parsed(step.header)
    found: dict[tuple[str, ...], dict[str, str]] = {}
    for column in table.names:
        reading = template.read(column)
        if reading is not None:
            found.setdefault(tuple(reading[one] for one in template.occasions), {})[reading[MEASURE]] = column
    measures = {measure: types[column] for columns in found.values() for measure, column in columns.items()}
    items = chosen_columns(scale.items, measures, f"the measures of {table.name}")
    turned = chosen_columns(scale.reverse, measures, table.name) if scale.reverse else []
    scores = []
    for occasion, columns in found.items():
        here = {item: columns[item] for item in items if item in columns}
        if here:
            at = dict(zip(template.occasions, occasion, strict=True))
            told = ", ".join(f"{key} {occasion_text(value)}" for key, value in at.items())
            scores.append(ScoreOf(table, template.written(name, at), scale, tuple(items), here, tuple(turned), told))
    return scores


def account_of(table: Table, made: Table, scores: list[ScoreOf]) -> Account:
    """What was scored."""
    told = []
    for score in scores:
        values = len(table) - score.column.missing_count
        prorated = f", {score.prorated:,} of them from some items" if score.prorated else ""
        told.append(f"{score.name}: {values:,} of {counted(len(table), 'row', 'rows')} scored{prorated}")
    return Account(
        "score",
        (told[0] if len(told) == 1 else f"{len(scores)} scores computed") + ".",
        (*(balance_of(score, made) for score in scores), kept_cells(table, made)),
        {
            score.name: {
                "alpha": None if np.isnan(score.reliability.alpha) else score.reliability.alpha,
                "n": score.reliability.n,
                "item_rest": dict(zip(score.items, score.reliability.item_rest.tolist(), strict=True)),
            }
            for score in scores
        },
        tuple(listings_of(scores)),
        tuple(note for score in scores for note in notes_of(score)),
    )


def balance_of(score: ScoreOf, made: Table) -> Balance:
    """Rows with a score, from all items and from some, and without one by reason."""
    column = made[score.name]
    present = ~column.is_missing
    whole = int(np.count_nonzero(present & (score.n == len(score.wanted))))
    parts = [("from all items", whole), ("from some items", int(np.count_nonzero(present)) - whole)]
    parts += [(f"none ({reason})", count) for reason, count in column.reason_counts().items()]
    return Balance(f"rows for {score.name}", len(score.table), tuple((word, n) for word, n in parts if n))
