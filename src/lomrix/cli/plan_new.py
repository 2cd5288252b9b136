"""The command `plan new`: a plan and a study file to start from, with comments."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import typer

from lomrix.cli.command import told_errors, voice_of, with_signature
from lomrix.cli.dictionaries import tell, written_to
from lomrix.cli.main import SETTINGS, Other, add_command
from lomrix.cli.options import of_telling, of_writing, parameter
from lomrix.cli.study import NAME, example
from lomrix.cli.telling import Voice
from lomrix.core.errors import UsageError

HEAD = """# A plan: steps that lead from raw files to what is delivered. Run it with:  lomrix run {name}
# Each step says its name, what to do, its inputs, and the options of that command under their names with underscores
# (`lomrix merge --help` shows them). An input is a file, or the name of another step. A step without `out` keeps its
# table in memory. What did not change since the last run is not done again.

# Values that change from delivery to delivery stand in braces, and are said by --set wave=2.
[parameters]
wave = 1
"""
FIRST = """
[[steps]]
name = {name}
do = "correct"                      # only where the old value still stands; or "subset" to take the file as it is
source = {path}
ledger = {ledger}
# dictionary = "dictionary.toml"
# expect_rows = 400                 # the plan stops where the number is another
# expect_rules = ["age >= 16"]      # … or where a row breaks a rule
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


def command(other: Other) -> Any:
    """The command, a group of one."""
    group = typer.Typer(help=f"{other.does}.", no_args_is_help=True, **SETTINGS)

    @group.callback()
    def plan() -> None:
        """Write a plan and a study file to start from."""

    add_command(group, function(), "new", other.does, other.example)
    made: Any = typer.main.get_command(group)
    made.name = other.word
    return made


def function() -> Any:
    """The function behind it."""
    sources = typer.Argument(metavar="SOURCE…", help="The raw files.")
    parameters = [parameter("sources", list[str], ..., sources), *of_writing(words=False), *of_telling()]

    def new(**given: Any) -> None:
        voice = voice_of(given)
        with told_errors(voice):
            write(voice, given)

    return with_signature(new, "new", parameters)


def write(voice: Voice, given: dict[str, Any]) -> None:
    """Write both, or show the plan where no file was named."""
    from lomrix.core.steps.account import Account
    from lomrix.files.file_source import require_file
    from lomrix.files.staging import TextSink

    sources, out = given["sources"], given["out"]
    for source in sources:
        require_file(Path(source))
    if out and Path(out).suffix.lower() != ".toml":
        raise UsageError(f"A plan is a .toml file, not {Path(out).name}.", todo="Say ‹out=study_plan.toml›.")
    text = plan_text(sources, out or "plan.toml")
    if not out:
        voice.show(text, soft_wrap=True)
        return
    sinks, texts = {"out": TextSink(Path(out), given["overwrite"])}, {"out": text}
    study = Path(out).with_name(NAME)
    if not study.exists():
        sinks["study"], texts["study"] = TextSink(study), example()
    written = written_to(sinks, texts, list(map(Path, sources)))
    tell(voice, Account("plan new", "A plan to be filled in; it does not run before you have."), written)


def plan_text(sources: list[str], out: str) -> str:
    """The plan for some raw files."""
    import json
    import os

    folder = Path(out).parent
    names = [re.sub(r"\W+", "_", Path(one).stem, flags=re.ASCII).strip("_") or "raw" for one in sources]
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
