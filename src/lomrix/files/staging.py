"""Staging: an output appears whole or not at all, is on disk before it appears, and never replaces by accident."""

from __future__ import annotations

import contextlib
import errno
import os
import re
import secrets
import shutil
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from lomrix.core.combining import Run
from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import DEFAULT_DELIVERY, Delivery
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.hashing import hash_file
from lomrix.files.interface import Location, Sink, StoredOutput
from lomrix.files.missing import InCells, MissingPlan, plan_missing
from lomrix.files.scratch import is_alive, require_folder

if TYPE_CHECKING:
    from lomrix.core.steps.export.prepared import Prepared

T = TypeVar("T")
ADVICE = {28: "Free some space, or write to another disk.", 13: "Check the permissions, or choose another place."}
PART = re.compile(r"\.(?P<name>.+)\.(?P<owner>\d+)-[0-9a-f]{8}\.(?P<kind>part|before)")


def guard(path: Path, verb: str, action: Callable[[], T]) -> T:
    """Do something with a file; errors of the system become plain errors.

    Raises FileError with the system's reason.
    """
    try:
        return action()
    except UnicodeEncodeError as error:
        if str(path).isprintable() and str(path).encode(errors="ignore").decode() == str(path):
            text = repr(error.object[error.start : error.end])
            todo = "Correct it in a copy: it holds half of a surrogate pair."
            raise FileError(f"{path.name} holds text that is not valid Unicode.", where=text, todo=todo) from error
        message = f"{path} cannot be {'read' if verb == 'read' else 'written'} in this format: its name is not UTF-8."
        raise FileError(message, todo="Rename the file.") from error
    except (OSError, MemoryError) as error:
        reason = getattr(error, "strerror", None) or str(error) or type(error).__name__
        if type(error) is OSError and error.errno:  # the libraries' own words have a code in them
            reason = os.strerror(error.errno)
        todo = ADVICE.get(getattr(error, "errno", 0) or 0, "Check the path and the disk.")
        participle = "read" if verb == "read" else "written"
        raise FileError(f"{path} cannot be {participle}.", where=reason, todo=todo) from error


def make_part(path: Path) -> Path:
    """Create a new file beside a path for its content; leftovers of dead runs are removed."""
    remove_leftovers(path)
    part = make_name_beside(path, "part")
    part.touch(mode=0o600, exist_ok=False)
    return part


def make_name_beside(path: Path, kind: str) -> Path:
    """Return a new name beside a path, which includes the process that owns it."""
    return path.with_name(f".{path.name}.{os.getpid()}-{secrets.token_hex(4)}.{kind}")


def remove_leftovers(path: Path) -> None:
    """Remove what dead runs left beside a path; the previous file is restored if none is there."""
    for leftover in path.parent.glob(f".{_escape_pattern(path.name)}.*.*"):
        match = PART.fullmatch(leftover.name)
        if match and match["name"] == path.name and not is_alive(int(match["owner"])):
            with contextlib.suppress(OSError):
                if match["kind"] == "before" and not path.exists():
                    leftover.rename(path)
                elif leftover.is_dir():
                    shutil.rmtree(leftover)
                else:
                    leftover.unlink()


def keep_previous(path: Path) -> Path | None:
    """Keep the present file under a second name until the output is settled; None if there is none."""
    if not path.exists():
        return None
    backup = make_name_beside(path, "before")
    try:
        os.link(path, backup)
    except OSError:  # a file system without hard links, or another person's file
        shutil.copy2(path, backup)
    return backup


def put_new(part: Path, path: Path) -> None:
    """Move a part to its place, where nothing may exist.

    Raises FileExistsError if something appeared there meanwhile.
    """
    try:
        os.link(part, path)
        part.unlink()
    except FileExistsError:
        raise
    except OSError:  # a file system without hard links
        if path.exists():
            raise FileExistsError(errno.EEXIST, "something appeared there meanwhile") from None
        part.rename(path)


def _escape_pattern(name: str) -> str:
    return "".join(f"[{character}]" if character in "*?[" else character for character in name)


def get_umask() -> int:
    """Return the permissions that new files do not get."""
    mask = os.umask(0)
    os.umask(mask)
    return mask


def flush(path: Path) -> None:
    """Have the system write a file to disk."""
    with path.open("rb") as file:
        os.fsync(file.fileno())


def require_no_directory(path: Path) -> None:
    """Stop if an output path is a directory.

    Raises FileError: suggesting a file in it.
    """
    if path.is_dir():
        todo = f"Name a file in it, such as {path / 'result.csv'}, or end it with / for a folder of Parquet files."
        raise FileError(f"{path} is a directory.", todo=todo)


