"""Notes on a grouping, and a proposal for keys that make too many groups."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from lomrix.core.errors import Proposal
from lomrix.core.rows.keys import Groups
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, plural, pluralize
from lomrix.core.table.table import Table

# With more groups than this, and more than this share of the rows, a key was probably not meant to make groups.
MANY_GROUPS = 20
MANY_SHARE = 0.5
BANDS = 4


def make_notes(
    step: Aggregate,
    rows: Table,
    by: Sequence[str],
    groups: Groups,
    computed: Mapping[str, Column],
    unused_shares: Sequence[str] = (),
) -> Iterator[Note]:
    """Note keys that look continuous, groups of missing keys, and missing statistics."""
    for name in find_continuous(rows, by, groups):
        text = f"{groups.count:,} groups of {pluralize(len(rows), 'row')}: {name} is likely continuous."
        yield Note(text, name, (), "continuous", groups.count)
    if step.missing_group == "own":
        for name in by:
            column = groups.values[name]
            if column.missing_count:
                why = ", ".join(column.reason_counts())
                text = f"{pluralize(column.missing_count, 'group is', 'groups are')} made of missing cells ({why})."
                yield Note(text, name, (), "missing-group", column.missing_count, done=True)
    for name in unused_shares:
        yield Note("0 everywhere: no cell that counts holds that value.", name, (), "no-such-value", 1)
    alike: dict[tuple[str, int], list[str]] = {}
    for name, column in computed.items():
        for reason, count in column.reason_counts().items():
            alike.setdefault((reason, count), []).append(name)
    for (reason, count), names in alike.items():
        text = f"{count:,} of {groups.count:,} groups {plural(count, 'is', 'are')} missing ({reason})."
        yield Note(text, ", ".join(names), (), reason, count)


def find_continuous(rows: Table, by: Sequence[str], groups: Groups) -> list[str]:
    """Return numeric keys that hardly two rows share."""
    if groups.count <= MANY_GROUPS or groups.count <= MANY_SHARE * len(rows):
        return []
    result = []
    for name in by:
        column = rows[name]
        is_plain = column.type in ("integer", "number") and not rows.dictionary.labels_of(name)
        if is_plain and len(np.unique(column.values[~column.is_missing])) > MANY_GROUPS:
            result.append(name)
    return result


def make_proposals(step: Aggregate, rows: Table, by: Sequence[str], groups: Groups) -> Iterator[Proposal]:
    """Propose the same aggregation with continuous keys cut into bands."""
    names = find_continuous(rows, by, groups)
    if not names:
        return
    keys = [f"bands({name}, {', '.join(choose_edges(rows[name]))})" if name in names else name for name in by]
    yield Proposal("aggregate", {**step.to_dict(), "by": ",".join(keys)})


def choose_edges(column: Column) -> list[str]:
    """Return round edges near the quartiles."""
    values = column.values[~column.is_missing].astype(np.float64)
    cuts = np.quantile(values, np.arange(1, BANDS) / BANDS)
    spread = float(values.max() - values.min()) or 1.0
    unit = 10.0 ** np.floor(np.log10(spread / 10))
    return list(dict.fromkeys(f"{round(cut / unit) * unit:.10g}" for cut in cuts.tolist()))
