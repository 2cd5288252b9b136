"""Coverage: who was seen when, by hand and by the slow obvious way; and panels made rectangular."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from lomrix.core.errors import DataError, SettingError, UsageError
from lomrix.core.steps.balanced.settings import ToBalanced
from lomrix.core.steps.coverage import patterns
from lomrix.core.steps.coverage.patterns import PatternCounts, Patterns
from lomrix.core.steps.coverage.run import PatternFigure
from lomrix.core.steps.coverage.settings import Coverage
from lomrix.core.steps.step import Result
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from lomrix.show.coverage_figure import draw_coverage, make_bands
from tests.tables import lomrix, parts_of, reasons, rows, sources, table

# Case a at 0, 3, 12; b at 0; c at 3, 12; d at 0, 12, which occurs twice; one row has no case.
VISITS = table(
    id=["c", "a", "a", "b", "a", "c", "d", "d", "d", None],
    month=[3, 12, 0, 0, 3, 12, 0, 12, 12, 0],
    x=[1, None, 2, 3, 4, None, 5, 6, 7, 8],
)


def coverage(source: Table, **settings: Any) -> Result:
    return Coverage(case="id", occasion="month", **settings).apply(sources(source), {"figure"})


def test_who_was_seen_when_by_hand() -> None:
    result = coverage(VISITS)
    seen, patterns, measured = result.account.listings
    assert seen.rows == (
        ("0", 3, "75.0", "100.0", "", "", "", 1),
        ("3", 2, "50.0", "33.3", 1, 0, 2, 0),
        ("12", 3, "75.0", "66.7", 0, 1, 0, ""),
    )
    assert patterns.rows == (("xxx", 1, "25.0"), ("x_x", 1, "25.0"), ("x__", 1, "25.0"), ("_xx", 1, "25.0"))
    assert measured.rows == (("x", "100.0", "100.0", "50.0"),)
    assert result.account.summary == "4 cases at 3 occasions; 1 seen at all of them, 8 of 12 possible visits made."
    assert parts_of(result.account.balances[0]) == {
        "first of their case and occasion": 8, "repeating one": 1, "without a case": 1,
    }  # fmt: skip
    assert {note.kind: note.count for note in result.account.notes} == {"repeated": 2, "missed-between": 1}


def test_one_row_per_case_with_its_pattern() -> None:
    made = coverage(VISITS).table
    assert made.names == ["id", "pattern", "occasions_seen", "first_month", "last_month", "missed_between", "rows"]
    assert rows(made) == [
        ("c", "_xx", 2, 3, 12, 0, 2), ("a", "xxx", 3, 0, 12, 0, 3),
        ("b", "x__", 1, 0, 0, 0, 1), ("d", "x_x", 2, 0, 12, 1, 3),
    ]  # fmt: skip
    assert made.dictionary.of("pattern").label == "seen (x) or not (_) at month 0, 3, 12"


@given(st.lists(st.lists(st.booleans(), min_size=4, max_size=4).filter(any), min_size=1, max_size=12), st.booleans())
def test_flows_as_the_obvious_way(seen: list[list[bool]], many: bool) -> None:
    whole = [row * 20 for row in seen] if many else seen
    found = Patterns(np.array(whole))
    flows = {word: counts.tolist() for word, counts in found.count_flows().items()}
    for at in range(len(whole[0])):
        before = [row[:at] for row in whole]
        assert flows["seen"][at] == sum(row[at] for row in whole)
        assert flows["kept"][at] == sum(row[at] and row[0] for row in whole)
        assert flows["new"][at] == sum(row[at] and not any(own) for row, own in zip(whole, before, strict=True))
        assert flows["returned"][at] == sum(
            row[at] and any(own) and not own[-1] for row, own in zip(whole, before, strict=True) if own
        )
        assert flows["left"][at] == sum(not row[at] and own[-1] for row, own in zip(whole, before, strict=True) if own)
        assert flows["not again"][at] == sum(row[at] and not any(row[at + 1 :]) for row in whole)
    texts = ["".join("x" if one else "_" for one in row) for row in whole]
    assert [found.format_patterns()[at] for at in found.of_case.tolist()] == texts
    assert found.counts.tolist() == sorted((texts.count(text) for text in set(texts)), reverse=True)


def test_the_figure_has_bands_as_high_as_their_cases(tmp_path: Path) -> None:
    seen = coverage(VISITS).extras["figure"]
    assert isinstance(seen, PatternFigure)
    assert (seen.occasions, seen.patterns.counts.tolist()) == (("0", "3", "12"), [1, 1, 1, 1])
    draw_coverage(seen, tmp_path / "f.png", "png")
    assert (tmp_path / "f.png").read_bytes().startswith(b"\x89PNG")
    patterns = np.array([[bool(at & (1 << bit)) for bit in range(7)] for at in range(100)])
    shares, counts = make_bands(PatternFigure(tuple("abcdefg"), PatternCounts(patterns, np.arange(100, 0, -1)), "day"))
    assert (len(counts), counts.sum()) == (61, 5050)
    assert shares[-1] == pytest.approx(np.average(patterns[60:], axis=0, weights=np.arange(40, 0, -1)))


# ---------------------------------------------------------------- to-balanced

PANEL = table(id=["b", "a", "a", "c"], month=[3, 12, 0, 0], sex=[2, 1, 1, 2], x=[1, 2, 3, None])


def balanced(source: Table, **settings: Any) -> Result:
    return ToBalanced(case="id", occasion="month", **settings).apply(sources(source))


def test_rows_are_added_and_constants_filled() -> None:
    result = balanced(PANEL)
    assert rows(result.table) == [
        ("b", 0, 2, None), ("b", 3, 2, 1), ("b", 12, 2, None),
        ("a", 0, 1, 3), ("a", 3, 1, None), ("a", 12, 1, 2),
        ("c", 0, 2, None), ("c", 3, 2, None), ("c", 12, 2, None),
    ]  # fmt: skip
    why = reasons(result.table["x"])
    assert (why[0], why[6], why[7]) == ("no-occasion", "blank", "no-occasion")
    assert parts_of(result.account.balances[0]) == {"as they were": 4, "added (no-occasion)": 5}


def test_the_occasions_that_count_may_be_stated() -> None:
    result = balanced(PANEL, occasions="12,0,24")
    assert [row[1] for row in rows(result.table)] == [0, 12, 24] * 3
    assert parts_of(result.account.balances[1]) == {"in the result": 3, "at other occasions, left out": 1}
    words = table(id=[1, 2], month=["pre", "post"], x=[1, 2])
    assert rows(balanced(words, constant="x").table) == [(1, "pre", 1), (1, "post", 1), (2, "pre", 2), (2, "post", 2)]
    for bad in ("0,later", "0,0"):
        with pytest.raises(UsageError, match="does not fit month, which is integer"):
            balanced(PANEL, occasions=bad)


def test_only_whole_cases_are_kept() -> None:
    result = balanced(PANEL, occasions="0,12", only_whole=True)
    assert rows(result.table) == [("a", 12, 1, 2), ("a", 0, 1, 3)]
    assert parts_of(result.account.balances[0]) == {"kept": 1, "left out": 2}
    assert parts_of(result.account.balances[1]) == {
        "of whole cases": 2, "of other cases, left out": 1, "at other occasions, left out": 1,
    }  # fmt: skip


def test_one_row_each_shows_nothing_of_constants() -> None:
    known = Dictionary({"sex": Variable(level="case")})
    source = table(id=[1, 2], month=[0, 3], sex=[1, 2], x=[5, 6], dictionary=known)
    result = balanced(source)
    assert rows(result.table) == [(1, 0, 1, 5), (1, 3, 1, None), (2, 0, 2, None), (2, 3, 2, 6)]
    bare = balanced(Table(source.columns)).account
    assert [note.kind for note in bare.notes] == ["no-constant"]


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 3)), min_size=1, max_size=10, unique=True))
def test_a_panel_has_every_case_at_every_occasion(pairs: list[tuple[int, int]]) -> None:
    source = table(id=[case for case, _ in pairs], month=[when for _, when in pairs], x=list(range(len(pairs))))
    made = balanced(source, constant="id").table
    cases, occasions = list(dict.fromkeys(case for case, _ in pairs)), sorted({when for _, when in pairs})
    expected = {pair: at for at, pair in enumerate(pairs)}
    assert rows(made) == [(c, o, expected.get((c, o))) for c in cases for o in occasions]
    whole = balanced(source, only_whole=True).table
    kept = {case for case in cases if all((case, when) in expected for when in occasions)}
    assert rows(whole) == [(c, o, expected[c, o]) for c, o in pairs if c in kept]


def test_two_rows_of_one_place_stop_the_work() -> None:
    with pytest.raises(DataError, match="1 case and occasion is in several rows") as stopped:
        balanced(table(id=[1, 1], month=[0, 0], x=[1, 2]))
    assert "repeated" not in stopped.value.todo


@pytest.mark.parametrize(
    ("step", "settings", "name"),
    [
        (Coverage, {"occasion": "m"}, "case"),
        (ToBalanced, {"case": "i"}, "occasion"),
        (ToBalanced, {"case": "i", "occasion": "m,n", "occasions": "1,2"}, "occasions"),
        (ToBalanced, {"case": "i", "occasion": "m", "only_whole": True, "constant": "x"}, "constant"),
    ],
)
def test_settings_that_cannot_be(step: Any, settings: dict[str, Any], name: str) -> None:
    with pytest.raises(SettingError) as stopped:
        step(**settings)
    assert stopped.value.setting == name


def test_the_program_shows_and_fills(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,day,x\n1,2024-01-02,5\n1,2024-01-09,6\n2,2024-01-02,7\n")
    key = ("--case", "id", "--occasion", "day")
    out, _ = lomrix("coverage", "a.csv", *key, "--figure", "f.png", "--out", "c.csv", cwd=tmp_path)
    assert "2 cases at 2 occasions; 1 seen at all of them, 3 of 4 possible visits made." in out
    assert (tmp_path / "c.csv").read_text().splitlines()[2] == "2,x_,1,2024-01-02,2024-01-02,0,1"
    output, _ = lomrix("to-balanced", "a.csv", *key, "--out", "b.csv", cwd=tmp_path)
    assert (tmp_path / "b.csv").read_text().splitlines()[-1] == "2,2024-01-09,"
    assert "1 row added: 2 cases at day 2024-01-02, 2024-01-09, 1 of them had all." in output


@given(st.lists(st.lists(st.booleans(), min_size=4, max_size=4), min_size=1, max_size=12))
def test_patterns_are_the_same_in_all_ways(seen: list[list[bool]]) -> None:
    found = set()
    for few, bits in ((16, 62), (0, 62), (0, 0)):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(patterns, "FEW_BITS", few)
            patch.setattr(patterns, "BITS", bits)
            made = patterns.Patterns(np.array(seen))
            found.add((tuple(made.format_patterns()), tuple(made.of_case.tolist()), tuple(made.counts.tolist())))
    ((texts, of_case, counts),) = found
    assert [texts[at] for at in of_case] == ["".join("x" if one else "_" for one in row) for row in seen]
    assert list(counts) == sorted(counts, reverse=True) == [of_case.count(at) for at in range(len(texts))]
