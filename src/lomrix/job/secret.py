"""Secrets: files of one line that only their owner can read, made where they do not exist yet."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from lomrix.core.errors import FileError
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_table
from lomrix.files.staging import FileSink, guard

SECRET_BYTES = 32
SECRET = "secret"


def read_secret(reference: str) -> tuple[Table, bool]:
    """Read a secret as a table of one cell; if there is no file, make a new secret and return True with it."""
    path = Path(reference)
    if not path.exists():
        return make_text_table([SECRET], [[secrets.token_hex(SECRET_BYTES)]], path.stem), True
    content = guard(path, "read", path.read_bytes)
    if not content.strip():
        raise FileError(f"The secret file {path} is empty.", todo="Remove the file; a new secret is made then.")
    return make_text_table([SECRET], [[content.strip().decode(errors="replace")]], path.stem), False


@dataclass
class SecretSink(FileSink):
    """A new secret in a file that only its owner can read."""

    def write(self, content: object, part: Path) -> Mapping[Path, bytes]:
        """Write the secret."""
        assert isinstance(content, Table)
        part.write_text(f"{content[SECRET].first_text()}\n")
        return {}
