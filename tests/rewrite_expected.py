"""Rewrite the expected-output files from what the code does now; review the difference before it is committed."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from pathlib import Path

from tests.core.language import test_expressions
from tests.core.steps import scenes, test_refusals, test_whole_accounts
from tests.core.text import test_readings
from tests.show import test_transcripts
from tests.tables import lomrix


def write(path: Path, sections: Iterable[tuple[str, list[str]]]) -> None:
    """One section for each scene, in one line where nothing but a line comes of it."""
    texts = [
        f"## {title} → {lines[0]}\n" if len(lines) == 1 else "\n".join([f"## {title}", *lines, ""])
        for title, lines in sections
    ]
    path.write_text("".join(texts))


if __name__ == "__main__":
    by_step: dict[str, list[tuple[str, list[str]]]] = {}
    for title, scene in scenes.SCENES.items():
        by_step.setdefault(scene[0], []).append((title, test_whole_accounts.happening(*scene)))
    for number, scene in enumerate(test_refusals.SCENES):
        by_step.setdefault(scene[0], []).append((test_refusals.title(number), test_whole_accounts.happening(*scene)))
    for word, sections in by_step.items():
        write(test_whole_accounts.EXPECTED / f"{word}.txt", sections)
    for module in (test_expressions, test_readings):
        titles = test_whole_accounts.read_sections(module.EXPECTED)
        write(module.EXPECTED, [(title, module.happening(title)) for title in titles])
    with tempfile.TemporaryDirectory() as folder:
        lomrix("demo", "demo", cwd=Path(folder))
        titles = test_whole_accounts.read_sections(test_transcripts.EXPECTED)
        shown = [(title, test_transcripts.happening(title, Path(folder, "demo"))) for title in titles]
    write(test_transcripts.EXPECTED, shown)
