"""What one pass over a file tells, beside the plain counts; and hashes that are begun ahead."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.files import byte_stats, hashing
from lomrix.files.text_layout import count_quotes_below


@pytest.mark.parametrize(("block", "share"), [(1 << 18, 1 << 23), (3, 2), (1, 5)])
@given(content=st.lists(st.sampled_from([b"\n", b'"', b"a", b"\x7f", b"\x80", b"\xff"]), max_size=30).map(b"".join))
def test_characters_are_those_of_the_whole_file(
    tmp_path_factory: pytest.TempPathFactory, block: int, share: int, content: bytes
) -> None:
    path = tmp_path_factory.mktemp("bytes") / "file"
    path.write_bytes(content)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(byte_stats, "BLOCK", block)
        patch.setattr(byte_stats, "SHARE", share)
        patch.setattr(os, "cpu_count", lambda: 3)
        found = byte_stats.count_bytes(path)
    assert found == byte_stats.ByteStats(content.count(b"\n"), content.count(b'"'), content.isascii())


@given(content=st.lists(st.sampled_from([b"\n", b'"', b"a"]), min_size=1, max_size=12).map(b"".join))
def test_a_text_can_be_cut_where_quotation_marks_are_closed(
    tmp_path_factory: pytest.TempPathFactory, content: bytes
) -> None:
    path = tmp_path_factory.mktemp("bytes") / "file"
    path.write_bytes(content)
    is_closed = all(content[:place].count(b'"') % 2 == 0 for place in range(len(content)) if content[place] == 10)
    is_closed &= content.count(b'"') % 2 == 0
    assert byte_stats.closes_quotes(path, range(len(content))) == is_closed


@pytest.mark.parametrize(
    ("head", "below"), [(b'"a","b"\n1,"x"\n', 2), (b'"a\nb",c\n', 2), (b"a,b\n1,2\n", 0), (b'"a"', 2)]
)
def test_quotation_marks_of_names_do_not_count(head: bytes, below: int) -> None:
    assert count_quotes_below(byte_stats.ByteStats(0, head.count(b'"'), True), head) == below


def test_a_hash_begun_ahead_is_the_file_as_it_is_now(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(hashing, "LARGE", 4)
    path, small = tmp_path / "crew.csv", tmp_path / "a"
    path.write_text("id\n1\n")
    small.write_text("id")
    hashing.begin_large_hashes([str(path), str(small), str(tmp_path / "none"), str(tmp_path), "-"])
    assert [Path(key[0]) for key in hashing._STARTED if str(tmp_path) in key[0]] == [path]
    first = hashing.begin_hash(path)
    assert first is hashing.begin_hash(path)
    # As `b2sum -l 256` gives it.
    assert first.result() == "blake2b-256:4a91358ad6cd7780d39cdb468ec4a026c342ed30ae623461aebb0d76b1a51d23"
    path.write_text("id\n1\n2\n")
    assert hashing.begin_hash(path).result() == hashing.hash_file(path) != first.result()
    assert isinstance(hashing.begin_hash(tmp_path).exception(), OSError)
