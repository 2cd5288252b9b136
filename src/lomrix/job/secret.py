"""Secrets: files of one line that nobody may see, made where there is none."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.core.table.texts import table_of_texts
from lomrix.files.staging import FileSink, guarded

SECRET_BYTES = 32
SECRET = "secret"


def read_secret(reference: str) -> tuple[Table, bool]:
    """The secret in a file as a table of one cell; a new one, and True, where there is no such file yet.

    Raises
    ------
    FileError
        Where the file is empty or cannot be read.
    """
    path = Path(reference)
    if not path.exists():
        return table_of_texts([SECRET], [[secrets.token_hex(SECRET_BYTES)]], path.stem), True
    content = guarded(path, "read", path.read_bytes)
    if not content.strip():
        raise FileError(f"The secret file {path} is empty.", todo="Take it away, and a new one is made.")
    return table_of_texts([SECRET], [[content.strip().decode(errors="replace")]], path.stem), False


@dataclass
class SecretSink(FileSink):
    """A new secret in a file of its own, which only its owner can read."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write the one cell."""
        assert isinstance(content, Table)
        part.write_text(f"{content[SECRET].first_text()}\n")
        return {}
