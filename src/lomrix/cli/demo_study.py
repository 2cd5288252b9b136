"""Write the demo study, whole or not at all."""

from __future__ import annotations

import json
import shutil
import tempfile
from pathlib import Path

from rich.text import Text

from lomrix.cli.options import Common
from lomrix.core.errors import FileError
from lomrix.demo.write import demo_files, write_study
from lomrix.files.source import guarded
from lomrix.show import terminal
from lomrix.show.progress import Progress


def write_demo(common: Common, folder: str, cases: int) -> None:
    """Make the study in a folder beside the wanted one, then move its files."""
    place = Path(folder)
    if place.exists() and not place.is_dir():
        raise FileError(f"{place} is a file, not a folder.", todo="Name a folder for the demo study.")
    there = [name for name in demo_files() if (place / name).exists()]
    if there and not common.overwrite:
        raise FileError(
            f"{place} holds {', '.join(there[:3])}{' …' if len(there) > 3 else ''} already.",
            todo="Add --overwrite to replace the files of the demo, or name another folder.",
        )

    def make() -> dict[str, int]:
        place.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=place) as part:
            rows = write_study(Path(part), cases)
            for name in demo_files():
                shutil.move(str(Path(part) / name), place / name)
        return rows

    with Progress(1, wanted=not common.quiet) as progress:
        progress.stage("making the study")
        rows: dict[str, int] = guarded(place, "write", make)
    if common.json:
        print(json.dumps({"folder": str(place), "files": demo_files(), "rows": rows}, indent=1))
    elif not common.quiet:
        screen = terminal.console()
        screen.print(Text.assemble(("demo", "bold cyan"), "  the study of the Kittiwake Line, made up throughout"))
        for name, count in rows.items():
            file = next(one for one in demo_files() if one.startswith(name))
            screen.print(f"  {count:>10,} rows  {place / file}")
        screen.print(
            Text.assemble(("look at", "bold yellow"), f"  {place / 'flaws.md'} lists the flaws that were planted")
        )
        command = f"lomrix merge {place}/roster.csv {place}/sleep_wide.csv --key crew_id -d {place}/dictionary.toml"
        screen.print(Text.assemble(("next", "bold cyan"), f"  {command}"), soft_wrap=True)
