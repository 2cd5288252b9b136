"""The command `dictionary` with its parts: draft, show, convert, changes."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from lomrix.cli.command import handle_errors, make_options, make_reporter, set_signature
from lomrix.cli.main import SETTINGS, CommandGroup, OtherCommand, add_command
from lomrix.cli.options import list_reporting, list_settings, list_writing, make_parameter
from lomrix.cli.reporting import Reporter
from lomrix.cli.study import format_example
from lomrix.cli.wording import format_note, format_option
from lomrix.core.errors import UsageError
from lomrix.core.table.notes import pluralize
from lomrix.core.wording import split_list
from lomrix.files.reading import ReadingOptions

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from lomrix.core.steps.account import Account
    from lomrix.core.table.dictionary import Dictionary
    from lomrix.core.table.table import Table
    from lomrix.files.interface import Location

EXAMPLES = {
    "draft": "lomrix dictionary draft roster.csv --out dictionary.toml",
    "show": "lomrix dictionary show crew.csv",
    "convert": "lomrix dictionary convert dictionary.toml --out dictionary.xlsx",
    "changes": "lomrix dictionary changes last/dictionary.toml dictionary.toml",
}
PURPOSES = {
    "draft": "Write a commented dictionary from what is in a file.",
    "show": "Show what is known of the variables, and lists of codes that do not match their data.",
    "convert": "Convert a dictionary to TOML, a workbook of two worksheets, or two csv files.",
    "changes": "Show what differs between two dictionaries; exit status 1 if anything does.",
}
SOURCES = {
    "draft": ("SOURCE", "The file to describe."),
    "show": ("SOURCE", "A data file, or a dictionary (.toml, or two worksheets)."),
    "convert": ("DICTIONARY", "A .toml file, a workbook, one worksheet of it, or a csv file."),
    "changes": ("OLD", "The earlier dictionary, or a data file with a descriptor."),
}
MISFIT_HEADS = ("variable", "values without a label", "labels never used")
CODEBOOK_OPTIONS = (
    ("rename", "OLD=NEW, …", "Columns of a codebook, and what they are in a dictionary: text=label,values=codes"),
    ("missing_text", "TEXTS", "Codes of a codebook that mean a missing cell, separated by commas: -9,-8"),
)
SUFFIXES = (".toml", ".xlsx", ".csv")


def make_command(other: OtherCommand) -> Any:
    """Make the command, a group of four."""
    group = typer.Typer(help=f"{other.purpose}.", no_args_is_help=True, cls=CommandGroup, **SETTINGS)
    for word in EXAMPLES:
        add_command(group, make_function(word), word, PURPOSES[word].removesuffix("."), EXAMPLES[word])
    result: Any = typer.main.get_command(group)
    result.name = other.word
    return result


def make_function(word: str) -> Any:
    """Make the function behind one of them."""
    metavar, help_ = SOURCES[word]
    parameters = [make_parameter("source", str, ..., typer.Argument(metavar=metavar, help=help_))]
    if word == "draft":
        text = "An existing dictionary: its lines are kept, new variables are added after them."
        parameters.append(make_parameter("into", str, "", typer.Option("--into", metavar="FILE", help=text)))
        text = "Write a study.toml that refers to the dictionary, for every command in the folder."
        parameters.append(make_parameter("study", str, "", typer.Option("--study", metavar="FILE", help=text)))
    if word == "changes":
        text = "The later dictionary, or a data file with a descriptor."
        parameters.append(make_parameter("new", str, ..., typer.Argument(metavar="NEW", help=text)))
    if word == "convert":
        for name, metavar, text in CODEBOOK_OPTIONS:
            option = typer.Option(format_option(name), metavar=metavar, help=text)
            parameters.append(make_parameter(name, list[str], [], option))
    if word in ("draft", "show"):
        parameters += list_settings(ReadingOptions)
    if word in ("draft", "convert"):
        parameters += list_writing(words=False)
    parameters += list_reporting()
    does = {"draft": draft, "show": show, "convert": convert, "changes": show_changes}[word]

    def run(**given: Any) -> None:
        reporter = make_reporter(given)
        with handle_errors(reporter, given["source"]):
            does(reporter, given)

    return set_signature(run, word, parameters)


def read_table(source: str, given: dict[str, Any]) -> tuple[Table, list[Location]]:
    """Read a data file like any command does, and list all files that were read for it."""
    from lomrix.core.table.dictionary import Dictionary
    from lomrix.files.dictionary_file import read_dictionary
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import open_source, refuse_unused_options

    options = make_options(ReadingOptions, given)
    used: list[Path] = []
    dictionary = read_dictionary(options.dictionary, used=used) if options.dictionary else Dictionary()
    opened = open_source(source, ReadSettings.from_options(options, dictionary))
    refuse_unused_options(options, [(source, opened)])
    return opened.read().table, [*opened.locations, *used]


def report(reporter: Reporter, account: Account, written: tuple[Path, ...]) -> None:
    """Report what was done."""
    if reporter.json:
        reporter.print_json({"account": account.to_json(), "written": [str(path) for path in written]})
    elif not reporter.quiet:
        from lomrix.show.terminal import view_account, view_ending

        room = reporter.environment.make_screen().usable_width
        reporter.show(view_account(account, [], [], room), view_ending([str(path) for path in written], []))


def write_outputs(
    sinks: Mapping[str, Any], contents: Mapping[str, object], inputs: Sequence[Location]
) -> tuple[Path, ...]:
    """Check, stage and commit outputs by role."""
    from lomrix.job.outputs import Outputs

    outputs = Outputs(dict(sinks))
    outputs.require_different(inputs)
    for sink in sinks.values():
        sink.check()
    outputs.stage(contents)
    return tuple(Path(output.description) for output in outputs.commit())


def read_any(source: str, given: dict[str, Any]) -> tuple[Dictionary, Table | None]:
    """Read a dictionary, or a data file and what is known of its variables."""
    from lomrix.files.dictionary_file import read_dictionary

    if Path(source).suffix.lower() == ".toml":
        return read_dictionary(source), None
    table, _ = read_table(source, given)
    if {"variable", "label"} <= set(table.names):  # a dictionary kept as a sheet
        return read_dictionary(source), None
    return table.dictionary, table


# ----------------------------------------------------------------------- draft


def draft(reporter: Reporter, given: dict[str, Any]) -> None:
    """Draft a dictionary; without an output it is shown."""
    from lomrix.core.steps.account import Account, Balance, Part
    from lomrix.core.steps.dictionary.draft import draft_variables
    from lomrix.core.table.dictionary import Dictionary
    from lomrix.core.table.variable import NO_ENTRY
    from lomrix.files.dictionary_file import parse_toml
    from lomrix.files.dictionary_text import format_draft, format_value
    from lomrix.files.file_source import require_file
    from lomrix.files.staging import TextSink, guard

    source, into, out = given["source"], given["into"], given["out"]
    existing, known = "", Dictionary()
    if into:
        require_file(Path(into))
        existing = guard(Path(into), "read", lambda: Path(into).read_text(encoding="utf-8"))
        parsed = parse_toml(Path(into), existing.encode())
        known = Dictionary(parsed.variables, parsed.codes, scales=parsed.scales)
    if out and Path(out).suffix.lower() != ".toml":
        raise UsageError(f"A draft must be a .toml file, not {Path(out).name}.", todo="Use ‹out=dictionary.toml›.")
    table, inputs = read_table(source, given)
    inputs += [Path(into)] if into else []
    new = draft_variables(table, known)
    text = format_draft(new, table.name, existing)
    parse_toml(Path(out or "draft.toml"), text.encode())
    known_count = sum(known.of(name) != NO_ENTRY for name in table.names)
    account = Account(
        "dictionary draft",
        f"{pluralize(len(new), 'variable')} drafted, {known_count:,} already known.",
        (
            Balance(
                "variables", len(table.names), (Part("added", len(new), "drafted"), Part("kept", known_count, "known"))
            ),
        ),
    )
    texts = {"out": text} if out else {}
    if given["study"]:
        lines = {"dictionary": format_value(os.path.relpath(out, Path(given["study"]).parent))} if out else {}
        texts["study"] = format_example(**lines)
    written = write_outputs({role: TextSink(Path(given[role]), given["overwrite"]) for role in texts}, texts, inputs)
    if not out and not reporter.json and not reporter.quiet:
        reporter.show(text, soft_wrap=True)
    report(reporter, account, written)


# ------------------------------------------------------------------------ show


def show(reporter: Reporter, given: dict[str, Any]) -> None:
    """Show a dictionary, or what is known of a data file's variables."""
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.steps.dictionary.draft import find_misfits

    dictionary, table = read_any(given["source"], given)
    names = list(dictionary.variables) if table is None else table.names
    misfit = [] if table is None else find_misfits(table, dictionary)
    rows = []
    for name in names:
        entry = dictionary.of(name)
        limits = " to ".join("…" if limit is None else str(limit) for limit in (entry.minimum, entry.maximum))
        missing = ", ".join(f"{code} {reason}" for code, reason in entry.missing.items())
        rows.append((name, entry.label, entry.unit, entry.codes or "", missing, "" if limits == "… to …" else limits))
    heads = ("variable", "label", "unit", "codes", "missing codes", "limits")
    listings = [Listing("variables", heads, tuple(rows))]
    codes = tuple((name, code, label) for name, entries in dictionary.codes.items() for code, label in entries.items())
    if codes:
        listings.append(Listing("codes", ("list", "value", "label"), codes))
    if dictionary.rules:
        listings.append(Listing("rules", ("rule", "true of every row"), tuple(dictionary.rules.items())))
    if dictionary.scales:
        rows_of_scales = tuple(
            (name, scale.label, scale.items, scale.reverse) for name, scale in dictionary.scales.items()
        )
        listings.append(Listing("scales", ("scale", "label", "items", "reverse-scored"), rows_of_scales))
    if misfit:
        listings.append(Listing("lists of codes that do not match the data", MISFIT_HEADS, tuple(misfit)))
    summary = f"{pluralize(len(names), 'variable')}, {describe_lists(dictionary)}."
    report(reporter, Account("dictionary", summary, (), {"misfits": [row[0] for row in misfit]}, tuple(listings)), ())


