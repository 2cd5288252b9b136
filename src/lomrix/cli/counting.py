"""Tally a source, and draw the counts where that was asked for."""

from __future__ import annotations

from pathlib import Path

from lomrix.cli.drawing import checked_figure
from lomrix.cli.options import Common
from lomrix.cli.session import Session
from lomrix.core.steps.tally import Tally
from lomrix.show.terminal import console


def tally_source(common: Common, source: str, step: Tally, figure: str) -> None:
    """Count, tell, and draw."""
    place = checked_figure(figure, [source, common.out], overwrite=common.overwrite)
    session = Session(common, [source])
    result = session.run(step, is_report=True)
    if place is not None:
        from lomrix.show.figures import tally_figure

        entry = session.tables[0].dictionary.of(step.variables[0])

        def fill(part: Path) -> dict[Path, bytes]:
            title = entry.label or step.variables[0]
            tally_figure(result.table, step, title, part, place.path.suffix.lstrip(".").lower())
            return {}

        place.write(fill)
        if not common.quiet and not common.json:
            console().print(f"written  {place.path}")
