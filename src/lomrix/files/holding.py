"""What a file or database table cannot hold, reported before it is written."""

from __future__ import annotations

from lomrix.core.table.notes import pluralize
from lomrix.core.table.table import Table

HISTORY = "the history"


def describe_losses(table: Table, *, labels: bool = False, codes: bool = False, units: bool = False) -> list[str]:
    """Describe what is lost: reasons of empty cells and the history always, the rest as stated."""
    entries = {name: table.dictionary.of(name) for name in table.names}
    losses = []
    labelled = sum(bool(entry.label) for entry in entries.values())
    if labels and labelled:
        losses.append(f"labels of {pluralize(labelled, 'variable')}")
    coded = sum(bool(table.dictionary.labels_of(name)) for name in entries)
    if codes and coded:
        losses.append(f"codes of {pluralize(coded, 'variable')}")
    measured = sum(bool(entry.unit) for entry in entries.values())
    if units and measured:
        losses.append(f"units of {pluralize(measured, 'variable')}")
    reasons = {reason for column in table.columns.values() for reason in column.reason_counts()} - {"blank"}
    if reasons:
        losses.append(f"{pluralize(len(reasons), 'reason')} of empty cells ({', '.join(sorted(reasons))})")
    if len(table.history):
        losses.append(HISTORY)
    return losses
