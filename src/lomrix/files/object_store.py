"""Objects of a store, such as s3://bucket/study/visits.csv: they are read and written by way of copies on this disk."""

from __future__ import annotations

import atexit
import contextlib
import fnmatch
import functools
import shutil
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lomrix.core.errors import FileError, UsageError
from lomrix.core.nearest import advise
from lomrix.files.scratch import Scratch

SCHEME = "s3://"
READ, WRITTEN = "read", "written"
SIZE_AT_ONCE = 1 << 22
CHECK_ACCESS = "Check the bucket, and AWS_ACCESS_KEY_ID, AWS_SECRET_ACCESS_KEY and AWS_ENDPOINT_URL in the environment."


def is_object(reference: str) -> bool:
    """Return whether a reference names an object of a store."""
    return reference.startswith(SCHEME)


@functools.cache
def make_copies() -> Scratch:
    """Make the folder of all copies of this process."""
    atexit.register(remove_copies)
    return Scratch.make()


def remove_copies() -> None:
    """Remove all copies."""
    if make_copies.cache_info().currsize:
        make_copies().remove()
        make_copies.cache_clear()
        _copied.clear()


def get_copy(reference: str, kind: str) -> Path:
    """Return where the copy of an object is that is read or written; its folder is made.

    Raises UsageError if the address would lead out of the folder of all copies.
    """
    place = Path(reference.removeprefix(SCHEME))
    if place.is_absolute() or ".." in place.parts:
        raise UsageError(f"{reference} is not the address of an object.", todo="Name one: s3://bucket/visits.csv")
    path = make_copies().folder / kind / place
    path.parent.mkdir(parents=True, exist_ok=True)
    return path


def get_reference(path: Path) -> str:
    """Return the reference of a copy; of other files the path."""
    if make_copies.cache_info().currsize and path.is_relative_to(make_copies().folder):
        return SCHEME + Path(*path.relative_to(make_copies().folder).parts[1:]).as_posix()
    return str(path)


# ------------------------------------------------------------------- reading

# What was copied, with its size and the time of its last change.
_copied: dict[Path, tuple[int, int | None]] = {}


def fetch(reference: str, sheets: Sequence[str]) -> str:
    """Copy an object, or those of a folder or pattern, and those that describe them; return the copy's reference.

    In a file with one of the extensions `sheets` a worksheet may be named.

    Raises FileError if it does not exist, or the store refuses.
    """
    from lomrix.files.descriptor import PACKAGE, descriptor_path, old_descriptor_path

    path, _, sheet = reference.rpartition("#")
    if not path.lower().endswith(tuple(sheets)):
        path, sheet = reference, ""
    folder, _, name = path.rpartition("/")
    is_several = not name or any(character in name for character in "*?[")
    kind = READ
    with explain_errors(reference):
        if is_several:
            # In a folder of their own: other copies are not part of it.
            kind = make_copies().make_path().name
            objects = list_objects(folder, name or "*")
            if not objects:
                raise FileError(f"No objects matched {path}.", todo="Check the address.")
        else:
            beside = (descriptor_path(Path(name)).name, old_descriptor_path(Path(name)).name)
            objects = find_objects(f"{folder}/{key}" for key in (name, *beside))
        objects += find_objects([f"{folder}/{PACKAGE}"])
        if not is_several and name not in {info.base_name for info in objects}:
            names = sorted(info.base_name for info in list_objects(folder, "*"))
            todo = advise(name, names, "Check the address.")
            raise FileError(f"The object {path} does not exist.", todo=todo)
        for info in objects:
            copy(f"{folder}/{info.base_name}", info, kind)
    return str(get_copy(path, kind)) + ("/" if not name else "") + (f"#{sheet}" if sheet else "")


def list_objects(folder: str, pattern: str) -> list[Any]:
    """List the objects in a folder whose names fit a pattern, without those of folders in it."""
    from pyarrow import fs

    store, place = open_store(folder)
    found = store.get_file_info(fs.FileSelector(place, allow_not_found=True))
    return [info for info in found if info.is_file and fnmatch.fnmatchcase(info.base_name, pattern)]


def find_objects(references: Iterable[str]) -> list[Any]:
    """Return what a store knows of those objects that exist."""
    stores = [open_store(reference) for reference in references]
    return [info for store, place in stores if (info := store.get_file_info(place)).is_file]


def copy(reference: str, info: Any, kind: str) -> None:
    """Copy an object, unless that was done and it has not changed."""
    path, version = get_copy(reference, kind), (info.size, info.mtime_ns)
    if _copied.get(path) == version:
        return
    store, place = open_store(reference)
    with store.open_input_stream(place) as source, path.open("wb") as target:
        shutil.copyfileobj(source, target, SIZE_AT_ONCE)
    _copied[path] = version


@functools.cache
def open_store(reference: str) -> tuple[Any, str]:
    """Return the store that an object is in, and its place there."""
    from pyarrow import fs

    store, place = fs.FileSystem.from_uri(SCHEME + reference.removeprefix(SCHEME).partition("/")[0])
    return store, f"{place}/{reference.removeprefix(SCHEME).partition('/')[2]}".rstrip("/")


@contextlib.contextmanager
def explain_errors(reference: str, verb: str = READ) -> Iterator[None]:
    """Explain errors of a store in plain words."""
    try:
        yield
    except (OSError, ValueError) as error:
        where = str(error).partition("\n")[0].partition("; Details")[0]
        raise FileError(f"{reference} cannot be {verb}.", where=where, todo=CHECK_ACCESS) from error


# ------------------------------------------------------------------- writing


@dataclass
class Upload:
    """An object that was replaced, with a copy of what was there before; None if nothing was."""

    reference: str
    before: Path | None

    def undo(self) -> None:
        """Restore what was there before, as far as the store allows."""
        store, place = open_store(self.reference)
        with contextlib.suppress(OSError):
            store.delete_file(place) if self.before is None else send(self.before, self.reference)


def require_absent(paths: Iterable[Path], *, overwrite: bool) -> None:
    """Stop if an object is already there that may not be replaced, given the copies that are to be written.

    Raises FileError with its reference, or if the store refuses.
    """
    for path in paths:
        reference = get_reference(path)
        if is_object(reference):
            with explain_errors(reference, WRITTEN):
                if overwrite or not find_objects([reference]):
                    continue
            raise FileError(f"{reference} already exists.", todo="Add ‹overwrite› to replace it, or use another name.")


def upload(paths: Iterable[Path], uploads: list[Upload]) -> None:
    """Send files that were written as copies to their store, and add each to the uploads; others stay where they are.

    Raises FileError if the store refuses; the uploads can be undone then.
    """
    for path in paths:
        reference = get_reference(path)
        if is_object(reference) and path.is_file():
            with explain_errors(reference, WRITTEN):
                previous = find_objects([reference])
                for info in previous:
                    copy(reference, info, READ)
                uploads.append(Upload(reference, get_copy(reference, READ) if previous else None))
                send(path, reference)


def send(path: Path, reference: str) -> None:
    """Send a file to a store, where it appears whole."""
    store, place = open_store(reference)
    with path.open("rb") as source, store.open_output_stream(place) as target:
        shutil.copyfileobj(source, target, SIZE_AT_ONCE)
