"""Turn a source to long, and draw its measures where that was asked for."""

from __future__ import annotations

from pathlib import Path

from lomrix.cli.drawing import checked_figure
from lomrix.cli.options import Common
from lomrix.cli.session import Session
from lomrix.core.steps.to_long import ROW_NUMBER, ToLong


def names_of(text: str) -> tuple[str, ...]:
    """Column names with commas between."""
    return tuple(name.strip() for name in text.split(",") if name.strip())


def turn_to_long(common: Common, source: str, step: ToLong, figure: str) -> None:
    """Turn, tell, and draw."""
    place = checked_figure(figure, [source, common.out], overwrite=common.overwrite)
    result = Session(common, [source]).run(step)
    if place is None:
        return
    from lomrix.core.steps.course import courses
    from lomrix.show.course_figure import course_figure
    from lomrix.show.terminal import console

    memory = result.table.dictionary.other_layout
    assert memory is not None  # to-long always remembers the wide layout
    measures = list(dict.fromkeys(one.measure for one in memory.places))
    case = memory.case or (ROW_NUMBER,)
    found = courses(result.table, case, memory.occasions, measures)
    screen = console(to_standard_error=common.out == "-")
    telling = not common.quiet and not common.json
    if not found:  # what was asked for besides is done by now, so this is no error
        if telling:
            screen.print("not drawn  there is no measure of numbers")
        return

    def fill(part: Path) -> dict[Path, bytes]:
        course_figure(found, ", ".join(case), part, place.path.suffix.lstrip(".").lower())
        return {}

    place.write(fill)
    if telling:
        left = [name for name in measures if name not in [course.measure for course in found]]
        screen.print(f"drawn  {place.path}" + (f"  (not drawn, no numbers: {', '.join(left)})" if left else ""))
