"""The page for people: no data are markup, small groups are held back, and a browser has nothing to say."""

from __future__ import annotations

import html
import re
import shutil
import subprocess
from html.parser import HTMLParser
from pathlib import Path

import pytest

from lomrix.show.vector import choose_ticks
from tests.tables import lomrix

CHROMIUM = shutil.which("chromium")
browser = pytest.mark.skipif(CHROMIUM is None, reason="no chromium on this machine")
WORDS = ["--case", "id", "--occasion", "month", "--measure", "x", "--by", "ship"]


@pytest.fixture
def study(tmp_path: Path) -> Path:
    rows = [f"K{case},{month},{case + month},{'tern' if case % 3 else 'gull'},<b>{case}</b>"
            for case in range(30) for month in (0, 3, 12) if (case * 7 + month) % 5]  # fmt: skip
    (tmp_path / "raw.csv").write_text("id,month,x,ship,<i>odd</i>\n" + "\n".join(rows) + "\nK0,6,,gull,\n")
    (tmp_path / "d.toml").write_text('[variables.x]\nlabel = "A <script>alert(1)</script> measure"\nunit = "min"\n')
    lomrix("subset", "raw.csv", "-d", "d.toml", "--where", "month < 20", "--out", "a.csv", cwd=tmp_path)
    return tmp_path


