"""The command `demo`: write the demo study, completely or not at all."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer
from rich.text import Text

from lomrix.cli.command import handle_errors, make_reporter, set_signature
from lomrix.cli.main import OtherCommand
from lomrix.cli.options import list_reporting, list_writing, make_parameter
from lomrix.cli.reporting import Reporter
from lomrix.cli.wording import quote_word
from lomrix.core.errors import FileError, UsageError

if TYPE_CHECKING:
    from collections.abc import Mapping


def make_command(other: OtherCommand) -> Any:
    """Make the command."""
    from lomrix.cli.main import make_command as made

    return made(make_function(), other.word, other.purpose, other.example)


def make_function() -> Any:
    """Make the function behind the command."""
    folder = typer.Argument(metavar="DIR", help="Where to write the demo study.")
    cases = typer.Option(min=20, max=50_000_000, metavar="N", help="How many crew members.")
    days = typer.Option(min=0, max=3660, metavar="N", help="Also make this many days of wrist devices, a row a minute.")
    parameters = [
        make_parameter("folder", str, ..., folder),
        make_parameter("cases", int, 400, cases),
        make_parameter("device_days", int, 0, days),
        *list_writing(out=False),
        *list_reporting(),
    ]

    def demo(**given: Any) -> None:
        reporter = make_reporter(given)
        with handle_errors(reporter):
            write_demo(reporter, given["folder"], given["cases"], given["device_days"], overwrite=given["overwrite"])

    return set_signature(demo, "demo", parameters)


def write_demo(reporter: Reporter, folder: str, cases: int, device_days: int, *, overwrite: bool) -> None:
    """Write the study to a temporary folder inside the wanted one, then move its files."""
    from lomrix.demo.write import list_demo_files, write_study
    from lomrix.files.staging import guard

    if not folder.strip():
        raise UsageError("No folder given.", todo="Use `lomrix demo demo`.")
    folder_path = Path(folder)
    if folder_path.exists() and not folder_path.is_dir():
        raise FileError(f"{folder_path} is a file, not a folder.", todo="Give another folder for the demo study.")
    files = list_demo_files(device_days)
    existing = [name for name in files if (folder_path / name).exists()]
    if existing and not overwrite:
        raise FileError(
            f"{folder_path} already contains {', '.join(existing[:3])}{' …' if len(existing) > 3 else ''}.",
            todo="Add ‹overwrite› to replace the files of the demo, or use another folder.",
        )

    def make() -> dict[str, int]:
        folder_path.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=folder_path) as part:
            rows = write_study(Path(part), cases, device_days)
            for name in files:
                (folder_path / name).parent.mkdir(exist_ok=True)
                shutil.move(str(Path(part) / name), folder_path / name)
        return rows

    with reporter.make_progress(1) as progress:
        progress.stage("making the study")
        rows = guard(folder_path, "write", make)
    if reporter.json:
        reporter.print_json({"folder": str(folder_path), "files": files, "rows": rows})
    elif not reporter.quiet:
        report(reporter, folder_path, rows, files)


def report(reporter: Reporter, folder: Path, rows: Mapping[str, int], files: list[str]) -> None:
    """Report what was written, what to look at, and what to type next."""
    from lomrix.demo.write import PLAN

    reporter.show(Text.assemble(("demo", "bold cyan"), "  the study of the Kittiwake Line, all invented"))
    for name, count in rows.items():
        file = next(name_ for name_ in files if name_.startswith(name))
        file = f"{name}/" if file.startswith(f"{name}/") else file
        reporter.show(f"  {count:>10,} rows  {folder / file}")
    reporter.show(
        Text.assemble(("look at", "bold yellow"), f"  {folder / 'flaws.md'} lists the flaws that were planted")
    )
    for command_ in (
        f"lomrix profile {quote_word(str(folder / 'roster.csv'))}",
        f"lomrix run {quote_word(str(folder / PLAN))}",
    ):
        reporter.show(Text.assemble(("next", "bold cyan"), f"  {command_}"), soft_wrap=True)
