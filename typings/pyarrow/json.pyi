# Reading of JSON Lines.
from pathlib import Path

from pyarrow import BufferReader, Table

def read_json(source: Path | str | BufferReader) -> Table: ...
