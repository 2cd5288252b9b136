"""Deidentify a source: the data in one place, the way back in another that only its owner can read."""

from __future__ import annotations

import os
import secrets
from dataclasses import dataclass
from pathlib import Path

from lomrix.cli.options import Common
from lomrix.cli.session import STREAM, WITH_DESCRIPTOR, Session
from lomrix.core.errors import FileError, UsageError
from lomrix.core.steps.deidentify import Deidentify
from lomrix.files import target
from lomrix.files.descriptor import descriptor_path
from lomrix.files.source import guarded
from lomrix.files.text_writer import write_columns
from lomrix.files.tokens import tokens_of

OWNER_ONLY = 0o600
SECRET_BYTES = 32


@dataclass(frozen=True)
class Wish:
    """What is to be unnamed, as typed."""

    id: str
    remove: str
    keyed_hash: bool
    shift: str
    coarsen: tuple[str, ...]
    on_day: str
    quasi: str


def deidentify_source(common: Common, source: str, wish: Wish, linkage: str, seed: str, *, same_folder: bool) -> None:
    """Unname a source and write data and linkage apart; a rehearsal without an output."""
    session = Session(common, [source])
    out = common.out
    if out == STREAM:
        raise UsageError("Data without names go to a file.", todo="Say --out FILE.")
    data = link = None
    if Path(linkage).suffix.lower() != ".csv":
        raise UsageError(
            f"The linkage is a .csv file, not {Path(linkage).name}.", todo="Say --linkage apart/linkage.csv."
        )
    if out:
        if Path(out).resolve().parent == Path(linkage).resolve().parent and not same_folder:
            raise UsageError(
                "Data and linkage would stand in one folder, where both go astray together.",
                todo="Name another folder for --linkage, or add --same-folder.",
            )
        beside = [descriptor_path(Path(out))] if Path(out).suffix.lower() in WITH_DESCRIPTOR else []
        data = target.Target.checked(out, [source, linkage], overwrite=common.overwrite, beside=beside)
        link = target.Target.checked(linkage, [source], overwrite=common.overwrite)
    secret, is_new = secret_of(seed)
    bands = tuple(band_of(text) for text in wish.coarsen)
    if bands and not wish.on_day:
        raise UsageError("Ages are reckoned on a day.", todo="Say --on-day 2024-01-31.")
    step = Deidentify(
        id=wish.id, remove=wish.remove, secret=secret, keyed_hash=wish.keyed_hash, shift=wish.shift, coarsen=bands,
        on_day=wish.on_day, quasi=wish.quasi,
    )  # fmt: skip
    result = session.report(step, "unnaming")
    written: list[Path] = []
    if data is not None and link is not None:
        if is_new:
            written_secret(Path(seed), secret)
        tokens = {
            name: tokens_of(one, result.linkage.dictionary.of(name)) for name, one in result.linkage.columns.items()
        }

        def fill(part: Path) -> dict[Path, bytes]:
            part.chmod(OWNER_ONLY)
            write_columns(result.linkage.columns, tokens, part, ",")
            return {}

        # The linkage comes first: data whose way back is lost would be worse than a linkage without data.
        linked = link.write(fill, mode=OWNER_ONLY)
        # The history of the raw file names people's files and is left behind with them.
        clean = result.table.__class__(result.table.columns, result.table.dictionary, (), result.table.name)
        written = [*target.write_table(clean, data), *linked]
    session.tell(result, written, rehearsal=not out)


def band_of(text: str) -> tuple[str, int]:
    """Read `birth_date=10`.

    Raises
    ------
    UsageError
        Where it is no column and whole number of years.
    """
    name, _, years = text.partition("=")
    if not name.strip() or not years.strip().isdigit() or int(years) < 1:
        raise UsageError(
            f'"{text}" does not say which column in bands of how many years.', todo="Say --coarsen birth_date=10."
        )
    return name.strip(), int(years)


def secret_of(seed: str) -> tuple[str, bool]:
    """The secret in a seed file; a new one, and True, where there is no such file yet."""
    path = Path(seed)
    if not path.exists():
        return secrets.token_hex(SECRET_BYTES), True
    content: bytes = guarded(path, "read", path.read_bytes)
    if not content.strip():
        raise FileError(f"The seed file {path} is empty.", todo="Take it away, and a new one is made.")
    return content.strip().decode(errors="replace"), False


def written_secret(path: Path, secret: str) -> None:
    """Put a new secret into its file, which only its owner can read."""

    def write() -> None:
        number = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, OWNER_ONLY)
        with os.fdopen(number, "wb") as file:
            file.write(secret.encode() + b"\n")

    guarded(path, "write", write)
