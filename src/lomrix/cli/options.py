"""Options made from settings: name, type, choices, bounds and help are in one place only."""

from __future__ import annotations

import inspect
import types
import typing
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Annotated, Any, Literal

import typer
from pydantic import BaseModel
from pydantic.fields import FieldInfo
from typer.models import ArgumentInfo

from lomrix.cli import REPORTING
from lomrix.cli.wording import format_option
from lomrix.core.steps.settings import JOINED, Setting
from lomrix.core.steps.step import Extra, HelpTopic, Role, Step
from lomrix.files.missing import InCells

KEYWORD = inspect.Parameter.KEYWORD_ONLY
REQUIRED = " (required)"
# Headings of a command's help; the command's own options come first.
WRITING, READING = "Writing", "Reading"


def make_parameter(name: str, kind: Any, default: Any, declared: Any) -> inspect.Parameter:
    """Make a parameter of a command, as Typer reads it."""
    return inspect.Parameter(name, KEYWORD, default=default, annotation=Annotated[kind, declared])


def list_roles(roles: tuple[Role, ...]) -> Iterator[inspect.Parameter]:
    """Yield arguments and options for the inputs."""
    for role in roles:
        kind: Any = list[str] if role.many else str
        default: Any = [] if role.many else ""
        if role.is_option:
            text = role.help + (REQUIRED if role.needed else "")
            yield make_parameter(
                role.name, kind, default, typer.Option(format_option(role.name), metavar=role.metavar, help=text)
            )
        else:
            metavar = role.metavar + ("…" if role.many else "")
            yield make_parameter(role.name, kind, ..., typer.Argument(metavar=metavar, help=role.help))


def list_settings(model: type[BaseModel]) -> Iterator[inspect.Parameter]:
    """Yield options for the settings of a step, or of reading."""
    for name, field in model.model_fields.items():
        setting = next((item for item in field.metadata if isinstance(item, Setting)), None)
        if setting is not None:
            yield make_setting(name, field, setting)


def list_former(step: type[Step]) -> Iterator[inspect.Parameter]:
    """Yield hidden options for former names of settings."""
    for old, new in step.former_names.items():
        setting = next(one for one in step.model_fields[new].metadata if isinstance(one, Setting))
        parameter = make_setting(new, step.model_fields[new], setting)
        declared = typer.Option(format_option(old), metavar=setting.metavar or None, hidden=True)
        yield make_parameter(old, typing.get_args(parameter.annotation)[0], parameter.default, declared)


def make_setting(name: str, field: FieldInfo, setting: Setting) -> inspect.Parameter:
    """Make the option, or the argument, for one setting."""
    kind, default = list[str] if JOINED in field.metadata else choose_type(field.annotation), field.get_default()
    text = setting.help
    if typing.get_origin(kind) is list:
        default = []
    elif field.is_required():
        default = ""
    text += REQUIRED if field.is_required() else ""
    if setting.positional:
        declared = typer.Argument(metavar=setting.metavar or None, help=setting.help)
        return make_parameter(name, kind, ... if field.is_required() else default, declared)
    bounds = {
        bound: getattr(item, attribute)
        for item in field.metadata
        for bound, attribute in (("min", "ge"), ("max", "le"))
        if hasattr(item, attribute)
    }
    names = [format_option(name), *([f"-{setting.letter}"] if setting.letter else [])]
    declared = typer.Option(*names, metavar=setting.metavar or None, help=text, **bounds)
    return make_parameter(name, kind, default, declared)


def choose_type(annotation: Any) -> Any:
    """Choose the type of an option for the type of a setting."""
    if annotation is bool or annotation is int or annotation is str:
        return annotation
    if typing.get_origin(annotation) is tuple:
        return list[str]
    parts = typing.get_args(annotation)
    if int in parts and type(None) in parts:
        return int | None
    choices = tuple(list_choices(annotation))
    chosen = Literal[choices]  # type: ignore[valid-type]
    return chosen | None if type(None) in typing.get_args(annotation) else chosen


