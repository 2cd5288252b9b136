"""A dictionary written by hand, in TOML."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary, Variable
from lomrix.files.descriptor import first_line
from lomrix.files.source import guarded, require_file


class DictionaryFile(BaseModel):
    """The file's contents: `[variables.NAME]` and `[codes.NAME]`."""

    model_config = ConfigDict(extra="forbid")
    variables: dict[str, Variable] = Field(default_factory=dict)
    codes: dict[str, dict[str, str]] = Field(default_factory=dict)


def read_dictionary(source: str) -> Dictionary:
    """Read a dictionary file.

    Raises
    ------
    FileError
        Where it is not there, is no TOML, or says what a dictionary cannot hold; the line or entry is named.
    """
    path = Path(source)
    require_file(path)
    raw: bytes = guarded(path, "read", path.read_bytes)
    try:
        content: dict[str, Any] = tomllib.loads(raw.decode())
        found = DictionaryFile.model_validate(content)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, ValidationError) as error:
        raise FileError(
            f"The dictionary {path.name} cannot be understood.",
            where=first_line(error),
            todo='An entry looks like [variables.age] with label = "Age", minimum = 16.',
        ) from error
    for name, entry in found.variables.items():
        if entry.codes is not None and entry.codes not in found.codes:
            raise FileError(
                f"The dictionary {path.name} has no list of codes named {entry.codes}.",
                where=f"variables → {name} → codes",
                todo=f"Add [codes.{entry.codes}], or name one of {', '.join(found.codes) or 'the lists that you add'}.",
            )
    return Dictionary(found.variables, found.codes)
