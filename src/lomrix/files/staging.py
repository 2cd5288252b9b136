"""Staging: an output appears whole or not at all, is on the disk before it appears, and never replaces by accident."""

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

from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import AS_ALWAYS, Delivery
from lomrix.core.table.notes import Note
from lomrix.files.hashing import file_hash
from lomrix.files.interface import Place, Placed, Sink

if TYPE_CHECKING:
    from lomrix.core.steps.export.prepared import Prepared

T = TypeVar("T")
ADVICE = {28: "Free some space, or write to another disk.", 13: "Check the permissions, or choose another place."}
PART = re.compile(r"\.(?P<name>.+)\.(?P<owner>\d+)-[0-9a-f]{8}\.(?P<kind>part|before)")


def guarded(path: Path, doing: str, action: Callable[[], T]) -> T:
    """Do something with a file; whatever the system says against it becomes a plain error.

    Raises
    ------
    FileError
        With the system's own reason.
    """
    try:
        return action()
    except UnicodeEncodeError as error:
        if str(path).isprintable() and str(path).encode(errors="ignore").decode() == str(path):
            text = repr(error.object[error.start : error.end])
            todo = "Mend it in a copy: half of a pair of signs stands there alone."
            raise FileError(f"{path.name} holds a text that is no Unicode.", where=text, todo=todo) from error
        what = f"{path} cannot be {'read' if doing == 'read' else 'written'} in this format: its name is no UTF-8."
        raise FileError(what, todo="Give the file another name.") from error
    except (OSError, MemoryError) as error:
        reason = getattr(error, "strerror", None) or str(error) or type(error).__name__
        todo = ADVICE.get(getattr(error, "errno", 0) or 0, "Check the path and the disk.")
        done = "read" if doing == "read" else "written"
        raise FileError(f"{path} cannot be {done}.", where=reason, todo=todo) from error


def part_of(path: Path) -> Path:
    """A new file beside a path, in which its content is made; what dead runs left of it is taken away."""
    clear_up(path)
    part = name_beside(path, "part")
    part.touch(mode=0o600, exist_ok=False)
    return part


def name_beside(path: Path, kind: str) -> Path:
    """A new name beside a path, which tells the process that it belongs to."""
    return path.with_name(f".{path.name}.{os.getpid()}-{secrets.token_hex(4)}.{kind}")


def clear_up(path: Path) -> None:
    """Take away what dead runs left beside a path; what stood there before comes back where nothing stands there."""
    for left in path.parent.glob(f".{_escaped(path.name)}.*.*"):
        found = PART.fullmatch(left.name)
        if found and found["name"] == path.name and not _is_alive(int(found["owner"])):
            with contextlib.suppress(OSError):
                if found["kind"] == "before" and not path.exists():
                    left.rename(path)
                elif left.is_dir():
                    shutil.rmtree(left)
                else:
                    left.unlink()


def kept_before(place: Path) -> Path | None:
    """What stands at a place under a second name, until it is settled that it goes; None where nothing does."""
    if not place.exists():
        return None
    before = name_beside(place, "before")
    try:
        os.link(place, before)
    except OSError:  # a disk without such names, or another person's file
        shutil.copy2(place, before)
    return before


def put_new(part: Path, place: Path) -> None:
    """Give a part its place, where nothing may stand.

    Raises
    ------
    FileExistsError
        Where something has come there meanwhile.
    """
    try:
        os.link(part, place)
        part.unlink()
    except FileExistsError:
        raise
    except OSError:  # a disk without second names
        if place.exists():
            raise FileExistsError(errno.EEXIST, "something has come there meanwhile") from None
        part.rename(place)


def _escaped(name: str) -> str:
    return "".join(f"[{sign}]" if sign in "*?[" else sign for sign in name)


