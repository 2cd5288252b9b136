"""A descriptor that is there counts or is reported, whatever its file is called; labels that differ are reported."""

from __future__ import annotations

import contextlib
import json
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from lomrix.core.errors import LomrixError
from lomrix.core.table.table import Table
from lomrix.files.interface import ReadResult
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_source
from tests.tables import lomrix


def read(path: Path) -> ReadResult:
    return open_source(str(path), ReadSettings()).read()


def written(folder: Path) -> Table:
    (folder / "raw.csv").write_text("id,sleep\n1,-9\n2,400\n")
    (folder / "d.toml").write_text('[variables.sleep]\nlabel = "Sleep"\nmissing = { "-9" = "refused" }\n')
    lomrix("subset", "raw.csv", "-d", "d.toml", "--out", "a.csv", cwd=folder)
    return read(folder / "a.csv").table


def test_a_descriptor_that_was_copied_with_its_file_counts(tmp_path: Path) -> None:
    first = written(tmp_path)
    assert first["sleep"].reason_counts() == {"refused": 1}
    for end in ("", ".resource.json"):
        shutil.copy(tmp_path / f"a.csv{end}", tmp_path / f"b.csv{end}")
    copied = read(tmp_path / "b.csv")
    assert copied.table.same_as(first) and copied.table.dictionary.of("sleep").label == "Sleep"
    assert copied.table.history == first.history
    assert [note.text for note in copied.notes] == [
        "b.csv.resource.json was written for a.csv, whose content is the same: it is used."
    ]


def test_a_descriptor_of_another_content_is_reported_and_not_used(tmp_path: Path) -> None:
    written(tmp_path)
    shutil.copy(tmp_path / "a.csv.resource.json", tmp_path / "b.csv.resource.json")
    (tmp_path / "b.csv").write_text("id,sleep\n1,-9\n2,401\n")
    other = read(tmp_path / "b.csv")
    assert other.table["sleep"].cells() == [-9, 401]
    assert [note.text for note in other.notes] == [
        "b.csv.resource.json was written for a.csv, whose content differs: it is not used."
    ]
    # One of old, without the full name, may be that of another file, which stands there itself.
    (tmp_path / "b.csv.resource.json").rename(tmp_path / "b.resource.json")
    resource = json.loads((tmp_path / "b.resource.json").read_text())
    (tmp_path / "b.resource.json").write_text(json.dumps({**resource, "path": "b.tsv"}))
    (tmp_path / "b.tsv").write_text("id\tsleep\n1\t5\n")
    assert not read(tmp_path / "b.csv").notes


def list_places(content: Any) -> Iterator[tuple[Any, Any]]:
    """Every list and record in a document, with each of its keys."""
    for key in content if isinstance(content, dict) else range(len(content)):
        yield content, key
        if isinstance(content[key], dict | list):
            yield from list_places(content[key])


@pytest.mark.parametrize("name", ["a.csv.resource.json", "datapackage.json"])
def test_a_description_of_any_content_is_read_or_named(tmp_path: Path, name: str) -> None:
    written(tmp_path)
    (tmp_path / "d.toml").write_text(
        '[variables.sleep]\nallowed = ["400"]\nmaximum = 900\ncodes = "c"\n[codes.c]\n1 = "a"'
    )
    lomrix("export", "a.csv", "-d", "d.toml", "--to", "pkg", "--form", "package", cwd=tmp_path)
    if name == "a.csv.resource.json":
        lomrix("subset", "raw.csv", "-d", "d.toml", "--out", "pkg/a.csv", "--overwrite", cwd=tmp_path)
        (tmp_path / "pkg" / "datapackage.json").unlink()
    content = json.loads((tmp_path / "pkg" / name).read_text())
    for place, key in [*list_places(content)]:
        right = place[key]
        for place[key] in (None, 7, "\0", [{}], {"a": [1]}):
            (tmp_path / "pkg" / name).write_text(json.dumps(content))
            with contextlib.suppress(LomrixError):
                assert read(tmp_path / "pkg" / "a.csv").table.names
        place[key] = right


