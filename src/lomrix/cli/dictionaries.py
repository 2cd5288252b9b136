"""Dictionaries: drafted from data, shown, and turned from one form into another."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from lomrix.cli.options import Common
from lomrix.cli.session import Session
from lomrix.core.errors import UsageError
from lomrix.core.steps.account import Account, Balance, Listing
from lomrix.core.steps.step import Result
from lomrix.core.steps.subset import Subset
from lomrix.core.steps.to_dictionary import drafted, misfits
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.files.dictionary_file import read_dictionary, understood
from lomrix.files.dictionary_text import dictionary_sheets, dictionary_text, draft_text
from lomrix.files.source import guarded, require_file
from lomrix.files.target import Target
from lomrix.files.text_writer import write_columns
from lomrix.show.terminal import console

MISFIT_HEADS = ("variable", "values without a label", "labels never used")
FORMS = (".toml", ".xlsx", ".csv")


def draft_dictionary(common: Common, source: str, into: str) -> None:
    """Draft a dictionary; without an output it is shown."""
    session = Session(common, [source])
    existing, known = "", Dictionary()
    if into:
        require_file(Path(into))
        existing = guarded(Path(into), "read", lambda: Path(into).read_text(encoding="utf-8"))
        found = understood(Path(into), existing.encode())
        known = Dictionary(found.variables, found.codes)
    place = Target.checked(common.out, [source], overwrite=common.overwrite) if common.out else None
    if place is not None and place.path.suffix.lower() != ".toml":
        raise UsageError(f"A draft is a .toml file, not {place.path.name}.", todo="Say --out dictionary.toml.")
    session.report(Subset(columns="@all"), "drafting")
    table = session.tables[0]
    new = drafted(table, known)
    text = draft_text(new, table.name, existing)
    understood(Path(common.out or "draft.toml"), text.encode())
    account = Account(
        "dictionary draft",
        f"{len(new):,} variables drafted, {len(table.names) - len(new):,} known already.",
        (Balance("variables", len(table.names), (("drafted", len(new)), ("known", len(table.names) - len(new)))),),
    )
    written = place.write(lambda part: _put(part, text)) if place is not None else []
    if place is None and not common.json and not common.quiet:
        console().print(text, soft_wrap=True)
    session.tell(Result(table, account), written, rehearsal=False)


def _put(part: Path, text: str) -> dict[Path, bytes]:
    part.write_text(text, encoding="utf-8")
    return {}


def show_dictionary(common: Common, source: str) -> None:
    """Show a dictionary, or what is known of a data file's variables."""
    session = Session(common, [source])
    if Path(source).suffix.lower() == ".toml":
        dictionary = read_dictionary(source)
        table = Table({}, dictionary, (), Path(source).stem)
        names, misfit = list(dictionary.variables), []
    else:
        session.report(Subset(columns="@all"), "looking")
        table = session.tables[0]
        dictionary, names = table.dictionary, table.names
        if {"variable", "label"} <= set(names):  # a dictionary kept as a sheet
            dictionary = read_dictionary(source)
            names, table = list(dictionary.variables), Table({}, dictionary, (), table.name)
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
    summary = f"{len(names):,} variables, {len(dictionary.codes):,} lists of codes."
    account = Account("dictionary", summary, (), {"misfits": [row[0] for row in misfit]}, tuple(listings))
    session.sources = session.sources if session.tables else []
    session.tell(Result(table, account), [], rehearsal=False)


def convert_dictionary(common: Common, source: str) -> None:
    """Turn a dictionary into the form that the output's extension names."""
    dictionary = read_dictionary(source)
    suffix = Path(common.out).suffix.lower()
    if suffix not in FORMS:
        raise UsageError(
            f'"{common.out}" names no form of a dictionary.', todo=f"Say --out with one of {' '.join(FORMS)}."
        )
    codes_file = Path(common.out).with_name(Path(common.out).stem + ".codes.csv")
    place = Target.checked(
        common.out, [source], overwrite=common.overwrite, beside=[codes_file] if suffix == ".csv" else []
    )
    variables, codes = dictionary_sheets(dictionary)

    def workbook(part: Path) -> dict[Path, bytes]:
        from lomrix.files.workbook import write_sheets

        write_sheets(part, {"variables": variables, "codes": codes}, {})
        return {}

    def two_files(part: Path) -> dict[Path, bytes]:
        write_columns(codes.columns, {}, part, ",")
        beside = {codes_file: part.read_bytes()}
        write_columns(variables.columns, {}, part, ",")
        return beside

    fills: dict[str, Callable[[Path], dict[Path, bytes]]] = {
        ".toml": lambda part: _put(part, dictionary_text(dictionary)), ".xlsx": workbook, ".csv": two_files,
    }  # fmt: skip
    written = place.write(fills[suffix])
    account = Account(
        "dictionary convert", f"{len(dictionary.variables):,} variables and {len(dictionary.codes):,} lists of codes.",
        (Balance("variables", len(dictionary.variables), (("written", len(variables)),)),),
    )  # fmt: skip
    session = Session(common, [])
    session.tell(Result(variables, account), written, rehearsal=False)
