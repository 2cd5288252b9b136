"""The examples of docs/architecture.md are run as they stand there."""

from __future__ import annotations

import re
import sys
import types
from pathlib import Path

import pytest

from lomrix.core.arrays import statistics
from lomrix.core.language.evaluate import evaluate
from lomrix.core.language.parse import load_functions
from lomrix.core.steps import registry
from lomrix.files import registry as formats
from lomrix.files.reading import ReadSettings
from tests.files.test_missing import several
from tests.tables import lomrix, reasons, table

TEXT = (Path(__file__).parent.parent / "docs" / "architecture.md").read_text()
BLOCKS = re.findall(r"```python\n(.*?)```", TEXT, re.S)


def module(name: str, text: str, monkeypatch: pytest.MonkeyPatch) -> types.ModuleType:
    made = types.ModuleType(name)
    monkeypatch.setitem(sys.modules, name, made)
    exec(compile(text, name, "exec"), vars(made))
    return made


def block(start: str) -> str:
    (found,) = [one for one in BLOCKS if one.startswith(start)]
    return str(found)


def test_a_step_without_the_program(monkeypatch: pytest.MonkeyPatch) -> None:
    module("alone", block("from lomrix.core.steps.merge.settings"), monkeypatch)


def test_a_new_step_is_a_command_at_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    module("lomrix.core.steps.head.settings", block("# lomrix/core/steps/head/settings.py"), monkeypatch)
    module("head_run", block("# lomrix/core/steps/head/run.py"), monkeypatch)
    entry = module("entry", block("# lomrix/core/steps/registry.py"), monkeypatch).ENTRY
    monkeypatch.setattr("lomrix.cli.main.find_entry", lambda word: entry if word == "head" else None)
    (tmp_path / "crew.csv").write_text("id\na\nb\nc\n")
    out, _ = lomrix("head", "crew.csv", "--most", "2", "--out", "o.csv", cwd=tmp_path)
    assert "3  = 2 kept + 1 left out" in out
    assert (tmp_path / "o.csv").read_text() == "id\na\nb\n"
    assert '"do": "head"' in (tmp_path / "o.csv.resource.json").read_text()
    assert "x>=1" in lomrix("head", "--help", cwd=tmp_path)[0]
    assert registry.find_entry("head") is None


def test_a_new_format_keeps_types_and_reasons(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    module("lomrix.files.blank_separated", block("# lomrix/files/blank_separated.py"), monkeypatch)
    monkeypatch.setitem(formats.FORMATS, ".blank", "blank_separated")
    monkeypatch.setattr(formats, "WRITTEN", (*formats.WRITTEN, ".blank"))
    sink = formats.open_sink(str(tmp_path / "t.blank"))
    sink.stage(several())
    sink.commit()
    back = formats.open_source(str(tmp_path / "t.blank"), ReadSettings()).read().table
    for name, column in several().columns.items():
        assert (back[name].cells(), reasons(back[name])) == (column.cells(), reasons(column))


def test_a_new_statistic(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(statistics, "STATISTICS", dict(statistics.STATISTICS))
    module("statistic", block("import numpy"), monkeypatch)


def test_a_new_function(monkeypatch: pytest.MonkeyPatch) -> None:
    module("halves", block("from lomrix.core.language.function"), monkeypatch).declare()
    try:
        assert load_functions()["halved"].description == "half of a number"
        assert evaluate("halved(n) + 1", table(n=[3, None])).cells() == [2.5, None]
    finally:
        load_functions().pop("halved")


def test_every_example_is_run() -> None:
    assert len(BLOCKS) == 7
