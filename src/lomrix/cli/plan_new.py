"""The command `plan new`: a plan and a study file to start from, with comments."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import typer

from lomrix.cli.command import handle_errors, make_reporter, set_signature
from lomrix.cli.dictionaries import report, write_outputs
from lomrix.cli.main import SETTINGS, CommandGroup, OtherCommand, add_command
from lomrix.cli.options import list_reporting, list_writing, make_parameter
from lomrix.cli.reporting import Reporter
from lomrix.cli.study import FILE_NAME, format_example
from lomrix.core.errors import UsageError

HEAD = """# A plan: the steps from raw files to deliveries. Run it with:  lomrix run {name}
# Each step has a name, what to do, its inputs, and the options of that command, written with underscores
# (`lomrix merge --help` shows them). An input is a file or the name of another step. A step without `out` keeps its
# table in memory. Steps that did not change since the last run are not run again.

# Write values that change from delivery to delivery in braces, and set them with --set wave=2.
[parameters]
wave = 1
"""
FIRST = """
[[steps]]
name = {name}
do = "correct"                      # only where the old value is still there; or "subset" to use the file as it is
source = {path}
ledger = {ledger}
# dictionary = "dictionary.toml"
# expect_rows = 400                 # the plan stops if the number differs
# expect_rules = ["age >= 16"]      # … or if a row breaks a rule
"""
MERGE = """
[[steps]]
name = "merged"
do = "merge"
base = {base}
added = {added}
key = "id"
expect = "one-to-one"
out = "out/merged.csv"
"""
LAST = """
# [[steps]]
# name = "delivered"
# do = "export"
# source = {last}
# form = "bare"
# missing_code = "auto"
# out = "out/model_{{wave}}.dat"
"""


def make_command(other: OtherCommand) -> Any:
    """Make the command, a group of one."""
    group = typer.Typer(help=f"{other.purpose}.", no_args_is_help=True, cls=CommandGroup, **SETTINGS)

    @group.callback()
    def plan() -> None:
        """Write a plan and a study file to start from."""

    add_command(group, make_function(), "new", other.purpose, other.example)
    result: Any = typer.main.get_command(group)
    result.name = other.word
    return result


def make_function() -> Any:
    """Make the function behind the command."""
    sources = typer.Argument(metavar="SOURCE…", help="The raw files.")
    parameters = [make_parameter("sources", list[str], ..., sources), *list_writing(words=False), *list_reporting()]

    def new(**given: Any) -> None:
        reporter = make_reporter(given)
        with handle_errors(reporter):
            write_plan(reporter, given)

    return set_signature(new, "new", parameters)


def write_plan(reporter: Reporter, given: dict[str, Any]) -> None:
    """Write both, or show the plan if no file is given."""
    from lomrix.core.steps.account import Account
    from lomrix.files.file_source import require_file
    from lomrix.files.staging import TextSink

    sources, out = given["sources"], given["out"]
    for source in sources:
        require_file(Path(source))
    if out and Path(out).suffix.lower() != ".toml":
        raise UsageError(f"A plan must be a .toml file, not {Path(out).name}.", todo="Use ‹out=study_plan.toml›.")
    text = format_plan(sources, out or "plan.toml")
    if not out:
        reporter.show(text, soft_wrap=True)
        return
    sinks, texts = {"out": TextSink(Path(out), given["overwrite"])}, {"out": text}
    study = Path(out).with_name(FILE_NAME)
    if not study.exists():
        sinks["study"], texts["study"] = TextSink(study), format_example()
    written = write_outputs(sinks, texts, list(map(Path, sources)))
    report(reporter, Account("plan new", "A plan to fill in; edit it before you run it."), written)


def format_plan(sources: list[str], out: str) -> str:
    """Format the plan for some raw files."""
    import json
    import os

    folder = Path(out).parent
    names = [re.sub(r"\W+", "_", Path(source_).stem, flags=re.ASCII).strip("_") or "raw" for source_ in sources]
    names = [f"raw_{name}" if not name[0].isalpha() else name for name in names]
    parts = [HEAD.format(name=Path(out).name)]
    for name, source in zip(names, sources, strict=True):
        path = Path(os.path.relpath(source, folder)).as_posix()
        parts.append(
            FIRST.format(name=json.dumps(name), path=json.dumps(path), ledger=json.dumps(f"ledger_{name}.csv"))
        )
    if len(names) > 1:
        parts.append(
            MERGE.format(base=json.dumps(names[0]), added=json.dumps(names[1:] if len(names) > 2 else names[1]))
        )
    parts.append(LAST.format(last=json.dumps("merged" if len(names) > 1 else names[0])))
    return "".join(parts)
