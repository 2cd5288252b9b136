"""What a person sees in a figure: bars of the right height under the right names, a mean where it lies."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from lomrix.core.rows.course import Courses
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.tally.settings import Tally
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.variable import Variable
from lomrix.show.bar_figure import draw_bars
from lomrix.show.course_figure import draw_courses
from tests.tables import sources, table

CODES = Dictionary(
    {"sex": Variable(codes="sex"), "watch": Variable(label="Watch", codes="watch")},
    {"sex": {"1": "female", "2": "male"}, "watch": {"d": "Day watch", "n": "Night watch"}},
)


@pytest.fixture
def drawn(monkeypatch: pytest.MonkeyPatch) -> list[Any]:
    """Every figure that is drawn, kept to be looked at."""
    from matplotlib.figure import Figure

    figures: list[Any] = []
    write = Figure.savefig

    def kept(figure: Figure, *to: Any, **how: Any) -> None:
        figures.append(figure)
        write(figure, *to, **how)

    monkeypatch.setattr(Figure, "savefig", kept)
    return figures


def test_bars_have_the_height_of_the_counts(drawn: list[Any], tmp_path: Path) -> None:
    source = table(watch=["n", "d", "d", "d", "n", None], sex=[1, 1, 2, 2, 2, 1], dictionary=CODES)
    result = Tally(variables=("watch",), by=("sex",)).apply(sources(source), {"figure"})
    draw_bars(result.extras["figure"], tmp_path / "bars.png", "png")
    (axes,) = drawn[0].axes
    heights = {bars.get_label(): [bar.get_height() for bar in bars] for bars in axes.containers}
    assert heights == {"female": [1, 1], "male": [2, 1]}
    assert [text.get_text() for text in axes.get_xticklabels()] == ["Day watch", "Night watch"]
    assert [text.get_text() for text in axes.get_legend().get_texts()] == ["female", "male"]
    assert (axes.get_title("left"), axes.get_ylabel()) == ("Watch", "rows")
    assert {text.get_text() for text in axes.texts} == {"1", "2"}
    assert (tmp_path / "bars.png").read_bytes().startswith(b"\x89PNG")


def test_courses_show_cases_and_their_mean(drawn: list[Any], tmp_path: Path) -> None:
    source = table(id=["a", "b", "c"], x_m12=[7, 9, 5], x_m0=[1, 2, 6], x_m3=[4, None, None])
    long = ToLong(case=("id",), header=("{measure}_m{month}",)).apply(sources(source)).table
    courses = Courses.from_long(long)
    draw_courses(courses.drawn, "id", tmp_path / "course.svg", "svg")
    (axes,) = drawn[0].axes
    (lines,) = (one for one in axes.collections if one.get_linewidth().tolist() == [0.6] and one.get_alpha() == 0.5)
    assert lines.get_segments()[0].tolist() == [[0, 1], [3, 4], [12, 7]]
    assert {tuple(line[[0, -1], 1]) for line in lines.get_segments()} == {(1, 7), (2, 9), (6, 5)}
    (points,) = (line for line in axes.lines if line.get_marker() == ".")
    seen = sorted(xy for xy in zip(*points.get_data(), strict=True) if xy[1] == xy[1])
    assert seen == [(0, 1), (0, 2), (0, 6), (3, 4), (12, 5), (12, 7), (12, 9)]
    (bars,) = axes.containers
    mean = bars.lines[0]
    # Months at their true distances, 12 behind 3.
    assert (mean.get_xdata().tolist(), mean.get_ydata().tolist()) == ([0, 3, 12], [3, 4, 7])
    low, high = bars.lines[2][0].get_segments()[2][:, 1]
    half = 4.302653 * 2 / 3**0.5  # Student's t of two degrees of freedom; 7, 9 and 5 have a standard deviation of 2
    assert (low, high) == pytest.approx((7 - half, 7 + half))
    assert (axes.get_xlabel(), [text.get_text() for text in axes.get_xticklabels()]) == ("month", ["0", "3", "12"])
    assert drawn[0].get_suptitle() == "thin: all 3 cases (id); thick: mean of all with its 95 % interval"


def test_labels_are_not_formulas_and_leave_room(tmp_path: Path, recwarn: pytest.WarningsRecorder) -> None:
    from lomrix.show.canvas import make_figure, save_figure, shorten

    figure = make_figure(4, 3)
    axes = figure.add_subplot()
    axes.set_title("$0-$9")
    axes.set_xlabel("$20_$30^^ " * 40)
    save_figure(figure, tmp_path / "a.svg", "svg")
    assert not axes.title.get_parse_math()
    assert len(axes.get_xlabel()) == 90
    assert shorten("a" * 40) == "a" * 27 + "…"
    assert not recwarn.list
