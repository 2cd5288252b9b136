"""Arrow tables with our descriptor in their metadata: what Parquet and Arrow files have in common."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from lomrix.core.errors import FileError
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.files import descriptor
from lomrix.files.arrow_columns import METADATA, REASON_COLUMN, ArrowForm, columns_from_arrow
from lomrix.files.read import Read, ReadSettings


def table_of(
    arrow: Any,
    settings: ReadSettings,
    path: Path,
    resource: descriptor.Resource | None = None,
    names: tuple[str, ...] = (),
) -> Read:
    """Our table from an Arrow table, with what its metadata, or a descriptor beside its file, says of it."""
    resource = resource or resource_in(arrow.schema.metadata, path)
    beside = Dictionary() if resource is None else resource.dictionary()
    null_reasons = {} if resource is None else resource.null_reasons
    columns, notes = columns_from_arrow(arrow, settings, beside, null_reasons, path.name)
    history = () if resource is None else resource.history
    dictionary = settings.dictionary.for_reading(columns).joined(beside).without_tokens()
    return Read(Table(columns, dictionary, history, path.stem), tuple(notes), names)


def columns_in(names: list[str]) -> tuple[str, ...]:
    """The columns among the names of a file, those that only hold another's reasons left out."""
    return tuple(name for name in names if not name.endswith(REASON_COLUMN) or name[: -len(REASON_COLUMN)] not in names)


def resource_in(metadata: Mapping[bytes, bytes] | None, path: Path) -> descriptor.Resource | None:
    """The descriptor in a file's metadata; None where the file was not written by Lomrix."""
    text = (metadata or {}).get(METADATA)
    if text is None:
        return None
    try:
        return descriptor.Resource.model_validate_json(text)
    except ValidationError as error:
        raise FileError(
            f"The metadata of {path.name} cannot be understood.", where=descriptor.first_line(error)
        ) from error


def metadata_of(form: ArrowForm, final: Path, key: list[str]) -> dict[bytes, bytes]:
    """Metadata with the descriptor of a file that will stand at `final`."""
    content = descriptor_of(form, key)
    whole = {"name": final.stem.lower().replace(" ", "-"), "path": final.name, **content}
    return {METADATA: json.dumps(whole, ensure_ascii=False).encode()}


def descriptor_of(form: ArrowForm, key: list[str]) -> dict[str, Any]:
    """The descriptor of a table; columns of reasons are named in the fields that they belong to."""
    content = descriptor.descriptor(form.table, form.tokens, key)
    for field in content["schema"]["fields"]:
        if field["name"] in form.told:
            field["lomrix:reasons"] = field["name"] + REASON_COLUMN
    return content
