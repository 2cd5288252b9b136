"""What a file or a table of a database cannot hold of what is known, told before it is written."""

from __future__ import annotations

from lomrix.core.table.notes import counted
from lomrix.core.table.table import Table

HISTORY = "the history"


def lost(table: Table, *, labels: bool = False, codes: bool = False, units: bool = False) -> list[str]:
    """What is lost, in words.

    Parameters
    ----------
    table
        What is written, missing codes in place of reasons.
    labels, codes, units
        Whether labels of variables, labels of codes, and units are lost; reasons of empty cells and the history are.
    """
    entries = {name: table.dictionary.of(name) for name in table.names}
    found = []
    labelled = sum(bool(entry.label) for entry in entries.values())
    if labels and labelled:
        found.append(f"labels of {counted(labelled, 'variable', 'variables')}")
    coded = sum(bool(table.dictionary.labels_of(name)) for name in entries)
    if codes and coded:
        found.append(f"codes of {counted(coded, 'variable', 'variables')}")
    measured = sum(bool(entry.unit) for entry in entries.values())
    if units and measured:
        found.append(f"units of {counted(measured, 'variable', 'variables')}")
    reasons = {reason for column in table.columns.values() for reason in column.reason_counts()} - {"blank"}
    if reasons:
        found.append(f"{counted(len(reasons), 'reason', 'reasons')} of empty cells ({', '.join(sorted(reasons))})")
    if len(table.history):
        found.append(HISTORY)
    return found
