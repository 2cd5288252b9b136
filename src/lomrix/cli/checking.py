"""Check a source, write the ledger that was asked for, and say by the exit status whether a rule is broken."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import typer

from lomrix.cli.options import Common
from lomrix.cli.session import Session
from lomrix.core.errors import UsageError
from lomrix.core.steps.check import Check
from lomrix.files.target import Target
from lomrix.files.text_writer import write_columns

TOLD_BY_FINDINGS = ("stray-text", "blanks-around")


def check_source(common: Common, source: str, key: tuple[str, ...], case: tuple[str, ...], ledger: str) -> None:
    """Check a source and tell the findings."""
    session = Session(common, [source])
    place = None
    if ledger:
        if Path(ledger).suffix.lower() != ".csv":
            raise UsageError(
                f"A ledger is a .csv file, not {Path(ledger).name}.", todo="Say --draft-ledger ledger.csv."
            )
        place = Target.checked(ledger, [source], overwrite=common.overwrite)
    result = session.report(Check(key=key, case=case), "checking")
    # What the findings tell already need not be told twice.
    session.notes = [(source, note) for source, note in session.notes if note.kind not in TOLD_BY_FINDINGS]
    written = []
    if place is not None:

        def fill(part: Path) -> dict[Path, bytes]:
            write_columns(result.table.columns, {}, part, ",")
            return {}

        written = place.write(fill)
    if written:
        done = replace(result.account, advice=(f"fill in {ledger}, then: lomrix correct {source} --ledger {ledger}",))
        result = replace(result, account=done)
    session.tell(result, written, rehearsal=False)
    if result.account.facts["broken"]:
        raise typer.Exit(1)
