"""The command `dictionary` with its parts: draft, show, convert."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from lomrix.cli.command import reading_options, told_errors, voice_of, with_signature
from lomrix.cli.main import SETTINGS, Other, add_command
from lomrix.cli.options import of_settings, of_telling, of_writing, parameter
from lomrix.cli.study import example
from lomrix.cli.telling import Voice
from lomrix.core.errors import UsageError
from lomrix.core.table.notes import counted
from lomrix.files.reading import ReadingOptions

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from lomrix.core.steps.account import Account
    from lomrix.core.table.dictionary import Dictionary
    from lomrix.core.table.table import Table
    from lomrix.files.interface import Place

EXAMPLES = {
    "draft": "lomrix dictionary draft roster.csv --out dictionary.toml",
    "show": "lomrix dictionary show crew.csv",
    "convert": "lomrix dictionary convert dictionary.toml --out dictionary.xlsx",
}
PURPOSES = {
    "draft": "Write a commented dictionary from what is in a file.",
    "show": "Show what is known of the variables, and lists of codes that do not fit their data.",
    "convert": "Turn a dictionary into TOML, a workbook of two sheets, or two csv files.",
}
SOURCES = {
    "draft": ("SOURCE", "The file to describe."),
    "show": ("SOURCE", "A data file, or a dictionary (.toml, or two sheets)."),
    "convert": ("DICTIONARY", "A .toml file, a workbook, or a csv file."),
}
MISFIT_HEADS = ("variable", "values without a label", "labels never used")
FORMS = (".toml", ".xlsx", ".csv")


def command(other: Other) -> Any:
    """The command, which is a group of three."""
    group = typer.Typer(help=f"{other.does}.", no_args_is_help=True, **SETTINGS)
    for word in EXAMPLES:
        add_command(group, function_of(word), word, PURPOSES[word].removesuffix("."), EXAMPLES[word])
    made: Any = typer.main.get_command(group)
    made.name = other.word
    return made


def function_of(word: str) -> Any:
    """The function behind one of them."""
    metavar, help_ = SOURCES[word]
    parameters = [parameter("source", str, ..., typer.Argument(metavar=metavar, help=help_))]
    if word == "draft":
        text = "An existing dictionary: its lines are kept, new variables follow them."
        parameters.append(parameter("into", str, "", typer.Option("--into", metavar="FILE", help=text)))
        text = "Write a study.toml that names the dictionary, for every command in the folder."
        parameters.append(parameter("study", str, "", typer.Option("--study", metavar="FILE", help=text)))
    if word != "convert":
        parameters += of_settings(ReadingOptions)
    if word != "show":
        parameters += of_writing(words=False)
    parameters += of_telling()
    does = {"draft": draft, "show": show, "convert": convert}[word]

    def run(**given: Any) -> None:
        voice = voice_of(given)
        with told_errors(voice, given["source"]):
            does(voice, given)

    return with_signature(run, word, parameters)


def read(source: str, given: dict[str, Any]) -> tuple[Table, list[Place]]:
    """A data file, read as any command reads it, and all files that were read for it."""
    from lomrix.core.table.dictionary import Dictionary
    from lomrix.files.dictionary_file import read_dictionary
    from lomrix.files.reading import ReadSettings
    from lomrix.files.registry import source_of

    options = reading_options({name: given[name] for name in ReadingOptions.model_fields})
    used: list[Path] = []
    known = read_dictionary(options.dictionary, used=used) if options.dictionary else Dictionary()
    opened = source_of(source, ReadSettings.of(options, known))
    return opened.read().table, [*opened.places, *used]


def tell(voice: Voice, account: Account, written: tuple[Path, ...]) -> None:
    """Tell what was done."""
    if voice.json:
        voice.print_json({"account": account.to_json(), "written": [str(path) for path in written]})
    elif not voice.quiet:
        from lomrix.show.terminal import account_view, ending_view

        room = voice.surroundings.screen().room
        voice.show(account_view(account, [], [], room), ending_view([str(path) for path in written], []))


def written_to(sinks: Mapping[str, Any], contents: Mapping[str, object], inputs: Sequence[Place]) -> tuple[Path, ...]:
    """Check, stage and commit outputs by role."""
    from lomrix.job.outputs import Outputs

    outputs = Outputs(dict(sinks))
    outputs.require_different(inputs)
    for sink in sinks.values():
        sink.check()
    outputs.stage(contents)
    return tuple(Path(one.told) for one in outputs.commit())


# ----------------------------------------------------------------------- draft


def draft(voice: Voice, given: dict[str, Any]) -> None:
    """Draft a dictionary; without an output it is shown."""
    from lomrix.core.steps.account import Account, Balance
    from lomrix.core.steps.dictionary.draft import drafted
    from lomrix.core.table.dictionary import Dictionary
    from lomrix.core.table.variable import NOTHING_KNOWN
    from lomrix.files.dictionary_file import understood
    from lomrix.files.dictionary_text import draft_text, toml_value
    from lomrix.files.file_source import require_file
    from lomrix.files.staging import TextSink, guarded

    source, into, out = given["source"], given["into"], given["out"]
    existing, known = "", Dictionary()
    if into:
        require_file(Path(into))
        existing = guarded(Path(into), "read", lambda: Path(into).read_text(encoding="utf-8"))
        found = understood(Path(into), existing.encode())
        known = Dictionary(found.variables, found.codes, scales=found.scales)
    if out and Path(out).suffix.lower() != ".toml":
        raise UsageError(f"A draft is a .toml file, not {Path(out).name}.", todo="Say ‹out=dictionary.toml›.")
    table, inputs = read(source, given)
    inputs += [Path(into)] if into else []
    new = drafted(table, known)
    text = draft_text(new, table.name, existing)
    understood(Path(out or "draft.toml"), text.encode())
    old = sum(known.of(name) != NOTHING_KNOWN for name in table.names)
    account = Account(
        "dictionary draft",
        f"{counted(len(new), 'variable', 'variables')} drafted, {old:,} known already.",
        (Balance("variables", len(table.names), (("drafted", len(new)), ("known", old))),),
    )
    texts = {"out": text} if out else {}
    if given["study"]:
        named = {"dictionary": toml_value(os.path.relpath(out, Path(given["study"]).parent))} if out else {}
        texts["study"] = example(**named)
    written = written_to({one: TextSink(Path(given[one]), given["overwrite"]) for one in texts}, texts, inputs)
    if not out and not voice.json and not voice.quiet:
        voice.show(text, soft_wrap=True)
    tell(voice, account, written)


# ------------------------------------------------------------------------ show


def show(voice: Voice, given: dict[str, Any]) -> None:
    """Show a dictionary, or what is known of a data file's variables."""
    from lomrix.core.steps.account import Account, Listing
    from lomrix.core.steps.dictionary.draft import misfits
    from lomrix.files.dictionary_file import read_dictionary

    source = given["source"]
    misfit: list[tuple[str, str, str]] = []
    if Path(source).suffix.lower() == ".toml":
        dictionary = read_dictionary(source)
        names = list(dictionary.variables)
    else:
        table, _ = read(source, given)
        dictionary, names = table.dictionary, table.names
        if {"variable", "label"} <= set(names):  # a dictionary kept as a sheet
            dictionary = read_dictionary(source)
            names = list(dictionary.variables)
        else:
            misfit = misfits(table, dictionary)
    rows = []
    for name in names:
        entry = dictionary.of(name)
        limits = " to ".join("…" if one is None else str(one) for one in (entry.minimum, entry.maximum))
        missing = ", ".join(f"{code} {reason}" for code, reason in entry.missing.items())
        rows.append((name, entry.label, entry.unit, entry.codes or "", missing, "" if limits == "… to …" else limits))
    heads = ("variable", "label", "unit", "codes", "missing codes", "limits")
    listings = [Listing("variables", heads, tuple(rows))]
    codes = tuple((name, code, label) for name, entries in dictionary.codes.items() for code, label in entries.items())
    if codes:
        listings.append(Listing("codes", ("list", "value", "label"), codes))
    if misfit:
        listings.append(Listing("lists of codes that do not fit", MISFIT_HEADS, tuple(misfit)))
    summary = f"{counted(len(names), 'variable', 'variables')}, {lists_told(dictionary)}."
    tell(voice, Account("dictionary", summary, (), {"misfits": [row[0] for row in misfit]}, tuple(listings)), ())


def lists_told(dictionary: Dictionary) -> str:
    """How many lists of codes there are, in words."""
    return counted(len(dictionary.codes), "list of codes", "lists of codes")


# --------------------------------------------------------------------- convert


def convert(voice: Voice, given: dict[str, Any]) -> None:
    """Turn a dictionary into the form that the output's extension names."""
    from lomrix.core.steps.account import Account, Balance
    from lomrix.files.dictionary_file import DictionarySink, read_dictionary

    source, out = given["source"], given["out"]
    used: list[Path] = []
    dictionary = read_dictionary(source, used=used)
    if Path(out).suffix.lower() not in FORMS:
        raise UsageError(f'"{out}" names no form of a dictionary.', todo=f"Say ‹out› with one of {' '.join(FORMS)}.")
    sink = DictionarySink(Path(out), given["overwrite"])
    written = written_to({"out": sink}, {"out": dictionary}, used)
    back = read_dictionary(str(written[0]))
    account = Account(
        "dictionary convert",
        f"{counted(len(dictionary.variables), 'variable', 'variables')} and {lists_told(dictionary)}.",
        (Balance("variables", len(dictionary.variables), (("written", len(back.variables)),)),),
    )
    tell(voice, account, written)
