"""The command `demo`: write the demo study, whole or not at all."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer
from rich.text import Text

from lomrix.cli.command import told_errors, voice_of, with_signature
from lomrix.cli.face import typed
from lomrix.cli.main import Other
from lomrix.cli.options import of_telling, of_writing, parameter
from lomrix.cli.telling import Voice
from lomrix.core.errors import FileError, UsageError

if TYPE_CHECKING:
    from collections.abc import Mapping


def command(other: Other) -> Any:
    """The command."""
    from lomrix.cli.main import command as made

    return made(function(), other.word, other.does, other.example)


def function() -> Any:
    """The function behind it."""
    folder = typer.Argument(metavar="DIR", help="Where to write the demo study.")
    cases = typer.Option(min=20, max=50_000_000, metavar="N", help="How many crew members.")
    parameters = [
        parameter("folder", str, ..., folder),
        parameter("cases", int, 400, cases),
        *of_writing(out=False),
        *of_telling(),
    ]

    def demo(**given: Any) -> None:
        voice = voice_of(given)
        with told_errors(voice):
            write_demo(voice, given["folder"], given["cases"], overwrite=given["overwrite"])

    return with_signature(demo, "demo", parameters)


def write_demo(voice: Voice, folder: str, cases: int, *, overwrite: bool) -> None:
    """Make the study in a folder inside the wanted one, then move its files."""
    from lomrix.demo.write import demo_files, write_study
    from lomrix.files.staging import guarded
    from lomrix.show.progress import Progress

    if not folder.strip():
        raise UsageError("No folder was named.", todo="Say `lomrix demo demo`.")
    place = Path(folder)
    if place.exists() and not place.is_dir():
        raise FileError(f"{place} is a file, not a folder.", todo="Name a folder for the demo study.")
    there = [name for name in demo_files() if (place / name).exists()]
    if there and not overwrite:
        raise FileError(
            f"{place} holds {', '.join(there[:3])}{' …' if len(there) > 3 else ''} already.",
            todo="Add ‹overwrite› to replace the files of the demo, or name another folder.",
        )

    def make() -> dict[str, int]:
        place.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=place) as part:
            rows = write_study(Path(part), cases)
            for name in demo_files():
                (place / name).parent.mkdir(exist_ok=True)
                shutil.move(str(Path(part) / name), place / name)
        return rows

    around = voice.surroundings
    watched = around.stderr if around.stderr_is_terminal and not voice.quiet else None
    with Progress(1, watched) as progress:
        progress.stage("making the study")
        rows = guarded(place, "write", make)
    if voice.json:
        voice.print_json({"folder": str(place), "files": demo_files(), "rows": rows})
    elif not voice.quiet:
        tell(voice, place, rows, demo_files())


def tell(voice: Voice, place: Path, rows: Mapping[str, int], files: list[str]) -> None:
    """What was written, what to look at, and what to type next."""
    from lomrix.demo.write import PLAN

    voice.show(Text.assemble(("demo", "bold cyan"), "  the study of the Kittiwake Line, made up throughout"))
    for name, count in rows.items():
        file = next(one for one in files if one.startswith(name))
        voice.show(f"  {count:>10,} rows  {place / file}")
    voice.show(Text.assemble(("look at", "bold yellow"), f"  {place / 'flaws.md'} lists the flaws that were planted"))
    for command_ in (f"lomrix profile {typed(str(place / 'roster.csv'))}", f"lomrix run {typed(str(place / PLAN))}"):
        voice.show(Text.assemble(("next", "bold cyan"), f"  {command_}"), soft_wrap=True)