class Outline(HTMLParser):
    """Headings, ids and links of a page."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.headings: list[int] = []
        self.ids: list[str] = []
        self.links: list[str] = []
        self.pictures: list[str | None] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        output = dict(attrs)
        self.headings += [int(tag[1])] if re.fullmatch("h[1-6]", tag) else []
        self.ids += [output["id"] or ""] if "id" in output else []
        self.links += [output["href"] or ""] if tag == "a" else []
        self.pictures += [output.get("aria-label")] if tag == "svg" else []


def page(study: Path, *words: str) -> str:
    lomrix("report", "a.csv", *words, "--out", "p.html", "--overwrite", cwd=study)
    return (study / "p.html").read_text()


def test_a_page_shows_all_and_takes_nothing_for_markup(study: Path) -> None:
    text = page(study, *WORDS)
    assert "<script>alert" not in text and "<i>odd" not in text and "<b>" not in text
    assert "A &lt;script&gt;alert(1)&lt;/script&gt; measure" in text
    found = Outline(text)
    assert found.headings[0] == 1 and all(b - a <= 1 for a, b in zip(found.headings, found.headings[1:], strict=False))
    assert {link[1:] for link in found.links} <= set(found.ids) and len(set(found.ids)) == len(found.ids)
    assert found.pictures and all(found.pictures)
    assert "http" not in text.replace("http-equiv", "")
    # 24 cases at month 0, counted by hand: of 30, those whose 7 x number is no multiple of 5
    assert re.search(r'<th scope="row">0</th><td class="n">24</td><td class="n">24</td>', text)
    assert "raw.csv" in text and "subset" in text
    assert page(study, *WORDS) == text


def test_small_groups_are_suppressed(study: Path) -> None:
    text = page(study, *WORDS, "--min-n", "9")
    assert "fewer than 9" in text
    assert re.search(r'<th scope="row">6</th><td class="n">·</td>', text)
    gull = re.search(r'<tr><th scope="row">gull</th>(.*?)</tr>', text)
    assert gull is not None and re.findall(r">([^<]+)</td>", gull[1]) == ["·", "·", "—", "·"]
    assert "K1" not in text
    assert "<td>from</td>" not in text
    lomrix("report", "a.csv", "--case", "id", cwd=study, status=2)
    _, error = lomrix("report", "a.csv", *WORDS[:4], "--measure", "ship", cwd=study, status=2)
    assert "is not numeric" in error
    _, error = lomrix("report", "a.csv", "--out", "p.txt", cwd=study, status=2)
    assert "Use the extension .html" in error
    output, _ = lomrix("report", "a.csv", cwd=study)
    assert "Nothing was written" in output


def test_who_was_seen_is_counted_as_by_hand(study: Path) -> None:
    text = page(study, *WORDS[:4], "--min-n", "1")
    seen = {month: {case for case in range(30) if (case * 7 + month) % 5} for month in (0, 3, 12)} | {6: {0}}
    before: set[int] = set()
    last: set[int] = set()
    for month in (0, 3, 6, 12):
        now = seen[month]
        counts = [len(one) for one in (now, now - before, (now & before) - last, before - now)]
        output = "".join(f'<td class="n">{count}</td>' for count in counts)
        assert f'<tr><th scope="row">{month}</th>{output}</tr>' in text, month
        before, last = before | now, now
    assert "<title>tern: " in text


def test_what_is_missing_is_reported_by_occasion_and_reason(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,month,x\n1,0,-9\n2,0,\n3,0,5\n4,0,6\n1,3,7\n2,3,\n")
    (tmp_path / "d.toml").write_text('[variables.x]\nmissing = { "-9" = "refused" }\n')
    text = page(tmp_path, *WORDS[:4], "-d", "d.toml")
    rows = re.findall(r"<tr>(?:<td>&nbsp;&nbsp;|<th scope=\"row\">)(x|refused|blank)</t.>(.*?)</tr>", text)
    assert {name: re.findall(r">([^<]+)</td>", cells) for name, cells in rows} == {
        "x": ["50 %", "50 %"], "refused": ["25 %", "0 %"], "blank": ["25 %", "50 %"],
    }  # fmt: skip


def test_a_group_of_just_that_size_is_shown(study: Path) -> None:
    (study / "a.csv").write_text("id,month,x\n" + "".join(f"{at % 5},{at // 5},{at}\n" for at in range(10)))
    assert '<td class="n">5</td>' in page(study, *WORDS[:4], "--min-n", "5")
    assert '<td class="n">5</td>' not in page(study, *WORDS[:4], "--min-n", "6")


def test_a_page_of_many_variables_has_a_line_for_each(tmp_path: Path) -> None:
    rows = [",".join(str((row * at) % 7) for at in range(400)) for row in range(9)]
    (tmp_path / "a.csv").write_text("\n".join([",".join(f"v{at}" for at in range(400)), *rows]) + "\n")
    text = page(tmp_path)
    assert text.count("data-find=") == 400 and text.count("<article") == 0


def test_ticks_are_round() -> None:
    assert choose_ticks(0.0, 1.0) == [0.0, 0.5, 1.0]
    assert choose_ticks(3.0, 3.0)[0] <= 3.0 <= choose_ticks(3.0, 3.0)[-1]


MEASURE = """<script>
addEventListener("load", function () {
  var bad = [];
  document.querySelectorAll("h1,h2,h3,p,td,th,li,article,figure").forEach(function (one) {
    if (one.closest(".wide") && one.tagName != "FIGURE") return;
    var box = one.getBoundingClientRect();
    if (box.right > innerWidth + 1 || box.left < -1) bad.push(one.tagName + " " + one.textContent.slice(0, 30));
  });
  parent.document.title = document.documentElement.scrollWidth + " of " + innerWidth + ": " + bad.join("; ");
});
</script>"""


def examined(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [str(CHROMIUM), "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
         "--disable-background-networking", "--disable-component-update", "--disable-sync", "--enable-logging=stderr",
         f"--user-data-dir={folder / 'browser'}", *words],
        capture_output=True, text=True, check=True, timeout=120,
    )  # fmt: skip


@browser
def test_a_browser_has_nothing_to_report_and_nothing_is_cut(study: Path) -> None:
    text = page(study, *WORDS)
    done = examined(study, "--dump-dom", f"file://{study / 'p.html'}")
    assert "CONSOLE" not in done.stderr, done.stderr
    assert 'style="display: block;"' in done.stdout  # the search is there once the script ran
    for width in (1280, 400):
        inside = html.escape(
            text.replace("</body>", MEASURE + "</body>").replace("default-src 'none'", "default-src *")
        )
        frame = f'<title>none</title><iframe style="width:{width}px;height:900px;border:0" srcdoc="{inside}"></iframe>'
        (study / "frame.html").write_text(frame)
        done = examined(study, "--window-size=1400,1000", "--dump-dom", f"file://{study / 'frame.html'}")
        title = re.search(r"<title>(\d+) of (\d+): (.*?)</title>", done.stdout)
        assert title is not None and int(title[1]) <= int(title[2]) == width
        assert title[3] == ""
    examined(study, f"--print-to-pdf={study / 'p.pdf'}", f"file://{study / 'p.html'}")
    assert (study / "p.pdf").read_bytes().startswith(b"%PDF")
