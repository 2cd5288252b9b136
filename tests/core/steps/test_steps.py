"""Steps cannot be invalid once they exist, and their settings are declared in one place."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from lomrix.cli.options import list_step
from lomrix.cli.wording import format_option, format_text
from lomrix.core.errors import SettingError
from lomrix.core.steps.registry import ENTRIES, find_entry
from lomrix.core.steps.settings import Setting
from lomrix.core.wording import format_settings
from lomrix.files.reading import ReadingOptions
from tests.tables import lomrix


def step(word: str) -> Any:
    entry = find_entry(word)
    assert entry is not None
    return entry.load()


@pytest.mark.parametrize(
    ("word", "settings", "name", "expected"),
    [
        ("merge", {"key": ()}, "key", "No ‹key›"),
        ("merge", {}, "key", "No ‹key›"),
        ("merge", {"key": "a,a"}, "key", "named twice"),
        ("merge", {"key": "a="}, "key", "not a column name"),
        ("merge", {"key": "a", "expect": "one"}, "expect", '"one" is not a value'),
        ("merge", {"key": "a", "most_rows": -1}, "most_rows", "at least 1"),
        ("merge", {"key": "a", "tidy_keys": "case,dots"}, "tidy_keys", '"dots" is not a value'),
        ("merge", {"key": "a", "kye": "b"}, "kye", "Unknown setting kye"),
        ("subset", {"where": "a +"}, "where", "cannot be understood"),
        ("subset", {"where": "a.b"}, "where", "not supported"),
        ("subset", {"columns": " , "}, "columns", "is empty"),
        ("subset", {"without": "@numbers"}, "without", "Unknown column type @numbers"),
        ("aggregate", {"by": "g", "stat": "x: average"}, "stat", "Unknown statistic average"),
        ("aggregate", {"by": "g", "stat": "x"}, "stat", "state statistics"),
        ("aggregate", {"by": "g", "min_n": -1}, "min_n", "at least 0"),
        ("aggregate", {}, "by", "No ‹by›"),
        ("recode", {"map": "x"}, "map", "not valid"),
        ("recode", {"map": "x: 1=missing"}, "map", "needs its reason"),
        ("recode", {"reverse": "x"}, "span", "needs the span"),
        ("recode", {"span": "0:3"}, "reverse", "requires ‹reverse›"),
        ("recode", {"reverse": "x", "span": "3:0"}, "span", "not valid"),
        ("stack", {"mark": "wave="}, "mark", "not valid"),
        ("stack", {"pair": "a"}, "pair", "not valid"),
        ("tally", {"variables": "a,b,c"}, "variables", "one variable, or two"),
        ("deidentify", {"id": "a", "coarsen": "b=0"}, "coarsen", "a number of years"),
        ("deidentify", {"id": "a", "coarsen": "b=5"}, "on_day", "computed for a day"),
        ("deidentify", {"id": "a", "on_day": "NaT"}, "on_day", "not a date"),
        ("to-long", {"header": "x_m3"}, "header", "needs"),
        ("to-long", {"occasions": "a=1,2"}, "occasions", "not valid"),
        ("to-wide", {"header": "{measure"}, "header", "brace"),
        ("to-wide", {"most_columns": 0}, "most_columns", "at least 1"),
        ("to-wide", {"repeated": "mode"}, "repeated", "not a value"),
        ("export", {"missing_code": ("-9", "-8")}, "missing_code", "already have one"),
        ("export", {"form": "bare", "missing_code": "x"}, "missing_code", "not a number"),
        ("export", {"missing_code": "x:auto"}, "missing_code", "applies to every cell"),
        ("export", {"missing_code": "=-9"}, "missing_code", "not valid"),
        ("export", {"form": "bare", "show_labels": "x"}, "show_labels", "only numbers"),
        ("export", {"form": "bare", "date_form": "%d/%m/%Y"}, "date_form", "yyyymmdd"),
        ("export", {"form": "fixed", "delimiter_out": ";"}, "delimiter_out", "have no delimiter"),
        ("export", {"form": "bare", "delimiter_out": ";"}, "delimiter_out", "spaces, commas or tabs"),
        ("export", {"delimiter_out": ",", "decimal_out": ","}, "delimiter_out", "both the delimiter and"),
        ("export", {"delimiter_out": "ab"}, "delimiter_out", "cannot be a delimiter"),
        ("export", {"encoding_out": "idna-2"}, "encoding_out", "Unknown encoding"),
        ("export", {"date_form": "%d/%m/%Y|%Y"}, "date_form", "several date forms"),
        ("export", {"line_max": 80}, "line_max", "bare and fixed"),
        ("export", {"form": "bare", "line_max": 5}, "line_max", "at least 20"),
        ("export", {"names_max": 3}, "names_max", "at least 4"),
        ("export", {"db_type": "age"}, "db_type", "COLUMN=TYPE"),
        ("export", {"db_type": "age=INT; DROP TABLE x"}, "db_type", "COLUMN=TYPE"),
    ],
)
def test_a_step_that_could_not_be_done_does_not_exist(
    word: str, settings: dict[str, Any], name: str, expected: str
) -> None:
    with pytest.raises(SettingError) as caught:
        step(word)(**settings)
    assert caught.value.setting == name
    assert expected in caught.value.what
    assert caught.value.todo


def test_equal_settings_make_equal_steps_and_plain_values_make_them_again() -> None:
    made = step("merge")(key=["pid", "visit=occasion"], expect="many-to-one", tidy_keys="case")
    assert made == step("merge")(key="pid,visit=occasion", expect="many-to-one", tidy_keys=["case"])
    assert made.to_dict() == {"key": ["pid", "visit=occasion"], "expect": "many-to-one", "tidy_keys": ["case"]}
    assert step("merge")(**made.to_dict()) == made
    with pytest.raises(SettingError):
        step("merge")(**{**made.to_dict(), "max_rows": 0})


@pytest.mark.parametrize("entry", ENTRIES, ids=lambda entry: entry.word)
def test_options_are_the_settings_under_their_names(entry: Any) -> None:
    model = entry.load()
    assert (model.word, entry.word) == (entry.word, model.word)
    assert entry.example.startswith(f"lomrix {entry.word} ")
    options = {one.name: one for one in list_step(model, [ReadingOptions])}
    for name, field in model.model_fields.items():
        declared = options[name].annotation.__metadata__[0]
        setting = next(one for one in field.metadata if isinstance(one, Setting))
        assert setting.help in declared.help
        assert setting.positional or (declared.default, *declared.param_decls)[0] == f"--{name.replace('_', '-')}"
    needed = {role.name for role in model.roles} | {extra.name for extra in model.gives}
    assert needed <= set(options)
    assert model.division if not model.model_fields else True


def test_each_face_words_a_setting_in_its_own_way() -> None:
    text = "Use ‹expect=one-to-one›, ‹where=not is_missing(x)› or ‹once›; {month} stays."
    assert format_text(text) == 'Use --expect one-to-one, --where "not is_missing(x)" or --once; {month} stays.'
    plan = format_settings(text, lambda name, value: f'{name} = "{value}"' if value else name)
    assert plan == 'Use expect = "one-to-one", where = "not is_missing(x)" or once; {month} stays.'
    assert format_option("links") == "--through"


def test_the_former_name_of_an_option_still_works_with_a_note(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,ship\n1,tern\n2,tern\n3,gull\n")
    words = ["deidentify", "a.csv", "--id", "id", "--seed", "keys/s", "--linkage", "keys/l.csv", "--out", "o/b.csv"]
    (tmp_path / "keys").mkdir()
    (tmp_path / "o").mkdir()
    output, _ = lomrix(*words, "--quasi", "ship", cwd=tmp_path)
    assert "smallest groups" in output
    assert "--quasi is now called --quasi-identifiers; the former name works until the next release." in output
    assert "--quasi " not in lomrix("deidentify", "--help", cwd=tmp_path)[0]
    plan = '[[steps]]\nname = "d"\ndo = "deidentify"\nsource = "a.csv"\nid = "id"\nquasi = "ship"\n'
    (tmp_path / "p.toml").write_text(plan + 'seed = "keys/s"\nlinkage = "keys/m.csv"\nout = "o/c.csv"\n')
    assert "quasi is now called quasi_identifiers" in lomrix("run", "p.toml", "--full", cwd=tmp_path)[0]
