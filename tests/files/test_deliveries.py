"""Text forms of an export: fixed columns, wrapped records, odd encodings, short names, companions and codebooks."""

from __future__ import annotations

import csv
import json
import tempfile
from pathlib import Path
from unittest import mock
from xml.etree.ElementTree import Element

import numpy as np
import pytest
from defusedxml.ElementTree import parse
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from lomrix.core.errors import DataError
from lomrix.core.steps.export.settings import Export
from lomrix.core.steps.export.short_names import make_short_names
from lomrix.core.table.table import Table
from lomrix.files import folder_sink, workbook_writer
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_sink, open_source
from lomrix.job.outputs import Outputs
from tests.files.test_formats import tables
from tests.tables import lomrix, reasons, sources

DICTIONARY = """
[variables.crew_id]
label = "Crew member"
[variables."sleep_minutes_m{month}"]
label = "Sleep, month {month}"
unit = "min"
minimum = -20
maximum = 900
missing = { "-8" = "refused" }
[variables.watch]
label = "Watch | kept"
codes = "watch"
[codes.watch]
1 = "day"
2 = "night <long>"
3 = "split"
"""


@pytest.fixture
def crew(tmp_path: Path) -> Path:
    (tmp_path / "d.toml").write_text(DICTIONARY)
    (tmp_path / "crew.csv").write_text(
        "crew_id,name,watch,sleep_minutes_m0,sleep_minutes_m12,joined,score\n"
        "007,Ødegård,2,400,-8,2024-03-05,1.25\n"
        "012,Tern,1,,410,,-0.004\n"
        "003,,2,390,405,2023-12-31,12\n"
    )
    return tmp_path


def export(crew: Path, *words: str, status: int = 0) -> str:
    output, error = lomrix("export", "crew.csv", "-d", "d.toml", *words, cwd=crew, status=status)
    return output + error


def test_fixed_columns_are_where_the_layout_reports(crew: Path) -> None:
    export(
        crew,
        "--to",
        "m.dat",
        "--form",
        "fixed",
        "--missing-code",
        "-9",
        "--missing-code",
        "refused=-8",
        "--digits",
        "2",
    )
    lines = (crew / "m.dat").read_text().splitlines()
    assert lines == [
        "007 Ødegård 2 400  -8 2024-03-05  1.25",
        "012 Tern    1  -9 410             0.00",
        "003 -9      2 390 405 2023-12-31 12.00",
    ]
    with (crew / "m.layout.csv").open() as file:
        layout = list(csv.DictReader(file))
    starts = [(one["name"], int(one["start"]), int(one["width"]), int(one["decimals"])) for one in layout]
    assert starts[3:] == [("sleep_minutes_m0", 15, 3, 0), ("sleep_minutes_m12", 19, 3, 0), ("joined", 23, 10, 0),
                          ("score", 34, 5, 2)]  # fmt: skip
    assert layout[3]["label"] == "Sleep, month 0"


def test_a_record_goes_on_in_a_new_line(crew: Path) -> None:
    export(crew, "--to", "m.dat", "--form", "bare", "--missing-code", "-9", "--line-max", "20")
    lines = (crew / "m.dat").read_text().splitlines()
    assert lines[:3] == ["7 2 2 400 -9", "20240305 1.25", "12 1 1 -9 410"]
    assert max(map(len, lines)) <= 20
    text = (crew / "m.columns.txt").read_text()
    assert "Each row takes 2 lines." in text
    assert "line 2: joined score" in text


@pytest.mark.parametrize("form", ["fixed", "bare"])
@settings(deadline=None, max_examples=25)
@given(made=tables(), line_max=st.sampled_from([0, 60]), windows=st.booleans())
def test_what_is_written_in_lines_is_read_back(form: str, made: Table, line_max: int, windows: bool) -> None:
    assume(not any("\n" in str(cell) for column in made.columns.values() for cell in column.cells()))
    step = Export(form=form, line_max=line_max, line_ends="windows" if windows else "unix")
    with tempfile.TemporaryDirectory() as folder:
        result = step.apply(sources(made))
        sink = open_sink(f"{folder}/m.dat", delivery=step.delivery)
        sink.set_prepared(result.extras["prepared"])
        sink.stage(result.table)
        assert sink.verify(result.table) == len(made) * len(made.names)
        part = next(Path(folder).glob(".m.dat*.part"))
        spoiled = part.read_bytes().translate(bytes.maketrans(b"0123456789", b"1234567890"))
        if spoiled != part.read_bytes():
            part.write_bytes(spoiled)
            with pytest.raises(Exception, match=r"was not written|differs after reading back|conversion"):
                sink.verify(result.table)
        sink.discard()