def _is_alive(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def current_umask() -> int:
    """The permissions that new files do not get."""
    mask = os.umask(0)
    os.umask(mask)
    return mask


def flushed(path: Path) -> None:
    """Have the system write a file to the disk."""
    with path.open("rb") as file:
        os.fsync(file.fileno())


def require_no_directory(path: Path) -> None:
    """Stop where a path that shall be written to is a directory.

    Raises
    ------
    FileError
        Naming a file in it.
    """
    if path.is_dir():
        raise FileError(f"{path} is a directory.", todo=f"Name a file in it, such as {path / 'result.csv'}.")


@dataclass
class FileSink(Sink):
    """A file with what belongs beside it. Formats say how the content is written, and nothing else.

    Parameters
    ----------
    path
        Where the file will stand.
    overwrite
        Whether files that are there may be replaced.
    owner_only
        Whether only its owner may read it.
    delivery
        How it is to be laid out, as far as that was said.
    prepared
        How what is written has to be understood; said before anything is staged, where it is an export.
    notes
        What the writing wants a person to look at.
    """

    path: Path
    overwrite: bool = False
    owner_only: bool = False
    delivery: Delivery = AS_ALWAYS
    prepared: Prepared | None = None
    parts: dict[Path, Path] = field(default_factory=dict)
    before: dict[Path, Path | None] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write the content to a part; returns the content of each file that belongs beside it."""
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
    def places(self) -> tuple[Place, ...]:
        """The file, and those beside it."""
        return (self.path, *self.beside)

    def check(self) -> None:
        """Stop where it is a directory, its folder is missing, or a file is there already."""
        require_no_directory(self.path)
        if not self.path.parent.is_dir():
            raise FileError(
                f"There is no folder {self.path.parent}.", todo=f"Make it first: mkdir -p {self.path.parent}"
            )
        for one in (self.path, *self.beside):
            if one.is_dir():
                raise FileError(f"{one} is a directory.", todo="Move it away, or name another file.")
            if one.exists() and not one.is_file():
                todo = "Name another file; standard output is called by the sign -"
                raise FileError(f"{one} is no plain file, but a device or a pipe.", todo=todo)
            clear_up(one)
            if one.exists() and not self.overwrite:
                todo = "Add ‹overwrite› to replace it, or name another file."
                raise FileError(f"{one} is there already.", todo=todo)

    def stage(self, content: object) -> None:
        """Write everything to parts beside the places, and have it on the disk."""

        def all_parts() -> None:
            part = self._part(self.path)
            more = self.write(content, part)
            for place, text in more.items():
                self._part(place).write_bytes(text)
            for place, written in self.parts.items():
                written.chmod(self._mode(place))
                flushed(written)

        try:
            guarded(self.path, "write", all_parts)
        except BaseException:
            self.discard()
            raise

    def _part(self, place: Path) -> Path:
        # A link is followed, so that the file it leads to is replaced and the link stays.
        place = place.resolve() if place.is_symlink() else place
        self.parts[place] = part_of(place)
        return self.parts[place]

    def _mode(self, place: Path) -> int:
        if self.owner_only:
            return 0o600
        return place.stat().st_mode & 0o777 if place.exists() else 0o666 & ~current_umask()

    @property
    def staged(self) -> Path:
        """The part that holds the content."""
        return next(iter(self.parts.values()))

    def staged_hash(self) -> str:
        """The hash of the part."""
        return file_hash(self.staged)

    def commit(self) -> tuple[Placed, ...]:
        """Rename the parts: what belongs beside the file first, so that the file never stands there without it.

        Where one of them cannot be, all is as it was. Where the run is killed in between, the description beside the
        old file is the new one's; reading tells by its hash that they do not belong together.
        """

        def rename() -> None:
            for place, part in reversed(self.parts.items()):
                before = kept_before(place) if self.overwrite else None
                self.before[place] = before
                try:
                    put_new(part, place) if before is None else part.replace(place)
                except BaseException:
                    del self.before[place]
                    if before is not None:
                        before.unlink()
                    raise

        try:
            guarded(self.path, "write", rename)
        except BaseException:
            self.undo()
            self.discard()
            raise
        placed = tuple(self.parts)
        self.parts = {}
        return tuple(Placed(str(path), path.stat().st_size) for path in (self.path, *placed[1:]))

    def undo(self) -> None:
        """Put back what stood there."""
        for place, before in self.before.items():
            with contextlib.suppress(OSError):
                place.unlink() if before is None else before.replace(place)
        self.before = {}

    def settle(self) -> None:
        """Let go of what stood there."""
        for before in self.before.values():
            if before is not None:
                with contextlib.suppress(OSError):
                    before.unlink()
        self.before = {}

    def discard(self) -> None:
        """Take away the parts."""
        for part in self.parts.values():
            with contextlib.suppress(OSError):
                part.unlink()
        self.parts = {}


@dataclass
class TextSink(FileSink):
    """A text in a file."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write it in UTF-8."""
        part.write_text(str(content), encoding="utf-8")
        return {}
