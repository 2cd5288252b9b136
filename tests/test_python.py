"""The Python interface: the examples of docs/python.md, and what is wrong ends in our errors."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pytest

import lomrix
from tests.tables import lomrix as run

DOCUMENT = Path(__file__).parent.parent / "docs" / "python.md"


def test_the_examples_of_the_document(tmp_path: Path) -> None:
    run("demo", "demo", cwd=tmp_path)
    code = "\n".join(re.findall(r"```python\n(.*?)```", DOCUMENT.read_text(), re.S))
    with contextlib.chdir(tmp_path / "demo"):
        exec(compile(code, str(DOCUMENT), "exec"), {})
        assert (tmp_path / "demo" / "crew_export.csv").read_text().startswith("crew_id,sex,sleep_m0\n")
        again = lomrix.read("crew.parquet")
    assert again["sleep_m0"].reason_counts()["refused"] > 0
    assert {name for name in lomrix.__all__ if not hasattr(lomrix, name)} == set()


def test_columns_are_exchanged_without_loss() -> None:
    cells: dict[str, Any] = {
        "s": ["a", None, "b"],
        "i": np.ma.MaskedArray([1, 2, 3], [False, True, False]),
        "x": np.array([0.5, np.nan, 2.0]),
        "d": np.array(["2024-01-31", "NaT", "2024-02-29"], "datetime64[D]"),
        "b": pa.chunked_array([pa.array([True, None]), pa.array([False])]),
        "e": [None, None, None],
    }
    table = lomrix.make_table(cells)
    assert table.types() == {"s": "string", "i": "integer", "x": "number", "d": "date", "b": "boolean", "e": "string"}
    assert [table[name].is_missing.tolist() for name in "sixdb"] == [[False, True, False]] * 5
    again = lomrix.make_table({name: lomrix.to_numpy(table[name]) for name in table.names if name != "e"})
    assert again.same_as(table.only(again.names))
    assert lomrix.to_arrow(table).column("x").to_pylist() == [0.5, None, 2.0]


TABLE = {"id": ["1", "2"], "x": [1, 2]}
MERGE = lomrix.make_step("merge", key="id")


@pytest.mark.parametrize(
    ("wrong", "kind", "message"),
    [
        (lambda t: lomrix.make_step("mrge"), lomrix.UsageError, "Unknown step mrge. Did you mean merge?"),
        (lambda t: lomrix.make_step("merge", key="id", kye="x"), lomrix.SettingError, "Unknown setting kye."),
        (
            lambda t: lomrix.apply(MERGE, base=t),
            lomrix.SettingError,
            "added is required.",
        ),
        (lambda t: lomrix.apply(MERGE, bas=t), lomrix.UsageError, "has no input bas."),
        (lambda t: lomrix.apply(lomrix.make_step("profile"), t, t), lomrix.SettingError, "takes one table as source"),
        (
            lambda t: lomrix.apply(lomrix.make_step("score", items="y", name="s"), t),
            lomrix.UsageError,
            "No column y in table.",
        ),
        (lambda t: t["y"], lomrix.UsageError, "No column y in table."),
        (lambda t: lomrix.read("nowhere.csv"), lomrix.FileError, "The file nowhere.csv does not exist."),
        (lambda t: lomrix.read("a.csv", delimter=";"), lomrix.SettingError, "Unknown setting delimter."),
        (lambda t: lomrix.write(t, "a.xyz"), lomrix.UsageError, "a.xyz"),
        (lambda t: lomrix.make_table({"a": [1], "b": [1, 2]}), lomrix.UsageError, "different lengths"),
        (lambda t: lomrix.make_table({"a": [object()]}), lomrix.UsageError, "values of a cannot be a column"),
        (lambda t: lomrix.make_step("merge"), lomrix.SettingError, "No key was given."),
    ],
)
def test_what_is_wrong_ends_in_our_errors(wrong: Any, kind: type[Exception], message: str) -> None:
    with pytest.raises(kind) as stopped:
        wrong(lomrix.make_table(TABLE))
    assert message in str(stopped.value)
    assert "‹" not in str(stopped.value)
