"""Deliver: prepare an export, write it, read it back, and only then put it in place."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from lomrix.cli.options import Common
from lomrix.cli.session import Session
from lomrix.core.errors import UsageError
from lomrix.core.steps.prepare_export import PrepareExport
from lomrix.files import bare, descriptor, target
from lomrix.files.delimited import write_table
from lomrix.files.read_back import compared_with_file
from lomrix.show.progress import Progress

FORMATS = {"headed": (".csv", ".tsv", ".txt"), "bare": (".dat", ".txt", ".csv", ".tsv")}


def deliver(common: Common, source: str, to: str, step: PrepareExport) -> None:
    """Export a source; without a destination it is a rehearsal."""
    session = Session(common, [source])
    place = None
    if to:
        path = Path(to)
        if path.suffix.lower() not in FORMATS[step.form]:
            raise UsageError(
                f"A {step.form} file cannot be written to {path.name}.",
                todo=f"Its extension is one of {' '.join(FORMATS[step.form])}.",
            )
        beside = bare.beside_bare(path) if step.form == "bare" else [descriptor.descriptor_path(path)]
        place = target.Target.checked(to, [source], overwrite=common.overwrite, beside=beside)
    compared = 0
    with Progress(2 + 2 * bool(to), wanted=not common.quiet) as progress:
        session.read(progress, step, hashing=place is not None)
        (source_table,) = session.tables
        progress.stage("recoding")
        prepared = step.apply(source_table)
        written: list[Path] = []
        if place is not None:
            final = place.path

            def fill(part: Path) -> dict[Path, bytes]:
                nonlocal compared
                progress.stage(f"writing {final.name}")
                if step.form == "bare":
                    more = bare.write_bare(prepared, source_table, part, final)
                else:
                    # What has no code goes out as an empty cell: a reason in words is no value for other programs.
                    blanked = {name: column.merely_missing() for name, column in prepared.table.columns.items()}
                    table = replace(prepared.table, columns=blanked)
                    more = write_table(session.with_history(table, prepared.account), part, final, [])
                progress.stage("reading it back")
                compared = compared_with_file(prepared.table, part, final, header=step.form == "headed")
                return more

            written = place.write(fill)
    session.tell(prepared, written, rehearsal=not to, compared=compared)