def list_choices(annotation: Any) -> Iterator[str]:
    """Yield the choices of a type."""
    if typing.get_origin(annotation) is Literal:
        yield from typing.get_args(annotation)
    elif typing.get_origin(annotation) in (typing.Union, types.UnionType):
        for part in typing.get_args(annotation):
            yield from list_choices(part)


def list_extras(extras: tuple[Extra, ...]) -> Iterator[inspect.Parameter]:
    """Yield options for what a step returns besides its table."""
    for extra in extras:
        text = extra.help + (REQUIRED if extra.needed else "")
        yield make_parameter(extra.name, str, "", typer.Option(format_option(extra.name), metavar="FILE", help=text))


def list_writing(*, out: bool = True, export: bool = False, words: bool = True) -> Iterator[inspect.Parameter]:
    """Yield options for the output."""
    if out:
        names = ("--to",) if export else ("--out", "-o")
        help_ = "Write the result to this file; without it nothing is written."
        yield make_parameter("out", str, "", typer.Option(*names, metavar="DEST" if export else "FILE", help=help_))
    yield make_parameter(
        "overwrite", bool, False, typer.Option("--overwrite", help="Replace existing files or tables.")
    )
    if export:
        text = "Check everything and show what would be written; write nothing."
        yield make_parameter("rehearse", bool, False, typer.Option("--rehearse", help=text))
    if out and words:
        text = "How to write missing cells without a code in text files."
        yield make_parameter("missing", InCells, "empty", typer.Option("--missing", help=text))


def list_reporting() -> Iterator[inspect.Parameter]:
    """Yield options for the report."""
    json = make_parameter("json", bool, False, typer.Option("--json", help="Print the account as JSON."))
    quiet = make_parameter("quiet", bool, False, typer.Option("--quiet", "-q", help="Print only errors."))
    yield from under_heading(REPORTING, (json, quiet))


def list_topics(asides: tuple[HelpTopic, ...], show: Callable[[HelpTopic], None]) -> Iterator[inspect.Parameter]:
    """Yield options that explain something and exit."""

    def make_callback(topic: HelpTopic) -> Callable[[bool], None]:
        def when_asked(asked: bool) -> None:
            if asked:
                show(topic)

        return when_asked

    for topic in asides:
        declared = typer.Option(
            format_option(topic.name), help=topic.help, is_eager=True, callback=make_callback(topic)
        )
        yield make_parameter(topic.name, bool, False, declared)


def list_step(
    step: type[Step], options: Sequence[type[BaseModel]], show: Callable[[HelpTopic], None] = lambda aside: None
) -> list[inspect.Parameter]:
    """List all parameters of a step's command; `options` are for reading and running, `show` shows what the step can
    explain.
    """
    writing = list_writing(
        out=step.result != "report only",
        export=step.delivers,
        words=not step.delivers and step.result != "page",
    )
    return [
        *sorted([*list_roles(step.roles), *list_settings(step)], key=get_rank),
        *list_former(step),
        *under_heading(WRITING, writing),
        *under_heading(WRITING, list_extras(step.gives)),
        *under_heading(READING, (one for model in options for one in list_settings(model))),
        *under_heading(
            READING,
            [make_parameter("no_study", bool, False, typer.Option("--no-study", help="Ignore study.toml."))],
        ),
        *list_topics(step.asides, show),
        *list_reporting(),
    ]


def under_heading(heading: str, parameters: Iterable[inspect.Parameter]) -> Iterator[inspect.Parameter]:
    """Put parameters under a heading of the help."""
    for parameter_ in parameters:
        parameter_.annotation.__metadata__[0].rich_help_panel = heading
        yield parameter_


def get_rank(parameter_: inspect.Parameter) -> int:
    """Rank arguments first, then required options, then the others."""
    declared = parameter_.annotation.__metadata__[0]
    if isinstance(declared, ArgumentInfo):
        return 0
    return 1 if str(declared.help).endswith(REQUIRED) else 2
