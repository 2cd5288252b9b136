"""Targets: an output appears whole or not at all, and never replaces a file by accident."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import FileError, UsageError
from lomrix.core.table.table import Table
from lomrix.files.source import WRITERS, format_of, guarded


@dataclass(frozen=True)
class Target:
    """A place to write to, checked before any work is done.

    Parameters
    ----------
    path
        Where the file will stand.
    overwrite
        Whether a file that is there may be replaced.
    """

    path: Path
    overwrite: bool = False

    @classmethod
    def checked(cls, name: str, sources: Sequence[str], *, overwrite: bool, beside: Sequence[Path] = ()) -> Target:
        """Check that a file may be written here.

        Parameters
        ----------
        name
            The path as typed.
        sources
            The inputs, which are never changed.
        overwrite
            Whether a file that is there may be replaced.
        beside
            Further files that will be written with it.

        Raises
        ------
        UsageError
            Where the output is one of the inputs.
        FileError
            Where it is a directory, its folder is missing, or a file is there already.
        """
        path = Path(name)
        if path.is_dir():
            raise FileError(f"{path} is a directory.", todo=f"Name a file in it, such as {path / 'result.csv'}.")
        for source in sources:
            if path.exists() and Path(source).exists() and path.samefile(source):
                raise UsageError(f"{path} is an input; inputs are never changed.", todo="Name another file with --out.")
        if not path.parent.is_dir():
            raise FileError(f"There is no folder {path.parent}.", todo=f"Make it first: mkdir -p {path.parent}")
        for one in (path, *beside):
            if one.exists() and not overwrite:
                raise FileError(f"{one} is there already.", todo="Add --overwrite to replace it, or name another file.")
        return cls(path, overwrite)

    def write(self, fill: Callable[[Path], dict[Path, bytes]], *, mode: int = 0o666) -> list[Path]:
        """Let `fill` write to a file beside the target, then put everything in its place.

        Parameters
        ----------
        fill
            Writes to the path it is given, and returns further files with their contents.
        mode
            Permissions of the files, less those that the system's mask takes away.

        Returns
        -------
        The files that were put in place.

        Raises
        ------
        FileError
            Where the system does not let us write; nothing is left behind then.
        """
        parts: list[tuple[Path, Path]] = []

        def all_parts() -> list[Path]:
            part = self._part(self.path)
            parts.append((part, self.path))
            for place, content in fill(part).items():
                more = self._part(place)
                parts.append((more, place))
                more.write_bytes(content)
            for written, place in parts:
                written.chmod(mode & ~current_umask())
                written.replace(place)
            return [place for _, place in parts]

        try:
            placed: list[Path] = guarded(self.path, "write", all_parts)
            return placed
        finally:
            for part, _ in parts:
                with contextlib.suppress(OSError):
                    part.unlink()

    @staticmethod
    def _part(path: Path) -> Path:
        number, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
        os.close(number)
        return Path(name)


def current_umask() -> int:
    """The permissions that new files do not get."""
    mask = os.umask(0)
    os.umask(mask)
    return mask


def write_table(table: Table, target: Target, key: Sequence[str] = ()) -> list[Path]:
    """Write a table to a checked target, with its dictionary and history.

    Returns
    -------
    The files written.
    """
    writer = format_of(target.path, WRITERS, "write")
    return target.write(lambda part: writer.write_table(table, part, target.path, list(key)))
