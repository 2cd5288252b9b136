"""An option that is given twice adds up or is refused; it never hides its first value."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import pytest
from pydantic import BaseModel, TypeAdapter

from lomrix.cli.main import list_commands, load_command
from lomrix.cli.options import choose_type
from lomrix.core.steps.registry import ENTRIES
from lomrix.core.steps.settings import JOINED, Setting
from lomrix.files.reading import ReadingOptions
from tests.tables import lomrix

# Two values of each setting that are not just any two words.
TWO = {
    "stat": ("a: n", "b: n"), "map": ("a: 1=2", "b: 1=2"), "type": ("a=integer", "b=integer"), "label": ("a=A", "b=B"),
    "unit": ("a=A", "b=B"), "rename": ("a=x", "b=y"), "rename_with": ("a: {old}_x", "b: {old}_y"),
    "pair": ("a=x", "b=y"),
    "db_type": ("a=INT", "b=INT"), "coarsen": ("a=5", "b=5"), "tidy_keys": ("spaces", "zeros"),
    "missing_code": ("a:-8", "b:-9"),
    "expressions": ("a = 1", "b = 2"),
}  # fmt: skip


def commands() -> list[tuple[str, Any]]:
    """Every command with its name, those inside groups too."""
    found = []
    for _, word, _ in list_commands():
        command = load_command(word)
        inner = getattr(command, "commands", None)
        found += [(f"{word} {name}", one) for name, one in inner.items()] if inner else [(word, command)]
    return found


def settings_that_add_up() -> list[tuple[str, str, Any]]:
    models: list[tuple[str, type[BaseModel]]] = [*((one.word, one.load()) for one in ENTRIES), ("read", ReadingOptions)]
    return [
        (word, name, field)
        for word, model in models
        for name, field in model.model_fields.items()
        if any(isinstance(one, Setting) for one in field.metadata)
        and (JOINED in field.metadata or choose_type(field.annotation) == list[str])
    ]


@pytest.mark.parametrize(("word", "command"), commands(), ids=[word for word, _ in commands()])
def test_an_option_of_one_value_is_refused_when_given_twice(word: str, command: Any) -> None:
    context = command.make_context(word, [], resilient_parsing=True)
    for option in command.params:
        if option.param_type_name != "option" or option.is_flag:
            continue
        words = [option.opts[0], "1", option.opts[0], "2"]
        if option.multiple:
            assert [*command.make_parser(context).parse_args(list(words))[0][option.name]] == ["1", "2"]
            continue
        with pytest.raises(Exception, match=rf"{option.opts[0]} was given 2 times"):
            command.parse_args(context, words)


@pytest.mark.parametrize(
    ("word", "name", "field"), settings_that_add_up(), ids=lambda one: one if isinstance(one, str) else ""
)
def test_a_setting_that_adds_up_keeps_both_values(word: str, name: str, field: Any) -> None:
    first, second = TWO.get(name, ("a", "b"))
    made = TypeAdapter(Annotated[field.annotation, *field.metadata]).validate_python([first, second])
    assert first in str(made) and second in str(made)


@pytest.mark.parametrize("words", [
    ["derive", "a.csv", "y = x", "--label", "y=A", "--label", "y=B"],
    ["subset", "a.csv", "--type", "x=integer", "--type", "x=string"],
    ["derive", "a.csv", "--rename", "x=y", "--rename", "x=z"],
    ["deidentify", "a.csv", "--id", "id", "--coarsen", "x=5", "--coarsen", "x=10", "--on-day", "2024-01-01"],
    ["stack", "a.csv", "a.csv", "--pair", "x=y", "--pair", "x=z"],
])  # fmt: skip
def test_two_values_for_one_name_are_refused(tmp_path: Path, words: list[str]) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,5\n")
    _, err = lomrix(*words, cwd=tmp_path, status=2)
    assert "was given twice" in err


def test_names_of_three_options_leave_a_deidentified_file(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,name,phone,x\n1,Ann,11,5\n2,Bo,22,6\n")
    (tmp_path / "k").mkdir()
    words = ["deidentify", "a.csv", "--id", "id", "--remove", "name", "--remove", "phone"]
    lomrix(*words, "--seed", "k/seed", "--linkage", "k/link.csv", "--out", "safe.csv", cwd=tmp_path)
    assert (tmp_path / "safe.csv").read_text().startswith("id,x\n")


def test_conditions_are_joined_and_plans_and_study_files_follow_the_same_rule(tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,5\n2,6\n3,7\n")
    lomrix("subset", "a.csv", "--where", "x > 5", "--where", "x == 5 or x < 7", "--out", "b.csv", cwd=tmp_path)
    assert (tmp_path / "b.csv").read_text() == "id,x\n2,6\n"
    step = '[[steps]]\nname = "c"\ndo = "subset"\nsource = "a.csv"\nout = "c.csv"\n'
    (tmp_path / "p.toml").write_text(step + 'where = ["x > 5", "x == 5 or x < 7"]\ncolumns = ["id", "x"]\n')
    lomrix("run", "p.toml", cwd=tmp_path)
    assert (tmp_path / "c.csv").read_text() == "id,x\n2,6\n"
    (tmp_path / "p.toml").write_text(step + 'decimal = [".", ","]\n')
    lomrix("run", "p.toml", cwd=tmp_path, status=2)
    (tmp_path / "study.toml").write_text('decimal = [".", ","]\n')
    _, err = lomrix("profile", "a.csv", cwd=tmp_path, status=2)
    assert "decimal in the study file must be one value, not a list." in err