@pytest.mark.parametrize("suffix", [".csv", ".tsv", ".parquet", ".arrow", ".jsonl", ".xlsx"])
@settings(deadline=None, max_examples=15)
@given(made=tables(), code=st.sampled_from(["", "-9", "-99999", "nothing"]))
def test_reading_back_raises_no_false_alarm(suffix: str, made: Table, code: str) -> None:
    step = Export(missing_code=(code,) if code else ())
    try:
        result = step.apply(sources(made))
    except DataError:  # the code is a value
        return
    with tempfile.TemporaryDirectory() as folder:
        sink = open_sink(f"{folder}/m{suffix}", delivery=step.delivery)
        sink.set_prepared(result.extras["prepared"])
        outputs = Outputs({"out": sink})
        outputs.stage({"out": result.table})
        assert outputs.verify("out", result.table) == len(made) * len(made.names)
        outputs.discard()


def test_other_characters_dates_and_encodings_come_back(crew: Path) -> None:
    words = ["--delimiter-out", ";", "--decimal-out", ",", "--encoding-out", "cp1252", "--line-ends", "windows"]
    export(crew, "--to", "e.csv", *words, "--date-form", "%d/%m/%Y", "--missing-code", "-9")
    raw = (crew / "e.csv").read_bytes()
    assert raw.splitlines()[1] == "007;Ødegård;2;400;-9;05/03/2024;1,25".encode("cp1252")
    assert raw.count(b"\r\n") == 4
    back = open_source(str(crew / "e.csv"), ReadSettings()).read().table
    assert back["score"].cells() == [1.25, -0.004, 12.0]
    assert [str(day) for day in back["joined"].values] == ["2024-03-05", "NaT", "2023-12-31"]
    assert back["name"].cells() == ["Ødegård", "Tern", None]
    assert reasons(back["sleep_minutes_m12"]) == ["refused", None, None]


def test_a_letter_that_the_encoding_lacks_is_named(crew: Path) -> None:
    output = export(crew, "--to", "e.csv", "--encoding-out", "ascii", status=3)
    assert "ascii has no Ø" in output and "name, row 2" in output and "--ascii" in output
    assert not (crew / "e.csv").exists()
    output = export(crew, "--to", "e.csv", "--encoding-out", "ascii", "--ascii")
    assert "Odegard" in (crew / "e.csv").read_text() and "Ø" in output and "å" in output
    (crew / "crew.csv").write_text('a,b\n1,"x\ny"\n')
    assert "line break" in export(crew, "--to", "f.csv", "--line-ends", "windows", status=3)
    assert "line break" in export(crew, "--to", "f.dat", "--form", "fixed", status=3)


def test_what_goes_to_standard_output_is_written_as_was_stated(crew: Path) -> None:
    words = ["--columns", "crew_id,joined,score,sleep_minutes_m12", "--to", "-", "--quiet"]
    report = export(
        crew, *words, "--delimiter-out", ";", "--decimal-out", ",", "--digits", "1", "--date-form", "%d.%m.%y"
    )
    assert report.splitlines()[1:3] == ["007;05.03.24;1,2;", "012;;0,0;410"]
    assert "cannot go to standard output" in export(crew, "--to", "-", "--form", "bare", status=2)
    assert "a comma would be both" in export(crew, "--to", "-", "--decimal-out", ",", status=2)


def test_a_comma_cannot_do_two_things(crew: Path) -> None:
    assert "--delimiter-out" in export(crew, "--to", "e.csv", "--decimal-out", ",", status=2)
    export(crew, "--to", "e.tsv", "--decimal-out", ",")
    assert "does not apply to a .parquet file" in export(crew, "--to", "e.parquet", "--digits", "1", status=2)


