"""Score items as scales, once or at each occasion of a wide file."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace

import numpy as np

from lomrix.core.combining import Same, combine_all
from lomrix.core.errors import UsageError
from lomrix.core.nearest import advise
from lomrix.core.steps.account import Account, Balance, Part, balance_values
from lomrix.core.steps.score.listings import make_listings, make_notes
from lomrix.core.steps.score.one_score import ItemScore, ScoreSurvey, ScoreTally
from lomrix.core.steps.score.settings import Score
from lomrix.core.steps.step import Inputs, Result
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.header import MEASURE, HeaderTemplate, format_occasion
from lomrix.core.table.notes import pluralize
from lomrix.core.table.scale import Scale
from lomrix.core.table.selection import choose_columns
from lomrix.core.table.table import Table, require_new_name
from lomrix.core.wording import shorten_list


def survey(step: Score, tables: Inputs) -> dict[str, ScoreSurvey]:
    """Survey what must be known of all rows of each score."""
    return {score.name: score.survey() for score in list_scores(step, tables.get_one())}


def check(step: Score, tables: Inputs, whole: Mapping[str, ScoreSurvey]) -> None:
    """Stop if items are not numbers, or outside their span."""
    for score in list_scores(step, tables.get_one()):
        score.check(whole[score.name])


def score_items(
    step: Score, tables: Inputs, wanted: Collection[str], whole: Mapping[str, ScoreSurvey] | None = None
) -> Result:
    """Score what was asked for; `whole` is the survey of all parts."""
    table = tables.get_one()
    scores = list_scores(step, table)
    columns, dictionary = dict(table.columns), table.dictionary
    tallies = []
    for score in scores:
        require_new_name(score.name, columns, "the score")
        survey_of_all = whole[score.name] if whole else score.survey()
        if not whole:
            score.check(survey_of_all)
        columns[score.name] = score.make_column(survey_of_all)
        dictionary = dictionary.with_variable(score.name, score.describe())
        tallies.append(score.tally(survey_of_all))
    result = replace(table, columns=columns, dictionary=dictionary, names_in_source=())
    items = [name for score in scores for name in score.items]
    settings = Same([replace(score, table=table.slice(0, 0)) for score in scores])
    shown = dict.fromkeys([table.names[0], *(score.name for score in scores), *items])
    return Result(result, make_account(table, result, scores), shown=tuple(shown), tally=(settings, tuple(tallies)))


def list_scores(step: Score, table: Table) -> list[ItemScore]:
    """Return the scores that a table gets."""
    return [
        score
        for name, scale in choose_scales(step, table.dictionary).items()
        for score in make_scores(step, table, name, scale)
    ]


def choose_scales(step: Score, dictionary: Dictionary) -> Mapping[str, Scale]:
    """Return the scales to be scored, by name.

    Raises UsageError if there is none, or the dictionary has none of that name.
    """
    if step.name:
        return {step.name: step.stated_scale}
    if not dictionary.scales:
        raise UsageError(
            "No score was given, and the dictionary declares no scale.",
            todo='Use ‹name=fatigue› and ‹items=f1..f6›, or add [scales.fatigue] with items = "f1..f6" to it.',
        )
    for name in step.scale:
        if name not in dictionary.scales:
            todo = advise(name, dictionary.scales, f"Its scales are {shorten_list(dictionary.scales)}.")
            raise UsageError(f"The dictionary has no scale {name}.", todo=todo)
    return {name: dictionary.scales[name] for name in step.scale or dictionary.scales}


def make_scores(step: Score, table: Table, name: str, scale: Scale) -> list[ItemScore]:
    """Return the scale's score, or with a header template one for each occasion that has items."""
    types = table.types()
    if not step.header:
        items = choose_columns(scale.items, types, table.name)
        reversed_items = choose_columns(scale.reverse, types, table.name) if scale.reverse else []
        return [
            ItemScore(
                table, name, scale, tuple(items), {name_part: name_part for name_part in items}, tuple(reversed_items)
            )
        ]
    template = HeaderTemplate.parse(step.header)
    columns_by_occasion: dict[tuple[str, ...], dict[str, str]] = {}
    for column in table.names:
        reading = template.read(column)
        if reading is not None:
            columns_by_occasion.setdefault(tuple(reading[name_part] for name_part in template.occasions), {})[
                reading[MEASURE]
            ] = column
    measures = {
        measure: types[column] for columns in columns_by_occasion.values() for measure, column in columns.items()
    }
    items = choose_columns(scale.items, measures, f"the measures of {table.name}")
    reversed_items = choose_columns(scale.reverse, measures, table.name) if scale.reverse else []
    scores = []
    for occasion, columns in columns_by_occasion.items():
        columns_there = {item: columns[item] for item in items if item in columns}
        if columns_there:
            occasion_values = dict(zip(template.occasions, occasion, strict=True))
            occasion_text = ", ".join(f"{key} {format_occasion(value)}" for key, value in occasion_values.items())
            scores.append(
                ItemScore(
                    table,
                    template.format(name, occasion_values),
                    scale,
                    tuple(items),
                    columns_there,
                    tuple(reversed_items),
                    occasion_text,
                )
            )
    return scores


def make_account(table: Table, result: Table, scores: list[ItemScore]) -> Account:
    """Balance the rows with and without each score."""
    balances = [balance_score(score, result) for score in scores]
    return Account("score", "", (*balances, balance_values(table, result)))


def conclude(step: Score, account: Account, parts: Sequence[tuple[Same, tuple[ScoreTally, ...]]]) -> Account:
    """Report what the scores of all rows show."""
    scores: list[ItemScore] = parts[0][0].value
    tallies = combine_all(tallies for _, tallies in parts)
    facts = {
        tally.name: {
            "alpha": None if np.isnan(tally.reliability.alpha) else tally.reliability.alpha,
            "n": tally.reliability.n,
            "item_rest": dict(zip(tally.items, tally.reliability.item_rest.tolist(), strict=True)),
        }
        for tally in tallies
    }
    both = list(zip(scores, tallies, strict=True))
    notes = tuple(note for score, tally in both for note in make_notes(score, tally))
    summary = summarize(tallies, account.balances[0].total)
    return replace(account, summary=summary, facts=facts, listings=tuple(make_listings(both)), notes=notes)


def summarize(tallies: Sequence[ScoreTally], rows: int) -> str:
    """Return the summary: how many rows have the score."""
    if len(tallies) > 1:
        return f"{len(tallies)} scores computed."
    (tally,) = tallies
    prorated = f", {tally.prorated:,} of them from some items" if tally.prorated else ""
    return f"{tally.name}: {tally.scores.n:,} of {pluralize(rows, 'row')} scored{prorated}."


def balance_score(score: ItemScore, result: Table) -> Balance:
    """Balance rows with a score, from all items and from some, and without one by reason."""
    column = result[score.name]
    present = ~column.is_missing
    complete = int(np.count_nonzero(present & (score.n == len(score.wanted))))
    partial = int(np.count_nonzero(present)) - complete
    parts = [Part("kept", complete, "all-items"), Part("kept", partial, "some-items")]
    parts += [Part("missing", count, "score", reason=reason) for reason, count in column.reason_counts().items()]
    return Balance("rows for", len(score.table), tuple(parts), score.name)
