"""The reference of all commands, made from their own help: as Markdown, as a manual page, and as stored help."""

from __future__ import annotations

import json
import sys
from typing import Any

import typer

import lomrix
from lomrix.cli.main import OTHERS, PANELS, StrictCommand, app, list_commands, load_command
from lomrix.cli.options import list_choices
from lomrix.core.steps.registry import find_entry

HEAD = """# Commands

Made from the commands' own help by `make docs`; `lomrix COMMAND --help` shows the same. Options that all commands share
are listed once, at the end.
"""
STATUS = {
    "0": "done",
    "1": "the data break an expectation or rule; nothing was written",
    "2": "the command line is wrong",
    "3": "a file or a server cannot be read or written",
    "70": "an error in Lomrix itself",
    "130": "interrupted; unfinished outputs were not written",
}
SHARED_OPTIONS = (
    "dictionary",
    "type",
    "missing_text",
    "delimiter",
    "decimal",
    "encoding",
    "header_rows",
    "label_row",
    "unit_row",
    "data_from",
    "first_name",
    "number_names",
    "skip_rows",
    "skip_last",
    "no_study",
    "out",
    "overwrite",
    "missing",
    "json",
    "quiet",
    "help",
)


def collect_commands() -> list[tuple[str, str, str, Any]]:
    """Collect panel, words, example and command of each, panel by panel."""
    program: Any = typer.main.get_command(app)
    result = []
    for panel, word, _ in list_commands():
        command = program.get_command(None, word)
        entry = find_entry(word)
        example = entry.example if entry is not None else next(other.example for other in OTHERS if other.word == word)
        if hasattr(command, "commands"):
            result += [
                (panel, f"{word} {name}", str(inner.epilog or "").removeprefix("Example: "), inner)
                for name, inner in command.commands.items()
            ]
        else:
            result.append((panel, word, example, command))
    return result


def list_options(command: Any, *, shared: bool) -> list[tuple[str, str]]:
    """List the options of a command: those shared with others, or its own."""
    lines = []
    for parameter in command.params:
        if (parameter.name in SHARED_OPTIONS) is not shared or getattr(parameter, "hidden", False):
            continue
        if parameter.param_type_name == "argument":
            lines.append((parameter.metavar or parameter.name.upper(), parameter.help or ""))
            continue
        choices = tuple(list_choices(parameter.type_descriptor.annotation))
        metavar = parameter.metavar or (
            "|".join(map(str, choices)) if choices else "" if parameter.is_flag else "VALUE"
        )
        lines.append((" ".join(part for part in (", ".join(parameter.opts), metavar) if part), parameter.help or ""))
    return lines


def format_markdown() -> str:
    """Format the reference as Markdown."""
    all_commands = collect_commands()
    parts = [HEAD]
    for panel in PANELS:
        parts.append(f"## {panel}\n")
        for command_panel, word, example, command in all_commands:
            if command_panel != panel:
                continue
            parts.append(f"### {word}\n\n{command.help}\n\n    {example}\n")
            rows = [f"| `{name}` | {text} |" for name, text in list_options(command, shared=False)]
            if rows:
                parts.append("\n".join(["| | |", "|---|---|", *(escape_row(row) for row in rows)]) + "\n")
    parts.append("## Options that commands share\n")
    shared: dict[str, str] = {}
    for _, _, _, command in all_commands:
        for name, text in list_options(command, shared=True):
            shared.setdefault(name, text)
    rows = [escape_row(f"| `{name}` | {text} |") for name, text in shared.items()]
    parts.append("\n".join(["| | |", "|---|---|", *rows]) + "\n")
    return "\n".join(parts)


def escape_row(row: str) -> str:
    """Escape pipes inside the cells of a table's row."""
    inside = row[2:-2].split("` | ", 1)
    return f"| {inside[0].replace('|', chr(92) + '|')}` | {inside[1].replace('|', chr(92) + '|')} |"


def format_manual() -> str:
    """Format the reference as a manual page."""
    lines = [
        f'.TH LOMRIX 1 "" "lomrix {lomrix.__version__}" "User Commands"',
        ".SH NAME",
        r"lomrix \- look after the data of a longitudinal study",
        ".SH SYNOPSIS",
        ".B lomrix\n.I COMMAND SOURCE... [options]\n.RB [ --out\n.IR FILE ]",
        ".SH DESCRIPTION",
        escape_roff(
            "Without --out a command is a rehearsal: it shows what it would do and writes nothing. Every step prints "
            "an account that balances; every missing cell has a reason; inputs are never changed."
        ),
        ".SH COMMANDS",
    ]
    for panel in PANELS:
        lines.append(f".SS {panel}")
        for command_panel, word, example, command in collect_commands():
            if command_panel == panel:
                lines += [
                    ".TP",
                    f".B {escape_roff(word)}",
                    escape_roff(str(command.help)),
                    ".br",
                    escape_roff(f"Example: {example}"),
                ]
                for name, text in list_options(command, shared=False):
                    lines += [".RS", ".TP", f".B {escape_roff(name)}", escape_roff(text), ".RE"]
    lines += [".SH EXIT STATUS"]
    for status, text in STATUS.items():
        lines += [".TP", f".B {status}", escape_roff(text)]
    return "\n".join(lines) + "\n"


def escape_roff(text: str) -> str:
    """Escape a text for roff."""
    escaped_text = text.replace("\\", r"\e").replace("-", r"\-")
    return escaped_text if not escaped_text.startswith((".", "'")) else r"\&" + escaped_text


def format_help() -> str:
    """Format the parts of each command's help, so that `--help` loads nothing else."""
    stored = {}
    for _, word, _ in list_commands():
        command: Any = load_command(word)
        if isinstance(command, StrictCommand):
            context = command.make_context(word, ["x"], resilient_parsing=True)
            stored[word] = {
                "help": command.help,
                "epilog": command.epilog,
                "usage": command.collect_usage_pieces(context),
                "sections": command.list_sections(context),
            }
    lines = (f"{json.dumps(word)}: {json.dumps(one, ensure_ascii=False)}" for word, one in stored.items())
    return "{\n" + ",\n".join(lines) + "\n}\n"


FORMATTERS = {"man": format_manual, "help": format_help}

if __name__ == "__main__":
    print(FORMATTERS.get(sys.argv[-1], format_markdown)(), end="")
