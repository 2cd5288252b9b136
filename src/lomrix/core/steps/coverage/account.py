"""The account of coverage, from the tallies of all parts."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lomrix.core.combining import Same, combine_all
from lomrix.core.steps.account import Account, Listing
from lomrix.core.steps.coverage.patterns import PatternCounts
from lomrix.core.steps.coverage.retention import format_share
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.table.notes import Note, pluralize

MOST_PATTERNS = 15
MOST_MEASURES = 40


@dataclass(frozen=True)
class Tally:
    """What is counted of a part: its patterns, rows that repeat, groups, and cells with a value of each measure by
    occasion ("" for all rows).
    """

    occasions: Same
    patterns: PatternCounts
    repeated: int
    groups: int
    measures: Same
    cells: Mapping[str, tuple[int, ...]]


def conclude(step: Coverage, account: Account, tallies: Sequence[Tally]) -> Account:
    """Complete the account: who was seen when, in all parts."""
    tally = combine_all(tallies)
    patterns, occasions = tally.patterns, list(tally.occasions.value)
    cases = int(patterns.counts.sum())
    visits = int(patterns.counts @ np.count_nonzero(patterns.rows, axis=1))
    complete = int(patterns.counts[patterns.rows.all(axis=1)].sum())
    summary = f"{pluralize(cases, 'case')} at {pluralize(len(occasions), 'occasion')}"
    if step.by:
        summary += f", in {pluralize(tally.groups, 'group')} by {', '.join(step.by)}"
    facts = {"cases": cases, "occasions": occasions, "repeated_rows": tally.repeated}
    # What is known of all cases could give single ones away.
    if step.min_n:
        return replace(account, summary=f"{summary}.", facts=facts)
    summary += f"; {complete:,} seen at all of them, {visits:,} of {cases * len(occasions):,} possible visits made"
    listings = (list_flows(step, tally, cases), list_patterns(patterns, cases), *list_measures(step, tally))
    return replace(
        account,
        summary=f"{summary}.",
        facts={**facts, "seen_at_all": complete},
        listings=(*account.listings, *listings),
        notes=(*account.notes, *note_gaps(patterns)),
    )


def list_flows(step: Coverage, tally: Tally, cases: int) -> Listing:
    """List who was seen, came and left at each occasion."""
    flows, occasions = tally.patterns.count_flows(), tally.occasions.value
    lines = []
    for index, text in enumerate(occasions):
        numbers = {word: int(counts[index]) for word, counts in flows.items()}
        lines.append(
            (text, numbers["seen"], format_share(numbers["seen"], cases),
             format_share(numbers["kept"], int(flows["seen"][0])),
             *(numbers[word] if index else "" for word in ("new", "returned", "left")),
             numbers["not again"] if index + 1 < len(occasions) else "")
        )  # fmt: skip
    heads = (", ".join(step.occasion), "seen", "% of cases", f"% of those at {occasions[0] if occasions else ''}",
             "new", "returned", "left", "not seen again")  # fmt: skip
    return Listing("seen at each occasion", heads, tuple(lines), splits=True)


def list_patterns(patterns: PatternCounts, cases: int) -> Listing:
    """List the most frequent patterns."""
    first = PatternCounts(patterns.rows[:MOST_PATTERNS], patterns.counts[:MOST_PATTERNS])
    lines: list[tuple[object, ...]] = [
        (text, int(n), format_share(int(n), cases))
        for text, n in zip(first.format_patterns(), first.counts, strict=True)
    ]
    if (more := len(patterns.counts) - MOST_PATTERNS) > 0:
        others = int(patterns.counts[MOST_PATTERNS:].sum())
        lines.append((f"{more:,} further patterns", others, format_share(others, cases)))
    return Listing("patterns: x seen, _ not", ("pattern", "cases", "% of cases"), tuple(lines))


def list_measures(step: Coverage, tally: Tally) -> Iterator[Listing]:
    """List in which share of the rows of each occasion a measure has a value."""
    cells = dict(tally.cells)
    rows = cells.pop("")
    if not cells:
        return
    lines = [
        (name, *(format_share(present, all_rows) for present, all_rows in zip(counts, rows, strict=True)))
        for name, counts in cells.items()
    ]
    further = tally.measures.value - MOST_MEASURES
    more = f"; {further:,} further ones are not shown" if further > 0 else ""
    title = f"cells with a value, % of the rows of the occasion{more}"
    start = f"{step.occasion[0]} " if len(step.occasion) == 1 else ""
    heads = tuple(start + text for text in tally.occasions.value)
    yield Listing(title, ("variable", *heads), tuple(lines), splits=True)


def note_gaps(patterns: PatternCounts) -> Iterator[Note]:
    """Note cases that missed an occasion and came back."""
    gaps = patterns.pattern_last - patterns.pattern_first + 1 > np.count_nonzero(patterns.rows, axis=1)
    if missed := int(patterns.counts[gaps].sum()):
        text = f"{pluralize(missed, 'case')} missed an occasion and came back."
        yield Note(text, kind="missed-between", count=missed, done=True)