def describe_lists(dictionary: Dictionary) -> str:
    """Count the lists of codes in words."""
    return pluralize(len(dictionary.codes), "list of codes", "lists of codes")


# --------------------------------------------------------------------- convert


def convert(reporter: Reporter, given: dict[str, Any]) -> None:
    """Convert a dictionary to the format that the output's extension names."""
    from lomrix.core.steps.account import Account, Balance, Part
    from lomrix.core.steps.derive.settings import parse_renames
    from lomrix.files.dictionary_file import Codebook, DictionarySink, read_dictionary

    source, out = given["source"], given["out"]
    used: list[Path] = []
    missing_text = tuple(text for texts in given["missing_text"] for text in split_list(texts))
    codebook = Codebook(parse_renames(given["rename"]), missing_text)
    dictionary = read_dictionary(source, used=used, codebook=codebook)
    if Path(out).suffix.lower() not in SUFFIXES:
        raise UsageError(
            f'"{out}" is not a format of dictionaries.', todo=f"Use ‹out› with one of {' '.join(SUFFIXES)}."
        )
    sink = DictionarySink(Path(out), given["overwrite"])
    written = write_outputs({"out": sink}, {"out": dictionary}, used)
    read_back = read_dictionary(str(written[0]))
    account = Account(
        "dictionary convert",
        f"{pluralize(len(dictionary.variables), 'variable')} and {describe_lists(dictionary)}.",
        (Balance("variables", len(dictionary.variables), (Part("kept", len(read_back.variables), "written"),)),),
        notes=tuple(map(format_note, codebook.notes)),
    )
    report(reporter, account, written)


# --------------------------------------------------------------------- changes


def show_changes(reporter: Reporter, given: dict[str, Any]) -> None:
    """Show what differs between two dictionaries."""
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.steps.dictionary.changes import compare_dictionaries

    sides = [read_any(given[name], given) for name in ("source", "new")]
    old, new = (found if table is None else found.for_columns(table.names) for found, table in sides)
    changes = compare_dictionaries(old, new)
    words = {"": "", "there": "yes"}
    rows = tuple(
        (change.kind, change.name, change.part, *(words.get(text, text) or None for text in (change.old, change.new)))
        for change in changes
    )
    heads = ("", "name", "what", "before", "now")
    summary = f"{pluralize(len(changes), 'difference')}." if changes else "No difference."
    facts = {"broken": len(changes), "changes": [vars(change) for change in changes]}
    report(reporter, Account("dictionary changes", summary, (), facts, (Listing("what differs", heads, rows),) if rows
                             else ()), ())  # fmt: skip
    if changes:
        raise typer.Exit(1)