def test_codes_by_reason_by_column_and_found(crew: Path) -> None:
    codes = ["--missing-code", "-99", "--missing-code", "refused=-7", "--missing-code", "sleep_*:refused=-77"]
    output = export(crew, "--to", "e.csv", *codes, "--missing-code", "name:nobody")
    lines = (crew / "e.csv").read_text().splitlines()
    assert lines[1].split(",")[4] == "-77" and lines[2].split(",")[3] == "-99" and lines[3].split(",")[1] == "nobody"
    assert "Two missing codes are given for watch" in export(
        crew, "--missing-code", "w*:-1", "--missing-code", "watch:-2", status=2
    )
    # -9 is within the limits of sleep, -99 is not
    output = export(crew, "--to", "f.dat", "--form", "bare", "--missing-code", "auto", "--columns", "sleep_*")
    assert (crew / "f.dat").read_text() == "400 -99\n-99 410\n390 405\n"
    assert "12 is a value" not in output
    output = export(crew, "--missing-code", "score:12", status=1)
    assert "12 cannot mean missing: it is a value of score" in output and "1 cell holds 12" in output
    export(crew, "--to", "g.csv", "--missing-code", "score:400")  # a value of another column does no harm


def test_rows_are_sorted_and_labels_shown(crew: Path) -> None:
    output = export(crew, "--to", "e.csv", "--sort-by", "watch,sleep_minutes_m0", "--show-labels", "watch", "--columns",
                  "crew_id,watch")  # fmt: skip
    assert (crew / "e.csv").read_text() == "crew_id,watch\n012,day\n003,night <long>\n007,night <long>\n"
    assert "labels in place of codes" in output
    assert "no codes for crew_id" in export(crew, "--show-labels", "crew_id", status=2)


NAMES = st.lists(
    st.one_of(
        st.from_regex(r"[a-z]{1,6}(_[a-z]{1,8}){0,2}(_m\d{1,2})?", fullmatch=True), st.text(min_size=1, max_size=14)
    ),
    min_size=1, max_size=30, unique=True,
)  # fmt: skip


@given(names=NAMES, most=st.integers(4, 12))
def test_short_names_are_short_unique_and_stable(names: list[str], most: int) -> None:
    made = make_short_names(names, most)
    short = list(made.values())
    assert list(made) == names
    assert len({one.lower() for one in short}) == len(names)
    assert all(1 <= len(one) <= most and one[0].isalpha() and one.isascii() for one in short)
    assert all(one.replace("_", "a").isalnum() for one in short)


def test_short_names_keep_stem_and_occasion(crew: Path) -> None:
    assert list(make_short_names(["sleep_minutes_m0", "sleep_minutes_m12", "age", "heart_rate_m12"], 8).values()) == [
        "sleep_0", "sleep_12", "age", "heart_12",
    ]  # fmt: skip
    export(crew, "--to", "m.dat", "--form", "bare", "--names-max", "8")
    assert (crew / "m.names.csv").read_text().splitlines()[4:6] == [
        'sleep_0,sleep_minutes_m0,"Sleep, month 0"', 'sleep_12,sleep_minutes_m12,"Sleep, month 12"',
    ]  # fmt: skip
    text = (crew / "m.columns.txt").read_text()
    assert "crew_id name watch sleep_0 sleep_12 joined score" in text
    assert "sleep_0: sleep_minutes_m0" in text


# ---------------------------------------------------------------- companions


def test_a_team_s_own_template(crew: Path) -> None:
    (crew / "head.inp.j2").write_text(
        "data {{ file }};\n{% for v in variables %}{{ v.name }}{{ ' ' if not loop.last }}{% endfor %};\n"
        "missing {{ missing_code }};{% for v in variables if v.codes and v.codes[0].label %}"
        " {{ v.name }}={{ v.codes[0].label }}{% endfor %};\n"
    )
    export(crew, "--to", "m.dat", "--form", "bare", "--missing-code", "-9", "--companion", "head.inp.j2",
           "--columns", "crew_id,watch,score")  # fmt: skip
    assert (crew / "m.head.inp").read_text() == "data m.dat;\ncrew_id watch score;\nmissing -9; watch=day;\n"