def test_a_file_of_a_package_is_known_under_another_name(tmp_path: Path) -> None:
    written(tmp_path)
    lomrix("export", "a.csv", "--to", "pkg", "--form", "package", "--missing-code=-9", cwd=tmp_path)
    (tmp_path / "pkg" / "a.csv").rename(tmp_path / "pkg" / "b.csv")
    found = read(tmp_path / "pkg" / "b.csv")
    assert found.table["sleep"].reason_counts() == {"refused": 1}
    assert [note.kind for note in found.notes] == ["descriptor"]


def test_labels_that_a_dictionary_overrides_are_reported(tmp_path: Path) -> None:
    (tmp_path / "raw.csv").write_text("sex\n1\n2\n")
    for name, labels in (("one", ("male", "female")), ("two", ("yes", "no"))):
        codes = f'[codes.s]\n1 = "{labels[0]}"\n2 = "{labels[1]}"\n'
        (tmp_path / f"{name}.toml").write_text(f'[variables.sex]\ncodes = "s"\n{codes}')
    lomrix("subset", "raw.csv", "-d", "one.toml", "--out", "a.csv", cwd=tmp_path)
    for words in (["tally", "a.csv", "sex"], ["check", "a.csv"]):
        output, _ = lomrix(*words, "-d", "two.toml", cwd=tmp_path, width=200)
        assert 'sex: the dictionary overrides labels of the file: 1 is "yes", not "male" as in the file' in output
        assert "overrides" not in lomrix(*words, "-d", "one.toml", cwd=tmp_path)[0]


def test_the_name_that_a_column_gets_decides_what_the_dictionary_reports_of_it(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,sleep\n1,400\n2,-9\n")
    (tmp_path / "b.csv").write_text("id,Sleep2\n1,001\n2,-9\n")
    (tmp_path / "p.csv").write_text("old,new\nSleep2,sleep\n")
    (tmp_path / "d.toml").write_text('[variables.sleep]\ntype = "integer"\nmissing = { "-9" = "refused" }\n')
    for number, words in enumerate((["--pair", "Sleep2=sleep"], ["--pair-file", "p.csv"])):
        out = f"c{number}.csv"
        lomrix("stack", "a.csv", "b.csv", *words, "-d", "d.toml", "--mark", "w=1,2", "--out", out, cwd=tmp_path)
        made = read(tmp_path / out).table
        assert made["sleep"].cells() == [400, None, 1, None]
    output, _ = lomrix("stack", "c0.csv", "b.csv", "--pair", "Sleep2=sleep", "--type", "sleep=integer", cwd=tmp_path,
                     width=200)  # fmt: skip
    assert "sleep: -9 is a missing code in c0 and a value in b, in 1 cell" in output
    (tmp_path / "e.csv").write_text("person,x\n1,5\n-9,6\n")
    (tmp_path / "k.toml").write_text('[variables.id]\nmissing = { "-9" = "unknown" }\n')
    output, _ = lomrix("merge", "a.csv", "e.csv", "--key", "id=person", "-d", "k.toml", "--json", cwd=tmp_path)
    assert '"total": 2' in output and "missing" in output


def test_rules_and_scales_travel_with_a_file_that_has_their_columns(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,age,f1,f2\n1,30,0,3\n2,12,1,2\n")
    (tmp_path / "d.toml").write_text(
        '[rules]\nadult = "age >= 16"\nother = "age > height"\n'
        '[scales.f]\nitems = "f1..f2"\nreverse = "f2"\nspan = "0:3"\n[scales.g]\nitems = "g1..g2"\n'
    )
    for target, source in (("b.csv", "b.csv"), ("b.parquet", "b.parquet"), ("pack", "pack/a.csv")):
        form = ["--form", "package"] if target == "pack" else []
        lomrix("export", "a.csv", "--to", target, "-d", "d.toml", *form, cwd=tmp_path)
        output, _ = lomrix("check", source, cwd=tmp_path, status=1)
        assert "adult" in output and "other" not in output
        assert "f: 2 of 2 rows scored" in lomrix("score", source, cwd=tmp_path)[0]
    output, _ = lomrix("dictionary", "changes", "d.toml", "b.csv", cwd=tmp_path, status=1)
    found = [line.split()[:2] for line in output.splitlines()]
    assert ["rule", "other"] in found and ["scale", "g"] in found and ["rule", "adult"] not in found
