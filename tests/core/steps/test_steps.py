"""Steps cannot be wrong once they exist, and say what they are in one place."""

from __future__ import annotations

from typing import Any

import pytest

from lomrix.cli.face import command_of, in_words, option
from lomrix.cli.options import of_step
from lomrix.core.errors import SettingError
from lomrix.core.steps.registry import ENTRIES, entry_of
from lomrix.core.steps.settings import Setting
from lomrix.core.wording import worded
from lomrix.files.reading import ReadingOptions


def step(word: str) -> Any:
    entry = entry_of(word)
    assert entry is not None
    return entry.step()


@pytest.mark.parametrize(
    ("word", "settings", "name", "told"),
    [
        ("merge", {"key": ()}, "key", "No ‹key›"),
        ("merge", {}, "key", "No ‹key›"),
        ("merge", {"key": "a,a"}, "key", "named twice"),
        ("merge", {"key": "a="}, "key", "not a column name"),
        ("merge", {"key": "a", "expect": "one"}, "expect", '"one" is no value'),
        ("merge", {"key": "a", "most_rows": -1}, "most_rows", "at least 1"),
        ("merge", {"key": "a", "tidy_keys": "case,dots"}, "tidy_keys", '"dots" is no value'),
        ("merge", {"key": "a", "kye": "b"}, "kye", "no setting kye"),
        ("subset", {"where": "a +"}, "where", "cannot be understood"),
        ("subset", {"where": "a.b"}, "where", "does not have"),
        ("subset", {"columns": " , "}, "columns", "names none"),
        ("subset", {"without": "@numbers"}, "without", "no type @numbers"),
        ("aggregate", {"by": "g", "stat": "x: average"}, "stat", "no statistic average"),
        ("aggregate", {"by": "g", "stat": "x"}, "stat", "which statistics"),
        ("aggregate", {"by": "g", "min_n": -1}, "min_n", "at least 0"),
        ("aggregate", {}, "by", "No ‹by›"),
        ("recode", {"map": "x"}, "map", "not clear"),
        ("recode", {"map": "x: 1=missing"}, "map", "needs its reason"),
        ("recode", {"reverse": "x"}, "span", "not named"),
        ("recode", {"span": "0:3"}, "reverse", "was not given"),
        ("recode", {"reverse": "x", "span": "3:0"}, "span", "not clear"),
        ("stack", {"mark": "wave"}, "mark", "not clear"),
        ("stack", {"pair": "a"}, "pair", "not clear"),
        ("tally", {"variables": "a,b,c"}, "variables", "one variable, or two"),
        ("deidentify", {"id": "a", "coarsen": "b=0"}, "coarsen", "how many years"),
        ("deidentify", {"id": "a", "coarsen": "b=5"}, "on_day", "reckoned on a day"),
        ("deidentify", {"id": "a", "on_day": "NaT"}, "on_day", "no day"),
        ("to-long", {"header": "x_m3"}, "header", "needs"),
        ("to-long", {"occasions": "a=1,2"}, "occasions", "not clear"),
        ("to-wide", {"header": "{measure"}, "header", "brace"),
        ("to-wide", {"most_columns": 0}, "most_columns", "at least 1"),
        ("to-wide", {"repeated": "mode"}, "repeated", "no value"),
        ("export", {"missing_code": ("-9", "-8")}, "missing_code", "have one already"),
        ("export", {"form": "bare", "missing_code": "x"}, "missing_code", "no number"),
        ("export", {"missing_code": "x:auto"}, "missing_code", "stands for every cell"),
        ("export", {"missing_code": "=-9"}, "missing_code", "not clear"),
        ("export", {"form": "bare", "show_labels": "x"}, "show_labels", "only numbers"),
        ("export", {"form": "bare", "date_form": "%d/%m/%Y"}, "date_form", "yyyymmdd"),
        ("export", {"form": "fixed", "delimiter_out": ";"}, "delimiter_out", "between them"),
        ("export", {"form": "bare", "delimiter_out": ";"}, "delimiter_out", "blanks, commas or tabs"),
        ("export", {"delimiter_out": ",", "decimal_out": ","}, "delimiter_out", "divide"),
        ("export", {"delimiter_out": "ab"}, "delimiter_out", "between cells"),
        ("export", {"encoding_out": "idna-2"}, "encoding_out", "no encoding"),
        ("export", {"date_form": "%d/%m/%Y|%Y"}, "date_form", "several forms"),
        ("export", {"line_max": 80}, "line_max", "bare and fixed"),
        ("export", {"form": "bare", "line_max": 5}, "line_max", "at least 20"),
        ("export", {"names_max": 3}, "names_max", "at least 4"),
        ("export", {"db_type": "age"}, "db_type", "a type"),
        ("export", {"db_type": "age=INT; DROP TABLE x"}, "db_type", "a type"),
    ],
)
def test_a_step_that_could_not_be_done_does_not_exist(
    word: str, settings: dict[str, Any], name: str, told: str
) -> None:
    with pytest.raises(SettingError) as caught:
        step(word)(**settings)
    assert caught.value.name == name
    assert told in caught.value.what
    assert caught.value.todo


def test_equal_settings_make_equal_steps_and_plain_values_make_them_again() -> None:
    made = step("merge")(key=["pid", "visit=occasion"], expect="many-to-one", tidy_keys="case")
    assert made == step("merge")(key="pid,visit=occasion", expect="many-to-one", tidy_keys=["case"])
    assert made.said() == {"key": ["pid", "visit=occasion"], "expect": "many-to-one", "tidy_keys": ["case"]}
    assert step("merge")(**made.said()) == made
    with pytest.raises(SettingError):
        made.changed(most_rows=0)


@pytest.mark.parametrize("entry", ENTRIES, ids=lambda entry: entry.word)
def test_options_are_the_settings_under_their_names(entry: Any) -> None:
    model = entry.step()
    assert (model.word, entry.word) == (entry.word, model.word)
    assert entry.example.startswith(f"lomrix {entry.word} ")
    options = {one.name: one for one in of_step(model, ReadingOptions)}
    for name, field in model.model_fields.items():
        declared = options[name].annotation.__metadata__[0]
        setting = next(one for one in field.metadata if isinstance(one, Setting))
        assert setting.help in declared.help
        assert setting.place or (declared.default, *declared.param_decls)[0] == f"--{name.replace('_', '-')}"
    needed = {role.name for role in model.roles} | {extra.name for extra in model.gives}
    assert needed <= set(options)
    assert model.division if not model.model_fields else True


def test_each_face_words_a_setting_in_its_own_way() -> None:
    text = "Say ‹expect=one-to-one›, ‹where=not is_missing(x)› or ‹once›; {month} stays."
    assert in_words(text) == 'Say --expect one-to-one, --where "not is_missing(x)" or --once; {month} stays.'
    plan = worded(text, lambda name, value: f'{name} = "{value}"' if value else name)
    assert plan == 'Say expect = "one-to-one", where = "not is_missing(x)" or once; {month} stays.'
    assert option("links") == "--through"


def test_a_task_can_be_typed_again() -> None:
    made = step("to-long")(header="{measure}_m{month}", case="pid", keep_empty=True)
    typed = command_of(made, {"source": ("my file.csv",)}, {"out": "o.csv"})
    assert typed == ('lomrix to-long "my file.csv" --header "{measure}_m{month}" --case pid --keep-empty --out o.csv')
