"""What becomes of columns of text: type, cells, reasons and notes, of each column whole.

The expected output is in `readings.txt`: what was said of the column, its cells with | between, and what comes of it.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest

from lomrix.core.table.variable import Variable
from lomrix.core.text.reading import read_text_column
from tests.core.steps.test_whole_accounts import read_sections

EXPECTED = Path(__file__).with_name("readings.txt")


def happening(title: str) -> list[str]:
    """What a column is read as; its title is what was said of it, a colon, and its cells, «» for a blank one."""
    settings, _, cells = title.partition(": ")
    words = dict(word.split("=", 1) for word in settings.split()[1:])
    missing = dict(one.split(">") for one in words.get("missing", "").split(";") if one)
    variable = Variable.model_validate({"type": words.get("type"), "missing": missing})
    texts = [None if cell == "«»" else cell.replace("_", " ") for cell in cells.split("|")]
    form, decimal = words.get("form", "").replace("_", " ").replace("/or/", "|"), words.get("decimal", ".")
    made, notes = read_text_column("x", pa.array(texts, pa.large_string()), variable, form, decimal,
                               words.get("thousands", ""), tokens=words.get("tokens") != "no")  # fmt: skip
    reasons = made.reason_cells(np.arange(len(made)))
    output = [str(cell) if why is None else f"‹{why}›" for cell, why in zip(made.cells(), reasons, strict=True)]
    lines = [f"{made.type}: {'|'.join(output)}"]
    return lines + [f"! {note.kind}: {note.text} ({note.count}) {list(note.examples)}" for note in notes]


@pytest.mark.parametrize("title", list(read_sections(EXPECTED)))
def test_what_a_column_of_text_is_read_as(title: str) -> None:
    assert happening(title) == read_sections(EXPECTED)[title]
