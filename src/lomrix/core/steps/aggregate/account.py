"""The account of a grouping, from what is known of its groups."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.combining import Combinable, combine, combine_all
from lomrix.core.errors import Proposal
from lomrix.core.steps.account import Account, Balance, Kind, Listing, Part
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.table.column import Column
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.notes import Note, note_alike, plural, pluralize
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table

# With more groups than this, and more than this share of the rows, a key was probably not meant to make groups.
MANY_GROUPS = 20
MANY_SHARE = 0.5
BANDS = 4
# Keys of at most this many groups are compared with each other.
MOST_COMPARED = 100_000


@dataclass(frozen=True)
class Used:
    """The cells of a variable that statistics are computed from."""

    values: int
    skipped: int
    without_weight: int
    missing: dict[str, int]  # by reason
    evidence: CodeEvidence = field(default_factory=CodeEvidence)

    def make_line(self, name: str) -> tuple[object, ...]:
        """Return the line of the listing."""
        reasons = [f"{self.without_weight:,} without a weight"] if self.without_weight else []
        reasons += [f"{count:,} {reason}" for reason, count in sorted(self.missing.items())]
        return name, self.values, self.skipped, ", ".join(reasons) or "none"


@dataclass(frozen=True)
class GroupTally(Combinable):
    """What the account needs: the groups with the values of their keys and statistics, and counts."""

    keys: Table
    sizes: npt.NDArray[np.int64]  # number of rows of each group
    computed: Table
    used: dict[str, Used | None]  # by variable; None if that is suppressed
    left: dict[str, int]  # rows in no group, by the first key that is missing
    rows: int
    table: str  # its name
    shares: tuple[str, ...]  # columns of the shares of a value

    def combine(self, later: GroupTally) -> GroupTally:
        """Add the groups of a later part."""
        return replace(
            self,
            keys=concatenate_tables([self.keys, later.keys]),
            sizes=np.append(self.sizes, later.sizes),
            computed=concatenate_tables([self.computed, later.computed]),
            used={name: combine(used, later.used[name]) for name, used in self.used.items()},
            left=combine(self.left, later.left),
            rows=self.rows + later.rows,
        )


def conclude(step: Aggregate, account: Account, tallies: Sequence[GroupTally]) -> Account:
    """Complete the account: the rest of its parts is made from the groups of all."""
    tally = combine_all(tallies)
    filled = tally.sizes[tally.sizes > 0]
    count = len(tally.sizes)
    low, high = (int(filled.min()), int(filled.max())) if len(filled) else (0, 0)
    range_ = f", {pluralize(low, 'row')} each" if low == high else f", {low:,} to {high:,} rows each"
    # The size of the smallest group is what a minimum size hides.
    range_ = range_ if high and not step.min_n else ""
    by, groups = ", ".join(tally.keys.names), pluralize(count, "group")
    listing = tuple(
        (name, "suppressed", "", "") if used is None else used.make_line(name) for name, used in tally.used.items()
    )
    heads = ("variable", "values", "skipped as missing", "why")
    fate: Kind = "kept" if step.attach else "left out"
    left = (Part(fate, rows, "no-group", name) for name, rows in tally.left.items())
    return replace(
        account,
        summary=f"{pluralize(tally.rows, 'row')} got the statistics of their group, {groups} by {by}."
        if step.attach
        else f"{pluralize(tally.rows, 'row')} became {groups} by {by}{range_}.",
        balances=(
            Balance("rows", tally.rows, (Part("kept", int(tally.sizes.sum()), "in-group"), *left), tally.table),
            *account.balances,
        ),
        facts={"groups": count, **account.facts},
        listings=(*([Listing("values used", heads, listing)] if listing else []), *list_computed_keys(step, tally)),
        notes=(*account.notes, *make_notes(step, tally)),
        advice=tuple(make_proposals(step, tally)),
    )


def list_computed_keys(step: Aggregate, tally: GroupTally) -> list[Listing]:
    """List what the values of computed keys mean."""
    listings = []
    for name, words in step.keys if not step.min_n else ():
        labels = tally.keys.dictionary.labels_of(name) if name else {}
        if labels:
            texts = tally.keys[name].to_text().to_pylist()
            counts = {code: int(tally.sizes[[text == code for text in texts]].sum()) for code in labels}
            lines = tuple((code, label, counts[code]) for code, label in labels.items())
            listings.append(Listing(f"{name} = {words}", ("code", "label", "rows"), lines))
    return listings


def make_notes(step: Aggregate, tally: GroupTally) -> Iterator[Note]:
    """Note numbers that look like missing codes, keys that look continuous or that are hardly two, groups of missing
    keys, and missing statistics.
    """
    count = len(tally.sizes)
    for name, used in tally.used.items():
        if used is not None and not step.min_n:
            yield from used.evidence.make_notes(name, tally.keys.dictionary)
    for name, column in tally.keys.columns.items():
        is_compared = column.type == "string" and count <= MOST_COMPARED
        texts = sorted(column.to_text().unique().drop_null().to_pylist()) if is_compared else []
        yield from note_alike(name, texts, "groups")
    for name in find_continuous(tally):
        text = f"{count:,} groups of {pluralize(tally.rows, 'row')}: {name} is likely continuous."
        yield Note(text, name, (), "continuous", count)
    if step.missing_group == "own":
        yield from note_missing_keys(tally.keys)
    for name in tally.shares:
        if not np.nan_to_num(tally.computed[name].values).any():
            yield Note("0 everywhere: no cell that counts holds that value.", name, (), "no-such-value", 1)
    lacking: dict[tuple[str, int], list[str]] = {}
    for name, column in tally.computed.columns.items():
        for counted in column.reason_counts().items():
            lacking.setdefault(counted, []).append(name)
    for (reason, missing), names in lacking.items():
        text = f"{missing:,} of {count:,} groups {plural(missing, 'is', 'are')} missing ({reason})."
        yield Note(text, ", ".join(names), (), reason, missing)


def note_missing_keys(keys: Table) -> Iterator[Note]:
    """Note groups whose keys are missing cells."""
    for name, column in keys.columns.items():
        if column.missing_count:
            why = ", ".join(column.reason_counts())
            text = f"{pluralize(column.missing_count, 'group is', 'groups are')} made of missing cells ({why})."
            yield Note(text, name, (), "missing-group", column.missing_count, done=True)


def find_continuous(tally: GroupTally) -> list[str]:
    """Return numeric keys that hardly two rows share."""
    count = len(tally.sizes)
    if count <= MANY_GROUPS or count <= MANY_SHARE * tally.rows:
        return []
    result = []
    for name, column in tally.keys.columns.items():
        is_plain = column.type in ("integer", "number") and not tally.keys.dictionary.labels_of(name)
        if is_plain and len(np.unique(column.values[~column.is_missing])) > MANY_GROUPS:
            result.append(name)
    return result


def make_proposals(step: Aggregate, tally: GroupTally) -> Iterator[Proposal]:
    """Propose the same aggregation with continuous keys cut into bands."""
    names = find_continuous(tally)
    if not names:
        return
    keys = [
        f"bands({name}, {', '.join(choose_edges(tally.keys[name], tally.sizes))})" if name in names else name
        for name in tally.keys.names
    ]
    yield Proposal("aggregate", {**step.to_dict(), "by": ",".join(keys)})


def choose_edges(column: Column, sizes: npt.NDArray[np.int64]) -> list[str]:
    """Return round edges near the quartiles of a key, given the number of rows of each of its values."""
    is_present = ~column.is_missing
    values = np.repeat(column.values[is_present].astype(np.float64), sizes[is_present])
    cuts = np.quantile(values, np.arange(1, BANDS) / BANDS)
    spread = float(values.max() - values.min()) or 1.0
    unit = 10.0 ** np.floor(np.log10(spread / 10))
    return list(dict.fromkeys(f"{round(cut / unit) * unit:.10g}" for cut in cuts.tolist()))
