"""Hashes of files."""

from __future__ import annotations

import hashlib
from pathlib import Path

ALGORITHM = "blake2b-256:"


def file_hash(path: Path) -> str:
    """A file's hash with its algorithm in front; `b2sum -l 256 FILE` gives the same digits."""
    with path.open("rb") as file:
        return ALGORITHM + hashlib.file_digest(file, lambda: hashlib.blake2b(digest_size=32)).hexdigest()
