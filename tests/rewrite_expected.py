"""Write the expected-output files anew from what the code does now; review the difference before it is committed."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from tests.core.language import test_expressions
from tests.core.steps import scenes, test_refusals, test_whole_accounts
from tests.core.text import test_readings


def write(path: Path, sections: Iterable[tuple[str, list[str]]]) -> None:
    """One section for each scene."""
    path.write_text("\n".join("\n".join([f"## {title}", *lines, ""]) for title, lines in sections))


if __name__ == "__main__":
    whole, refusals = test_whole_accounts, test_refusals
    write(whole.EXPECTED, [(title, whole.happening(*scene)) for title, scene in scenes.SCENES.items()])
    write(
        refusals.EXPECTED,
        [(refusals.title(at), whole.happening(*scene)) for at, scene in enumerate(refusals.SCENES)],
    )
    for module in (test_expressions, test_readings):
        write(module.EXPECTED, [(title, module.happening(title)) for title in whole.sections(module.EXPECTED)])
