"""The words of balances: totals and the parts that they are made of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from lomrix.core.steps.account import Balance, Part

# If there are more parts by occasion, the last ones are shown as one.
MAX_PARTS = 12
BY_OCCASION = ("unmeasured", "never-there", "no-row")
# The values of more measures than this are shown as one part, since a listing has them one by one.
MAX_MEASURES = 4

# What is counted, if it belongs to a table or column.
TOTALS = {
    "compared rows": "rows of {of}",
    "kept values": "values in the columns of {of} alone",
    "rows x occasions": "rows x occasions ({of})",
    "cases x occasions": "cases x occasions ({of})",
    "rows for": "rows for {of}",
    "cases for": "cases for {of}",
}
PARTS = {
    ("kept", ""): "kept",
    ("kept", "all"): "with all",
    ("kept", "all-items"): "from all items",
    ("kept", "arriving"): "lead to a row of {of}",
    ("kept", "as-before"): "as before",
    ("kept", "both"): "with both",
    ("kept", "both-values"): "with both values",
    ("kept", "column"): "{of}",
    ("kept", "compared"): "compared",
    ("kept", "counted"): "counted",
    ("kept", "empty"): "left empty",
    ("kept", "file"): "{of}",
    ("kept", "finding"): "with a finding",
    ("kept", "first"): "first of their case and occasion",
    ("kept", "groups"): "for groups that the rows show",
    ("kept", "in-both"): "in both",
    ("kept", "in-group"): "in a group",
    ("kept", "in-result"): "in the result",
    ("kept", "key-missing"): "key missing",
    ("kept", "known"): "already known",
    ("kept", "ledger-row"): "already so",
    ("kept", "mark"): "{of}",
    ("kept", "measured"): "rows with a measured value",
    ("kept", "nearly"): "nearly",
    ("kept", "no-group"): "{of} missing, in no group",
    ("kept", "no-day"): "without a day",
    ("kept", "no-spell"): "outside every spell",
    ("kept", "no-id"): "without an id",
    ("kept", "one-each"): "one for each case and occasion",
    ("kept", "only-in"): "only in {of}",
    ("kept", "own-id"): "with their own id",
    ("kept", "present"): "with a value",
    ("kept", "row"): "with a row",
    ("kept", "some-items"): "from some items",
    ("kept", "sound"): "without a finding",
    ("kept", "unchanged"): "as they were",
    ("kept", "unmatched"): "without a partner",
    ("kept", "unmeasured"): "nothing measured at {of}, kept",
    ("kept", "matched"): "with a partner",
    ("kept", "whole-case"): "of whole cases",
    ("kept", "written"): "written",
    ("left out", ""): "left out",
    ("left out", "condition-false"): "condition false, left out",
    ("left out", "condition-missing"): "condition missing ({reason}), left out",
    ("left out", "gone"): "gone",
    ("left out", "key-missing"): "key missing, left out",
    ("left out", "ledger"): "left out by the ledger",
    ("left out", "never-there"): "{reason} at {of}, left out",
    ("left out", "no-day"): "without a day, left out",
    ("left out", "no-spell"): "outside every spell, left out",
    ("left out", "no-start"): "without a start, left out",
    ("left out", "too-late"): "later than {of}, left out",
    ("left out", "no-group"): "{of} missing, in no group",
    ("left out", "not-drawn"): "not drawn, left out",
    ("left out", "other-case"): "of other cases, left out",
    ("left out", "other-occasion"): "at other occasions, left out",
    ("left out", "reduced"): "reduced to their {of}",
    ("left out", "reduced-rows"): "of repeated rows that became one",
    ("left out", "repeated"): "left out as repeated",
    ("left out", "repeated-key"): "not picked, left out",
    ("left out", "unmatched"): "without a partner, left out",
    ("left out", "unmeasured"): "nothing measured at {of}, left out",
    ("added", ""): "added ({reason})",
    ("added", "declared"): "for declared groups without a row",
    ("added", "drafted"): "drafted",
    ("added", "new"): "new",
    ("added", "totals"): "for all together",
    ("changed", ""): "changed",
    ("changed", "coded"): "written as a code",
    ("changed", "ledger-row"): "applied",
    ("changed", "linked"): "with the new id",
    ("changed", "new-id"): "with a new id",
    ("changed", "replaced"): "replaced",
    ("missing", ""): "missing",
    ("missing", "incomplete"): "without old or new id",
    ("missing", "neither"): "with neither",
    ("missing", "no-case"): "without a case",
    ("missing", "no-id"): "without an id",
    ("missing", "no-key"): "without a key",
    ("missing", "no-occasion"): "without an occasion",
    ("missing", "no-row"): "without a row at {of}",
    ("missing", "no-visit"): "without a visit ({reason})",
    ("missing", "none"): "with none",
    ("missing", "only-at"): "only at {of}",
    ("missing", "score"): "none ({reason})",
    ("missing", "some"): "with some",
    ("missing", "value"): "{of} missing",
    ("unused", "no-group"): "in no group",
    ("unused", "not-arriving"): "lead to no row of {of}",
    ("unused", "not-needed"): "not needed",
    ("unused", "repeating"): "repeating one",
    ("open", "ledger-row"): "left open",
    ("refused", "ledger-row"): "refused",
}


def format_total(balance: Balance) -> str:
    """Format what a balance counts."""
    if not balance.of:
        return balance.what
    return TOTALS.get(balance.what, f"{balance.what} of {{of}}").format(of=balance.of)


def format_part(part: Part) -> str:
    """Format a part without its number."""
    if not part.cause and part.kind == "missing" and part.reason:
        return part.reason
    if part.cause == "unmeasured" and not part.of:
        return f"nothing measured, {part.kind}"
    text = PARTS[part.kind, part.cause].format(of=part.of, reason=part.reason)
    return f"{text} ({part.reason})" if part.cause == "value" and part.reason else text


def list_parts(balance: Balance) -> list[tuple[str, int]]:
    """List the words and numbers of the parts that are shown: those that are not 0, many similar ones as one."""
    parts = [part for part in balance.parts if part.count] or list(balance.parts[:1])
    measures = [part for part in balance.parts if part.cause == "column"]
    if len(measures) > MAX_MEASURES:
        others = [(format_part(part), part.count) for part in parts if part.cause != "column"]
        return [(f"in {len(measures):,} measures", _add(measures)), *others]
    words = [(format_part(part), part.count) for part in parts]
    further = parts[MAX_PARTS:]
    if len(further) > 1 and further[0].cause in BY_OCCASION:
        return [*words[:MAX_PARTS], (f"likewise at {len(further):,} further occasions", _add(further))]
    return words


def read_balance(stored: Mapping[str, Any]) -> tuple[str, int, list[tuple[str, int]]]:
    """Read a balance of a history: the words of its total, the total, and its parts."""
    parts, total = stored.get("parts"), int(stored.get("total", 0))
    if not isinstance(parts, list):  # histories of earlier versions hold the words
        return str(stored.get("what", "")), total, [(word, n) for word, n in dict(parts or {}).items() if n]
    balance = Balance(stored["what"], total, tuple(Part(**part) for part in parts), stored.get("of", ""))
    return format_total(balance), total, [(word, count) for word, count in list_parts(balance) if count]


def _add(parts: Sequence[Part]) -> int:
    return sum(part.count for part in parts)
