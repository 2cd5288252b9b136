# Reading of JSON Lines.
from pathlib import Path

from pyarrow import Table

def read_json(source: Path | str) -> Table: ...
