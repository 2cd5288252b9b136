"""What a person reads: names in full at any width, decimals under each other, and no sign that steers a terminal."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.show.grid import Cell, Head, format_grid
from lomrix.show.numbers import align_numbers, escape_controls
from lomrix.show.terminal import format_column
from tests.tables import lomrix

NAMES = ["sleep_in_24_hours_m0", "sleep_in_24_hours_m12"]
LABELS = ["Sleep in 24 hours, month 0", "Sleep in 24 hours, month 12"]


@pytest.fixture
def study(tmp_path: Path) -> Path:
    rows = "".join(
        f"{at},{400 + at % 90},{380 + at % 70},a remark of over forty signs number {at}\n" for at in range(60)
    )
    (tmp_path / "a.csv").write_text(f"id,{','.join(NAMES)},remark\n{rows}")
    entries = "".join(f'[variables.{name}]\nlabel = "{label}"\n' for name, label in zip(NAMES, LABELS, strict=True))
    (tmp_path / "d.toml").write_text(entries)
    return tmp_path


@pytest.mark.parametrize("width", [60, 80, 142, None])
def test_names_and_labels_are_whole_at_every_width(study: Path, width: int | None) -> None:
    out, _ = lomrix("profile", "a.csv", "-d", "d.toml", cwd=study, width=width, terminal=width is not None)
    plain = out.replace("\x1b[", "\x1b").split("\n")
    if width is None:
        assert f"{LABELS[0]}\n" in out and "… month 12\n" in out
        assert not any(line != line.rstrip() for line in out.splitlines())
    for name in NAMES:
        assert any(name in line for line in plain)
    output = " ".join(out.split())
    assert all(word in output for word in ["Sleep", "in", "24", "hours"])
    if width == 60:
        assert "not shown:" in output


def test_what_has_no_room_is_wrapped_then_left_out() -> None:
    heads = [Head("name", is_kept=True), Head("values"), Head("n", is_right_aligned=True), Head("label", is_kept=True)]
    row = [Cell("a" * 20), Cell("one two three four five six"), Cell("12"), Cell("A label of some length")]
    for room in (70, 60, 45):
        lines = [line.plain for line in format_grid(heads, [row], room)]
        assert max(map(len, lines[:-1])) <= room
        assert any("a" * 20 in line for line in lines)
        assert {"A", "label", "of", "some", "length"} <= set(" ".join(lines).split())
    assert "not shown: values, n" in lines[-1]


def test_many_occasions_are_shown_at_both_ends(tmp_path: Path) -> None:
    times = [f"2024-01-01 {minute // 60:02}:{minute % 60:02}:00" for minute in range(130)]
    (tmp_path / "a.csv").write_text("id,at,x\n" + "".join(f"a,{time},1\nb,{time},2\n" for time in times))
    command = ["coverage", "a.csv", "--case", "id", "--occasion", "at"]
    lines = lomrix(*command, cwd=tmp_path)[0].splitlines()
    listed = [line.split("   ")[0].strip() for line in lines if line.startswith(("  2024", "  …"))]
    assert listed == [*times[:12], "…", *times[-12:]]
    assert sum("not shown: 106" in line for line in lines) == 1 and sum("not shown: 107" in line for line in lines) == 1
    assert f"  {'x' * 50} … {'x' * 50}" in "\n".join(lines)
    listing = json.loads(lomrix(*command, "--json", cwd=tmp_path)[0])["account"]["listings"][0]
    assert [row["at"] for row in listing["rows"]] == times


def test_a_table_of_many_columns_is_in_blocks() -> None:
    heads = [Head("sex", is_kept=True), *(Head(f"ship_{at}", is_right_aligned=True) for at in range(9))]
    lines = [line.plain for line in format_grid(heads, [[Cell("f"), *[Cell("12")] * 9]], 40, can_split=True)]
    assert max(map(len, lines)) <= 40
    assert sum(line.startswith("  sex") for line in lines) > 1
    assert all(any(f"ship_{at}" in line for line in lines) for at in range(9))


NUMBERS = [
    ([442.718, 44.1803, 409.0], ["442.718", "44.180", "409.000"]),
    ([0.5, 0.25], ["0.50", "0.25"]),
    ([1.0, 2.0], ["1", "2"]),
    ([-3.14159265, 100.0], ["-3.142", "100.000"]),
    ([1e18, 0.5], ["1e+18  ", "0.5"]),
    ([0.1 + 0.2], ["0.3"]),
    ([], []),
]


@pytest.mark.parametrize(("values", "texts"), NUMBERS)
def test_decimals_are_under_each_other(values: list[float], texts: list[str]) -> None:
    assert align_numbers(values) == texts


def test_decimal_points_of_a_listing_are_under_each_other() -> None:
    assert format_column([12.5, "too few", 3.25]) == ["12.50", "too few", " 3.25"]
    assert format_column(["0.5", "-12.25", "7", "all"]) == ["  0.5 ", "-12.25", "  7   ", "all"]
    assert format_column(["1", "12"]) == ["1", "12"]


@given(st.lists(st.floats(-1e12, 1e12), min_size=1, max_size=6))
def test_numbers_of_a_column_lose_no_more_than_their_sixth_digit(values: list[float]) -> None:
    largest = max(abs(value) for value in values)
    for value, text in zip(values, align_numbers(values), strict=True):
        assert abs(float(text) - value) <= max(5e-6 * largest, 5e-6 * abs(value), 1e-300)


HOSTILE = "a\x1b]0;owned\x07\x9b31m\u202egnp.exe\nnext line"


@given(st.text())
def test_what_steers_a_terminal_is_shown(text: str) -> None:
    shown = escape_controls(text)
    assert not any(ord(character) < 32 or 127 <= ord(character) < 160 for character in shown)
    assert escape_controls("plain é 名") == "plain é 名"


def test_hostile_cells_names_and_files_do_nothing(tmp_path: Path) -> None:
    name = "x\x1b[31mred"
    (tmp_path / "a\x1b[2J.csv").write_text(f'id,"{name}"\n1,"{HOSTILE}"\n2,b\n')
    for words in (["profile"], ["subset"], ["check", "--key", name], ["tally"], ["subset", "--where", "nothing > 1"]):
        status = {"check": 0, "subset": 2 if "--where" in words else 0}.get(words[0], 0)
        more = [name] if words[0] == "tally" else []
        output = lomrix(words[0], "a\x1b[2J.csv", *more, *words[1:], cwd=tmp_path, status=status)
        assert not any(character in part for character in ("\x1b", "\x9b", "\x07", "\u202e") for part in output)
    answer, _ = lomrix("tally", "a\x1b[2J.csv", name, "--json", cwd=tmp_path)
    assert "\x9b" not in answer and json.loads(answer)["account"]["facts"]["counts"][0][name] == HOSTILE


def test_what_was_done_as_asked_is_reported_apart(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x_m0,x_m3,town\n1,2,3,b \n2,3,4,c\n")
    out, _ = lomrix("to-long", "a.csv", "--case", "id", "--header", "{measure}_m{month}", cwd=tmp_path)
    before, after = out.split("look at")
    assert "· carried along: id, town" in before and "carried" not in after


def test_three_tokens_of_one_column_are_not_three_columns(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n" + "".join(f"{at},{at}\n" for at in range(9)) + "10,NA\n11,n/a\n12,-\n")
    assert "in 3 columns" not in lomrix("subset", "a.csv", cwd=tmp_path)[0]


def test_notes_of_the_same_words_are_gathered(tmp_path: Path) -> None:
    names = [f"q{number}" for number in range(1, 8)]
    (tmp_path / "a.csv").write_text(
        ",".join(names) + "\n" + "".join(",".join([cell] * 7) + "\n" for cell in "1234") + "-9," * 6 + "2\n"
    )
    shown = lomrix("profile", "a.csv", cwd=tmp_path)[0]
    assert "! q1, q2, q3, q4 and 2 more: -9 is far from all others" in shown and shown.count("is far from") == 1


def test_notes_on_many_files_are_gathered_and_read_as_they_propose(tmp_path: Path) -> None:
    files = [f"m{number}.csv" for number in range(1, 8)]
    for number in range(1, 8):
        (tmp_path / f"m{number}.csv").write_text(f"id;x\nA;1,{number}\nB;2,5\nC;3\nTotal;7\n")
    shown = lomrix("stack", *files, cwd=tmp_path)[0]
    assert "! x in m1, m2, m3, m4 and 3 more: looks like numbers with a decimal comma" in shown
    assert f"lomrix stack {' '.join(files)} --skip-last Total --decimal ," in shown
    (tmp_path / "m3.csv").write_text("id;x\nA;a\nB;b\n")
    assert "to read the file as noted" not in lomrix("stack", *files, cwd=tmp_path)[0]