@dataclass
class FileSink(Sink):
    """A file with others beside it. Formats implement only how the content is written."""

    path: Path  # where the file will stand
    overwrite: bool = False  # whether files that are there may be replaced
    owner_only: bool = False  # whether only its owner may read it
    delivery: Delivery = DEFAULT_DELIVERY  # how it is to be laid out, as far as that was said
    # how what is written has to be understood; said before anything is staged, where it is an export
    prepared: Prepared | None = None
    parts: dict[Path, Path] = field(default_factory=dict)
    before: dict[Path, Path | None] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)  # what the writing wants a person to look at
    run: Run | None = None

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write the content to a part; return the content of each file beside it."""
        raise NotImplementedError

    @property
    def beside(self) -> tuple[Path, ...]:
        """The files that may be written beside it."""
        return ()

    @property
    def name(self) -> str:
        """Its file's name."""
        return self.path.name

    @property
    def locations(self) -> tuple[Location, ...]:
        """The file, and those beside it."""
        return (self.path, *self.beside)

    def check(self) -> None:
        """Stop if it is a directory, its folder is missing, or it already exists."""
        require_no_directory(self.path)
        require_folder(self.path.parent)
        for path in (self.path, *self.beside):
            if path.is_dir():
                raise FileError(f"{path} is a directory.", todo="Move it away, or name another file.")
            if path.exists() and not path.is_file():
                todo = "Name another file; for standard output use -"
                raise FileError(f"{path} is a device or a pipe, not a regular file.", todo=todo)
            remove_leftovers(path)
            if path.exists() and not self.overwrite:
                todo = "Add ‹overwrite› to replace it, or use another name."
                raise FileError(f"{path} already exists.", todo=todo)

    def stage(self, content: object) -> None:
        """Write everything to parts beside the final paths, and flush it to disk."""

        def write_parts() -> None:
            part = self._make_part(self.path)
            others = self.write(content, part)
            for path, text in others.items():
                self._make_part(path).write_bytes(text)
            for path, part_path in self.parts.items():
                part_path.chmod(self._choose_mode(path))
                flush(part_path)

        try:
            guard(self.path, "write", write_parts)
        except BaseException:
            self.discard()
            raise

    def _make_part(self, path: Path) -> Path:
        # Links are followed, so that their target is replaced and the link stays.
        path = path.resolve() if path.is_symlink() else path
        self.parts[path] = make_part(path)
        return self.parts[path]

    def _choose_mode(self, path: Path) -> int:
        if self.owner_only:
            return 0o600
        return path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~get_umask()

    @property
    def staged(self) -> Path:
        """The part that holds the content."""
        return next(iter(self.parts.values()))

    def compute_staged_hash(self) -> str:
        """Return the hash of the part."""
        return hash_file(self.staged)

    def commit(self) -> tuple[StoredOutput, ...]:
        """Rename the parts, those beside the file first, so that the file never exists without them.

        If one fails, everything is restored. After a kill in between, the new description is beside the old file;
        reading notices this by the hash.
        """

        def rename() -> None:
            for path, part in reversed(self.parts.items()):
                self._put(part, path)

        try:
            guard(self.path, "write", rename)
        except BaseException:
            self.undo()
            self.discard()
            raise
        paths = tuple(self.parts)
        self.parts = {}
        return tuple(StoredOutput(str(path), path.stat().st_size) for path in (self.path, *paths[1:]))

    def _put(self, part: Path, path: Path) -> None:
        """Move a part to its place; a file that appears there meanwhile is replaced too, if that is allowed."""
        backup = keep_previous(path) if self.overwrite else None
        self.before[path] = backup
        try:
            put_new(part, path) if backup is None else part.replace(path)
        except BaseException as error:
            del self.before[path]
            if backup is not None:
                backup.unlink()
            if not (self.overwrite and isinstance(error, FileExistsError)):
                raise
            self._put(part, path)

    def undo(self) -> None:
        """Restore the previous files."""
        for path, backup in self.before.items():
            with contextlib.suppress(OSError):
                path.unlink() if backup is None else backup.replace(path)
        self.before = {}

    def settle(self) -> None:
        """Remove the previous files."""
        for backup in self.before.values():
            if backup is not None:
                with contextlib.suppress(OSError):
                    backup.unlink()
        self.before = {}

    def discard(self) -> None:
        """Remove the parts."""
        for part in self.parts.values():
            with contextlib.suppress(OSError):
                part.unlink()
        self.parts = {}


@dataclass
class TextSink(FileSink):
    """A text file."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write it in UTF-8."""
        part.write_text(str(content), encoding="utf-8")
        return {}


HISTORY = "the history"


def describe_losses(table: Table, *, labels: bool = False, codes: bool = False, units: bool = False) -> list[str]:
    """Describe what is lost: reasons of empty cells and the history always, the rest as stated."""
    entries = {name: table.dictionary.of(name) for name in table.names}
    losses = []
    labelled = sum(bool(entry.label) for entry in entries.values())
    if labels and labelled:
        losses.append(f"labels of {pluralize(labelled, 'variable')}")
    coded = sum(bool(table.dictionary.labels_of(name)) for name in entries)
    if codes and coded:
        losses.append(f"codes of {pluralize(coded, 'variable')}")
    measured = sum(bool(entry.unit) for entry in entries.values())
    if units and measured:
        losses.append(f"units of {pluralize(measured, 'variable')}")
    reasons = {reason for column in table.columns.values() for reason in column.reason_counts()} - {"blank"}
    if reasons:
        losses.append(f"{pluralize(len(reasons), 'reason')} of empty cells ({', '.join(sorted(reasons))})")
    if len(table.history):
        losses.append(HISTORY)
    return losses


@dataclass
class DescribedSink(FileSink):
    """A file with a descriptor beside it; `in_cells` says how to write missing cells whose reason has no code."""

    in_cells: InCells = "empty"

    @property
    def beside(self) -> tuple[Path, ...]:
        """The descriptor."""
        return (descriptor.descriptor_path(self.path),)

    def plan_missing(self, table: Table) -> dict[str, MissingPlan]:
        """Return by column how its missing cells are written."""
        return {
            name: plan_missing(column, table.dictionary.of(name), self.in_cells)
            for name, column in table.columns.items()
        }

    def make_descriptor(
        self,
        part: Path,
        content: Mapping[str, object],
        digest: str = "",
        how: descriptor.TextLayout = descriptor.DEFAULT_LAYOUT,
    ) -> Mapping[Path, bytes]:
        """Return the descriptor of a part that was written; `digest` is its hash if already known."""
        size, digest = part.stat().st_size, digest or hash_file(part)
        return {self.beside[0]: descriptor.format_descriptor(self.path, size, digest, content, how)}
