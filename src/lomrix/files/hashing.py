"""Hashes of files, computed in the background."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from concurrent.futures import Future
from pathlib import Path
from threading import Thread

ALGORITHM = "blake2b-256:"
# Hashing a smaller file is faster than starting a thread.
LARGE = 1 << 23
# Started hashes by path, size and time of last change, so that none is outdated.
_STARTED: dict[tuple[str, int, int], Future[str]] = {}


def hash_file(path: Path) -> str:
    """Return a file's hash with its algorithm as prefix; `b2sum -l 256 FILE` gives the same digits."""
    with path.open("rb") as file:
        return ALGORITHM + hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=32)).hexdigest()


def hash_files(files: Iterable[tuple[str, str]]) -> str:
    """Return one hash for several files, by the name and hash of each."""
    lines = "".join(f"{name} {digest}\n" for name, digest in files)
    return ALGORITHM + hashlib.blake2b(lines.encode(), digest_size=32).hexdigest()


def begin_hash(path: Path) -> Future[str]:
    """Start computing a file's hash in the background, once."""
    status = path.stat()
    key = (str(path.absolute()), status.st_size, status.st_mtime_ns)  # the working directory may change meanwhile
    if key not in _STARTED:
        future = _STARTED[key] = Future[str]()
        # A daemon, so that the program can exit without it.
        Thread(target=_hash_into, args=(Path(key[0]), future), daemon=True).start()
    return _STARTED[key]


def begin_large_hashes(references: Iterable[str]) -> None:
    """Start the hashes of large files among the references while the program is still loading."""
    for path in map(Path, references):
        if path.is_file() and path.stat().st_size >= LARGE:
            begin_hash(path)


def _hash_into(path: Path, future: Future[str]) -> None:
    try:
        future.set_result(hash_file(path))
    except Exception as error:  # whoever waits for the hash must get the error
        future.set_exception(error)
