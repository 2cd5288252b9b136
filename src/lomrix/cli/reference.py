"""The reference of all commands, made from their own texts: as Markdown, and as a manual page."""

from __future__ import annotations

import json
import sys
from typing import Any

import typer

import lomrix
from lomrix.cli.main import OTHERS, PANELS, OneCommand, app, command_named, listed
from lomrix.cli.options import words
from lomrix.core.steps.registry import entry_of

HEAD = """# Commands

Made from the commands' own texts by `make docs`; `lomrix COMMAND --help` shows the same. Options that every command has
are told once, at the end.
"""
STATUS = {
    "0": "done",
    "1": "the data break a stated expectation or rule; nothing was written",
    "2": "the command line is wrong",
    "3": "a file or a server cannot be read or written",
    "70": "a mistake in Lomrix itself",
    "130": "interrupted; what was not finished was not written",
}
SHARED = (
    "dictionary", "type", "missing_text", "delimiter", "decimal", "encoding", "header_rows", "skip_rows", "skip_last",
    "no_study", "out", "overwrite", "missing", "json", "quiet", "help",
)  # fmt: skip


def commands() -> list[tuple[str, str, str, Any]]:
    """Panel, words, example and command of each, panel by panel; commands of a group one by one."""
    program: Any = typer.main.get_command(app)
    found = []
    for panel, word, _ in listed():
        made = program.get_command(None, word)
        entry = entry_of(word)
        example = entry.example if entry is not None else next(one.example for one in OTHERS if one.word == word)
        if hasattr(made, "commands"):
            found += [
                (panel, f"{word} {name}", str(inner.epilog or "").removeprefix("Example: "), inner)
                for name, inner in made.commands.items()
            ]
        else:
            found.append((panel, word, example, made))
    return found


def option_lines(command: Any, *, shared: bool) -> list[tuple[str, str]]:
    """The options of a command: those that it shares with others, or its own."""
    lines = []
    for one in command.params:
        if (one.name in SHARED) is not shared or getattr(one, "hidden", False):
            continue
        if one.param_type_name == "argument":
            lines.append((one.metavar or one.name.upper(), one.help or ""))
            continue
        choices = tuple(words(one.type_descriptor.annotation))
        metavar = one.metavar or ("|".join(map(str, choices)) if choices else "" if one.is_flag else "VALUE")
        lines.append((" ".join(part for part in (", ".join(one.opts), metavar) if part), one.help or ""))
    return lines


def markdown() -> str:
    """The reference as Markdown."""
    every = commands()
    parts = [HEAD]
    for panel in PANELS:
        parts.append(f"## {panel}\n")
        for one, word, example, command in every:
            if one != panel:
                continue
            parts.append(f"### {word}\n\n{command.help}\n\n    {example}\n")
            rows = [f"| `{name}` | {text} |" for name, text in option_lines(command, shared=False)]
            if rows:
                parts.append("\n".join(["| | |", "|---|---|", *(escaped(row) for row in rows)]) + "\n")
    parts.append("## Options that commands share\n")
    seen: dict[str, str] = {}
    for _, _, _, command in every:
        for name, text in option_lines(command, shared=True):
            seen.setdefault(name, text)
    rows = [escaped(f"| `{name}` | {text} |") for name, text in seen.items()]
    parts.append("\n".join(["| | |", "|---|---|", *rows]) + "\n")
    return "\n".join(parts)


def escaped(row: str) -> str:
    """A row of a table whose inner strokes do not divide it."""
    inside = row[2:-2].split("` | ", 1)
    return f"| {inside[0].replace('|', chr(92) + '|')}` | {inside[1].replace('|', chr(92) + '|')} |"


def manual() -> str:
    """The reference as a manual page for `man`."""
    lines = [
        f'.TH LOMRIX 1 "" "lomrix {lomrix.__version__}" "User Commands"',
        ".SH NAME",
        r"lomrix \- look after the data of a longitudinal study",
        ".SH SYNOPSIS",
        ".B lomrix\n.I COMMAND SOURCE... [options]\n.RB [ --out\n.IR FILE ]",
        ".SH DESCRIPTION",
        roff("Without --out a command is a rehearsal: it shows what it would do and writes nothing. Every step gives "
             "an account that balances; every missing cell knows why; inputs are never changed."),
        ".SH COMMANDS",
    ]  # fmt: skip
    for panel in PANELS:
        lines.append(f".SS {panel}")
        for one, word, example, command in commands():
            if one == panel:
                lines += [".TP", f".B {roff(word)}", roff(str(command.help)), ".br", roff(f"Example: {example}")]
                for name, text in option_lines(command, shared=False):
                    lines += [".RS", ".TP", f".B {roff(name)}", roff(text), ".RE"]
    lines += [".SH EXIT STATUS"]
    for status, text in STATUS.items():
        lines += [".TP", f".B {status}", roff(text)]
    return "\n".join(lines) + "\n"


def roff(text: str) -> str:
    """A text as roff takes it for text."""
    made = text.replace("\\", r"\e").replace("-", r"\-")
    return made if not made.startswith((".", "'")) else r"\&" + made


def helps() -> str:
    """The parts of each command's help, so that `--help` loads nothing else."""
    kept = {}
    for _, word, _ in listed():
        command: Any = command_named(word)
        if isinstance(command, OneCommand):
            context = command.make_context(word, ["x"], resilient_parsing=True)
            kept[word] = {
                "help": command.help,
                "epilog": command.epilog,
                "usage": command.collect_usage_pieces(context),
                "sections": command.sections(context),
            }
    lines = (f"{json.dumps(word)}: {json.dumps(one, ensure_ascii=False)}" for word, one in kept.items())
    return "{\n" + ",\n".join(lines) + "\n}\n"


FORMS = {"man": manual, "help": helps}

if __name__ == "__main__":
    print(FORMS.get(sys.argv[-1], markdown)(), end="")
