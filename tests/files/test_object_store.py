"""Objects of a store: read and written as files are, with the same bytes, and one plain error for what goes wrong."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from moto.server import ThreadedMotoServer
from pyarrow import fs

from lomrix.files import object_store
from lomrix.job import budget
from tests.tables import lomrix

LINES = [f"{row:03},{row % 7 if row % 5 else 'n/a'},2024-03-{1 + row % 28:02}" for row in range(60)]
SUBSET = ["subset", "a.csv", "--where", "x > 2", "--out"]


@pytest.fixture(scope="module")
def bucket() -> Iterator[Any]:
    """A store with an empty bucket called study."""
    server = ThreadedMotoServer(ip_address="127.0.0.1", port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    environment = {"ACCESS_KEY_ID": "k", "SECRET_ACCESS_KEY": "s", "DEFAULT_REGION": "us-east-1"}
    with pytest.MonkeyPatch.context() as patch:
        for name, value in {**environment, "ENDPOINT_URL": f"http://{host}:{port}"}.items():
            patch.setenv(f"AWS_{name}", value)
        store, _ = fs.FileSystem.from_uri("s3://study?allow_bucket_creation=true")
        store.create_dir("study")
        object_store.open_store.cache_clear()
        yield store
    object_store.open_store.cache_clear()
    server.stop()


@pytest.fixture
def folder(bucket: Any, tmp_path: Path) -> Path:
    """A file here, and the same in the empty bucket."""
    bucket.delete_dir_contents("study")
    (tmp_path / "a.csv").write_text("\n".join(["id,x,day", *LINES, ""]))
    lomrix("subset", "a.csv", "--columns", "id,x,day", "--out", "s3://study/w1/a.csv", cwd=tmp_path)
    return tmp_path


def content(bucket: Any, name: str) -> bytes:
    with bucket.open_input_stream(f"study/{name}") as file:
        return bytes(file.read())


@pytest.mark.parametrize("suffix", ["csv", "parquet", "jsonl", "xlsx"])
def test_an_object_has_the_bytes_of_a_file_and_comes_back(bucket: Any, folder: Path, suffix: str) -> None:
    words = ["subset", "s3://study/w1/a.csv", "--where", "x > 2"]
    output, _ = lomrix(*words, "--out", f"s3://study/b.{suffix}", cwd=folder)
    assert f"written  s3://study/b.{suffix}  (26 rows, 3 columns" in output
    lomrix("subset", f"s3://study/b.{suffix}", "--columns", "id,x,day", "--out", "back.jsonl", cwd=folder)
    lomrix(*words, "--out", "here.jsonl", cwd=folder)
    assert (folder / "back.jsonl").read_bytes() == (folder / "here.jsonl").read_bytes()
    if suffix == "csv":
        lomrix(*words, "--out", "here.csv", cwd=folder)
        assert content(bucket, "b.csv") == (folder / "here.csv").read_bytes()
        assert "reason" not in json.loads(content(bucket, "b.csv.resource.json"))
    assert not object_store.make_copies.cache_info().currsize


def test_reasons_folders_patterns_and_parts(bucket: Any, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(budget, "LEAST", 10)
    lomrix("recode", "a.csv", "--map", "x: 3=missing:refused", "--out", "s3://study/w1/b.csv", cwd=folder)
    output, _ = lomrix("tally", "s3://study/w1/b.csv", "x", cwd=folder)
    assert "refused" in output
    for source in ("s3://study/w1/", "s3://study/w1/*.csv"):
        output, _ = lomrix("subset", source, "--columns", "id", "--memory", "0.001MB", "--json", cwd=folder)
        assert (json.loads(output)["account"]["facts"]["rows"], "processed in" in output) == (120, True)
    lomrix("subset", "a.csv", "--columns", "id,x", "--out", "s3://study/w2/c.xlsx", cwd=folder)
    assert "60 rows" in lomrix("profile", "s3://study/w2/c.xlsx#a", cwd=folder)[0]
    (folder / "plan.toml").write_text(
        '[[steps]]\nname = "m"\ndo = "merge"\nbase = "s3://study/w1/a.csv"\nadded = "s3://study/w2/c.xlsx"\n'
        'key = "id"\nexpect = "one-to-one"\noverlap = "base"\nout = "s3://study/m.parquet"\n'
    )
    lomrix("run", "plan.toml", cwd=folder)
    output, _ = lomrix("history", "s3://study/m.parquet", "--check", cwd=folder)
    assert output.count("s3://study/w1/a.csv") == 1
    assert "└ a.csv " in output
    assert "missing" not in output


@pytest.mark.parametrize(
    ("words", "status", "message"),
    [
        (["profile", "s3://study/w1/b.csv"], 3, "The object s3://study/w1/b.csv does not exist.\nnext   Did you mean"),
        (["profile", "s3://study/w9/"], 3, "No objects matched s3://study/w9/."),
        ([*SUBSET, "s3://study/w1/a.csv"], 3, "s3://study/w1/a.csv already exists."),
        (["subset", "s3://study/w1/a.csv", "--where", "x > 1", "--out", "s3://study/w1/a.csv", "--overwrite"], 2,
         "s3://study/w1/a.csv is an input; inputs are never changed."),
        ([*SUBSET, "s3://study/folder/"], 2, "A folder cannot be written to"),
        ([*SUBSET, "s3://nowhere/a.csv"], 3, "s3://nowhere/a.csv"),
        ([*SUBSET, "s3://study/../../../../a.csv"], 2, "is not the address of an object."),
        ([*SUBSET, "s3:///tmp/lomrix-outside.csv"], 2, "s3:///tmp/lomrix-outside.csv is not the address of an object."),
        (["profile", "a.csv", "-d", "s3://study/d.toml"], 3, "A dictionary cannot be read from a store"),
    ],
)  # fmt: skip
def test_what_cannot_be_done_is_one_plain_error(
    bucket: Any, folder: Path, words: list[str], status: int, message: str
) -> None:
    _, error = lomrix(*words, cwd=folder, status=status)
    assert error.startswith("error  ")
    assert message in error
    assert content(bucket, "w1/a.csv").decode().startswith("id,x,day\n000,")


def test_what_fails_in_the_middle_is_undone(bucket: Any, folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    before = [content(bucket, f"w1/a.csv{end}") for end in ("", ".resource.json")]
    sent: list[str] = []
    send = object_store.send

    def fail_at_last(path: Path, reference: str) -> None:
        sent.append(reference)
        if reference.endswith("a.csv") and sent.count(reference) == 1:
            raise OSError("connection lost")
        send(path, reference)

    monkeypatch.setattr(object_store, "send", fail_at_last)
    words = [*SUBSET, "s3://study/w1/a.csv", "--overwrite", "--left-out", "s3://study/w1/left.csv"]
    _, error = lomrix(*words, cwd=folder, status=3)
    assert error.startswith("error  s3://study/w1/a.csv cannot be written.\nwhere  connection lost\n")
    assert [content(bucket, f"w1/a.csv{end}") for end in ("", ".resource.json")] == before
    assert "s3://study/w1/left.csv" in sent
    found = bucket.get_file_info(fs.FileSelector("study/w1"))
    assert sorted(info.base_name for info in found) == ["a.csv", "a.csv.resource.json"]


def test_a_store_that_is_not_there(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("AWS_ENDPOINT_URL", "http://127.0.0.1:9")
    object_store.open_store.cache_clear()
    _, error = lomrix("profile", "s3://study/w1/a.csv", cwd=folder, status=3)
    object_store.open_store.cache_clear()
    assert error.startswith("error  s3://study/w1/a.csv cannot be read.\nwhere  ")
    assert "next   Check the bucket, and AWS_ACCESS_KEY_ID" in error
