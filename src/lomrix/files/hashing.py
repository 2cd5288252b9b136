"""Hashes of files, which may be begun long before they are wanted."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from concurrent.futures import Future
from pathlib import Path
from threading import Thread

ALGORITHM = "blake2b-256:"
# The hash of a smaller file is had sooner than a thread.
LARGE = 1 << 23
# Hashes that were begun: by path, size and time of the last change, so that none is of an older file.
_BEGUN: dict[tuple[str, int, int], Future[str]] = {}


def file_hash(path: Path) -> str:
    """A file's hash with its algorithm in front; `b2sum -l 256 FILE` gives the same digits."""
    with path.open("rb") as file:
        return ALGORITHM + hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=32)).hexdigest()


def begin_hash(path: Path) -> Future[str]:
    """Begin to compute a file's hash, while other work goes on; what was begun before is not begun again."""
    now = path.stat()
    key = (str(path.absolute()), now.st_size, now.st_mtime_ns)  # the folder may change while it is computed
    if key not in _BEGUN:
        future = _BEGUN[key] = Future[str]()
        # A program that stops does not wait for it.
        Thread(target=_hash_into, args=(Path(key[0]), future), daemon=True).start()
    return _BEGUN[key]


def begin_large_hashes(references: Iterable[str]) -> None:
    """Begin the hashes of those references that are large files, while the program is still being loaded."""
    for path in map(Path, references):
        if path.is_file() and path.stat().st_size >= LARGE:
            begin_hash(path)


def _hash_into(path: Path, future: Future[str]) -> None:
    try:
        future.set_result(file_hash(path))
    except Exception as error:  # whatever it is: whoever waits for the hash must learn of it
        future.set_exception(error)
