# Reading of JSON Lines.
from pathlib import Path

from pyarrow import BufferReader, Schema, Table

class ParseOptions:
    def __init__(self, explicit_schema: Schema | None = ...) -> None: ...

def read_json(source: Path | str | BufferReader, parse_options: ParseOptions | None = ...) -> Table: ...