@pytest.mark.parametrize(
    ("template", "expected"),
    [
        ("line one\n{{ nothing.here }}", "line 2: 'nothing' is undefined"),
        ("{% for %}", "line 1"),
        ("{{ ''.__class__.__mro__ }}", "unsafe"),
        ("{% include '/etc/passwd' %}", "loader"),
        ("{% for a in range(99999) %}{% for b in range(99999) %}{% endfor %}{% endfor %}", "within"),
        ("{{ 'x' * 10 ** 10 }}", "cannot be rendered"),
        ("{{ 1 / 0 }}", "division"),
    ],
)
def test_templates_are_bounded_and_wrong_ones_named(
    crew: Path, template: str, expected: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("lomrix.files.companions.template.SECONDS", 1)
    (crew / "t.txt.j2").write_text(template)
    answer = export(crew, "--to", "m.csv", "--companion", "t.txt.j2", status=3)
    assert expected in answer
    assert not (crew / "m.csv").exists() and not (crew / "m.t.txt").exists()


def test_companions_as_text_and_markdown(crew: Path) -> None:
    export(crew, "--to", "m.csv", "--companion", "names.md", "--missing-code", "refused=-8")
    lines = (crew / "names.md").read_text().splitlines()
    assert lines[0] == "# m.csv" and "3 rows, 7 columns, separated by commas." in lines[2]
    row = next(line for line in lines if "`watch`" in line)
    assert row == "| 3 | `watch` | Watch \\| kept | 1 day, 2 night &lt;long&gt;, 3 split |  |"
    assert "-8 refused" in next(line for line in lines if "m12" in line)
    export(crew, "--to", "k.csv", "--companion", "names.txt")
    assert "names in the first line" in (crew / "names.txt").read_text()
    assert "extension is one of" in export(crew, "--to", "l.csv", "--companion", "names.docx", status=2)


# The order of a variable's children in the schema of DDI-Codebook 2.5.
ORDER = [
    *("location", "labl", "imputation", "security", "embargo", "respUnit", "anlysUnit", "qstn", "valrng", "invalrng"),
    *("undocCod", "universe", "TotlResp", "sumStat", "txt", "stdCatgry", "catgryGrp", "catgry", "codInstr", "verStmt"),
    *("concept", "derivation", "varFormat", "geoMap", "catLevel", "notes"),
]
STATISTICS = {"mean", "medn", "mode", "vald", "invd", "min", "max", "stdev", "other"}


def local(element: Element) -> str:
    space, _, name = element.tag.partition("}")
    assert space == "{ddi:codebook:2_5"
    return name


def test_the_codebook_keeps_the_rules_of_its_standard(crew: Path) -> None:
    export(crew, "--to", "m.dat", "--form", "fixed", "--missing-code", "-9", "--codebook", "book.xml")
    book = parse(crew / "book.xml").getroot()
    assert local(book) == "codeBook" and book.get("version") == "2.5"
    assert [local(part) for part in book] == ["docDscr", "stdyDscr", "fileDscr", "dataDscr"]
    ids = [element.get("ID") for element in book.iter() if element.get("ID")]
    assert len(set(ids)) == len(ids) == 8
    variables = list(book[3])
    for one in variables:
        places = [ORDER.index(local(child)) for child in one]
        assert places == sorted(places)
        assert one.get("files") == "F1" and one.get("intrvl") in ("contin", "discrete")
        assert {child.get("type") for child in one if local(child) == "sumStat"} <= STATISTICS
        for category in (child for child in one if local(child) == "catgry"):
            assert [local(child) for child in category] in (
                ["catValu", "labl", "catStat"], ["catValu", "catStat"], ["labl", "catStat"],
            )  # fmt: skip
    watch = variables[2]
    found = [(one[0].text, one[1].text, one[-1].text) for one in watch if local(one) == "catgry"]
    assert found == [("1", "day", "1"), ("2", "night <long>", "2"), ("3", "split", "0")]
    sleep = variables[4]
    missing = [(one[0].text, one[1].text, one[-1].text) for one in sleep if one.get("missing") == "Y"]
    assert missing == [("-9", "refused", "1")]
    numbers = {child.get("type"): child.text for child in sleep if local(child) == "sumStat"}
    # 410 and 405: their mean, and the root of half their squared difference
    assert numbers == {"vald": "2", "invd": "1", "mean": "407.5", "medn": "407.5", "min": "405", "max": "410",
                       "stdev": "3.535533906"}  # fmt: skip
    place = next(child for child in sleep if local(child) == "location")
    assert (place.get("StartPos"), place.get("EndPos"), place.get("width")) == ("19", "21", "3")


def test_a_codebook_for_people(crew: Path) -> None:
    export(crew, "--to", "m.csv", "--codebook", "book.md")
    text = (crew / "book.md").read_text()
    assert "## 3. `watch`: Watch \\| kept" in text
    assert "| 2 | night &lt;long&gt; | 2 |" in text
    assert "| missing: refused | 1 |" in text


# ------------------------------------------------------------------ packages


def test_a_package_of_two_tables_with_their_keys(crew: Path) -> None:
    (crew / "visits.csv").write_text("crew_id,month,mood\n007,0,3\n007,3,\n012,0,5\n")
    words = ["export", "crew.csv", "visits.csv", "-d", "d.toml", "--to", "pack", "--form", "package"]
    output, _ = lomrix(*words, "--primary-key", "crew_id", cwd=crew)
    package = json.loads((crew / "pack" / "datapackage.json").read_text())
    first, second = package["resources"]
    assert first["schema"]["primaryKey"] == ["crew_id"] and "primaryKey" not in second["schema"]
    assert second["schema"]["foreignKeys"] == [
        {"fields": ["crew_id"], "reference": {"resource": "crew", "fields": ["crew_id"]}}
    ]
    assert [field["name"] for field in second["schema"]["fields"]] == ["crew_id", "month", "mood"]
    watch = first["schema"]["fields"][2]
    assert watch["categories"][0] == {"value": 1, "label": "day"}
    assert first["schema"]["fields"][4]["missingValues"] == [{"value": "", "label": "refused"}]
    assert sorted(path.name for path in (crew / "pack").iterdir()) == ["crew.csv", "datapackage.json", "visits.csv"]
    back = open_source(str(crew / "pack" / "crew.csv"), ReadSettings()).read().table
    assert back.dictionary.labels_of("watch")["1"] == "day"
    assert reasons(back["sleep_minutes_m12"]) == ["refused", None, None]
    _, error = lomrix(*words, cwd=crew, status=3)
    assert "already exists" in error
    (crew / "visits.csv").write_text("crew_id,month,mood\n099,0,3\n")
    output, _ = lomrix(*words, "--primary-key", "crew_id", "--overwrite", cwd=crew)
    assert "1 row has no match in crew" in output
    package = json.loads((crew / "pack" / "datapackage.json").read_text())
    assert "foreignKeys" not in package["resources"][1]["schema"]
    (crew / "pack" / "mine.txt").write_text("mine")
    _, error = lomrix(*words, "--overwrite", cwd=crew, status=3)
    assert "mine.txt" in error and (crew / "pack" / "mine.txt").exists()
    _, error = lomrix("export", "crew.csv", "visits.csv", "--to", "o.csv", cwd=crew, status=2)
    assert "--form package" in error
    assert not [path for path in crew.iterdir() if ".part" in path.name]


def test_a_table_as_a_folder_of_parquet_files(crew: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(folder_sink, "ROWS_IN_A_FILE", 2)
    words = ["export", "crew.csv", "-d", "d.toml", "--missing-code", "name:nobody", "--to", "parts/"]
    output, _ = lomrix(*words, cwd=crew)
    assert "21 cells compared, all equal" in output
    names = sorted(path.name for path in (crew / "parts").iterdir())
    assert names == ["datapackage.json", "parts-1.parquet", "parts-2.parquet"]
    (resource,) = json.loads((crew / "parts" / "datapackage.json").read_text())["resources"]
    assert (resource["path"], resource["lomrix:rows"]) == (names[1:], 3)
    lomrix("export", "crew.csv", "-d", "d.toml", "--missing-code", "name:nobody", "--to", "whole.parquet", cwd=crew)
    back, whole = (open_source(str(crew / name), ReadSettings()).read().table for name in ("parts", "whole.parquet"))
    assert back.same_as(whole) and back.dictionary == whole.dictionary
    output, _ = lomrix("history", "parts/", cwd=crew)
    assert "crew.csv" in output and "export" in output
    lomrix("subset", "parts/", "--without", "name", "--out", "few.csv", cwd=crew)
    lomrix("history", "few.csv", "--check", cwd=crew)
    lomrix(*words, "--overwrite", cwd=crew)
    (crew / "parts" / "mine.txt").write_text("mine")
    _, error = lomrix(*words, "--overwrite", cwd=crew, status=3)
    assert "mine.txt" in error and sorted(path.name for path in crew.iterdir() if ".part" in path.name) == []
    _, error = lomrix(*words[:-1], "parts", cwd=crew, status=3)
    assert "end it with /" in error


def test_a_workbook_tells_its_limit_before_any_work(crew: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(workbook_writer, "MOST_ROWS", 3)
    with mock.patch("lomrix.core.steps.step.Step.apply") as work:
        _, error = lomrix("derive", "crew.csv", "x = 1", "--out", "x.xlsx", cwd=crew, status=3)
    assert "there are 3 rows" in error and not work.called


@pytest.mark.parametrize("suffix", [".csv", ".parquet", ".arrow", ".jsonl", ".xlsx"])
def test_every_format_is_read_back_with_its_codes(crew: Path, suffix: str, monkeypatch: pytest.MonkeyPatch) -> None:
    words = ["--missing-code", "-9", "--missing-code", "name:nobody"]
    assert "21 cells compared, all equal" in export(crew, "--to", f"o{suffix}", *words)
    back = open_source(str(crew / f"o{suffix}"), ReadSettings()).read().table
    assert reasons(back["sleep_minutes_m12"]) == ["refused", None, None]
    assert back["crew_id"].cells() == ["007", "012", "003"]
    if suffix in (".parquet", ".xlsx"):
        from lomrix.files import arrow_columns, workbook

        module = arrow_columns if suffix == ".parquet" else workbook
        name = "column_from_arrow" if suffix == ".parquet" else "read_text_column"
        real = getattr(module, name)

        def one_row_other(*given: object) -> object:
            made = real(*given)
            column = made[0] if isinstance(made, tuple) else made
            turned = column.take(np.arange(len(column))[::-1])
            return (turned, made[1]) if isinstance(made, tuple) else turned

        monkeypatch.setattr(module, name, one_row_other)
        assert "differs after reading back" in export(crew, "--to", f"p{suffix}", status=3)
        assert not (crew / f"p{suffix}").exists()


def test_reasons_that_would_not_come_back_stop_the_export(crew: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("lomrix.files.missing.format_runs", lambda column, reason: "2")
    (crew / "crew.csv").write_text("crew_id,name,sleep_minutes_m0,sleep_minutes_m3\n1,x,-8,\n2,y,,\n3,z,-8,5\n")
    output = export(crew, "--to", "e.csv", status=3)
    assert "the reasons of missing cells in sleep_minutes_m0 differ" in output
    assert not (crew / "e.csv").exists()


def test_the_closest_word_counts_and_what_is_missing_sorts_last(crew: Path) -> None:
    (crew / "crew.csv").write_text("crew_id,sleep_minutes_m0\n1,-8\n2,\n3,30\n4,20\n")
    words = ["--missing-code", "sleep_*:-99", "--missing-code", "sleep_*:refused=-77", "--missing-code", "refused=-1"]
    export(crew, "--to", "e.csv", *words, "--sort-by", "sleep_minutes_m0")
    assert (crew / "e.csv").read_text().split()[1:] == ["4,20", "3,30", "1,-77", "2,-99"]


def test_values_without_a_label_are_reported(crew: Path) -> None:
    (crew / "crew.csv").write_text("crew_id,watch\n1,1\n2,7\n3,7\n4,\n")
    output = export(crew, "--to", "e.csv", "--show-labels", "watch", "--json")
    account = json.loads(output)["account"]
    assert account["notes"][0]["text"] == "values without a label, written as they are: 7 (2)."
    assert account["listings"][-1]["rows"] == [{"column": "watch", "cells": 1, "without a label": 2}]
    assert (crew / "e.csv").read_text().split()[1:] == ["1,day", "2,7", "3,7", "4,"]


def test_missing_codes_among_rounded_numbers_stay_as_they_are(crew: Path) -> None:
    export(crew, "--to", "e.csv", "--columns", "score", "--digits", "1", "--missing-code", "-9")
    assert (crew / "e.csv").read_text().split() == ["score", "1.2", "0.0", "12.0"]
    (crew / "crew.csv").write_text("score\n1.25\nNA\n-9.5\n")
    export(crew, "--to", "f.csv", "--digits", "1", "--missing-code", "-9")
    assert (crew / "f.csv").read_text().split() == ["score", "1.2", "-9", "-9.5"]
