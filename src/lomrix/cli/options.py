"""Options made from settings: name, type, choices, bounds and help stand in one place only."""

from __future__ import annotations

import inspect
import types
import typing
from collections.abc import Callable, Iterable, Iterator
from typing import Annotated, Any, Literal

import typer
from pydantic import BaseModel
from pydantic.fields import FieldInfo
from typer.models import ArgumentInfo

from lomrix.cli.face import option
from lomrix.core.steps.settings import ADDS_UP, Setting
from lomrix.core.steps.step import Aside, Extra, Role, Step
from lomrix.files.missing_words import InCells

KEYWORD = inspect.Parameter.KEYWORD_ONLY
NEEDED = " (needed)"
# Headings of a command's help; options of a command itself stand first and under their own.
WRITTEN, READ, TOLD = "What is written", "How files are read", "The report"


def parameter(name: str, kind: Any, default: Any, declared: Any) -> inspect.Parameter:
    """One parameter of a command, as Typer reads it."""
    return inspect.Parameter(name, KEYWORD, default=default, annotation=Annotated[kind, declared])


def of_roles(roles: tuple[Role, ...]) -> Iterator[inspect.Parameter]:
    """Arguments and options for what goes in."""
    for role in roles:
        kind: Any = list[str] if role.many else str
        default: Any = [] if role.many else ""
        if role.option:
            text = role.help + (NEEDED if role.needed else "")
            yield parameter(role.name, kind, default, typer.Option(option(role.name), metavar=role.metavar, help=text))
        else:
            metavar = role.metavar + ("…" if role.many else "")
            yield parameter(role.name, kind, ..., typer.Argument(metavar=metavar, help=role.help))


def of_settings(model: type[BaseModel]) -> Iterator[inspect.Parameter]:
    """Options for the settings of a step, or of the reading."""
    for name, field in model.model_fields.items():
        setting = next((one for one in field.metadata if isinstance(one, Setting)), None)
        if setting is not None:
            yield of_setting(name, field, setting)


def of_setting(name: str, field: FieldInfo, setting: Setting) -> inspect.Parameter:
    """The option, or the argument, for one setting."""
    kind, default = list[str] if ADDS_UP in field.metadata else kind_of(field.annotation), field.get_default()
    text = setting.help
    if typing.get_origin(kind) is list:
        default = []
    elif field.is_required():
        default = ""
    text += NEEDED if field.is_required() else ""
    if setting.place:
        declared = typer.Argument(metavar=setting.metavar or None, help=setting.help)
        return parameter(name, kind, ... if field.is_required() else default, declared)
    bounds = {
        word: getattr(one, attribute)
        for one in field.metadata
        for word, attribute in (("min", "ge"), ("max", "le"))
        if hasattr(one, attribute)
    }
    names = [option(name), *([f"-{setting.letter}"] if setting.letter else [])]
    declared = typer.Option(*names, metavar=setting.metavar or None, help=text, **bounds)
    return parameter(name, kind, default, declared)


def kind_of(annotation: Any) -> Any:
    """The type of an option for the type of a setting."""
    if annotation is bool or annotation is int or annotation is str:
        return annotation
    if typing.get_origin(annotation) is tuple:
        return list[str]
    parts = typing.get_args(annotation)
    if int in parts and type(None) in parts:
        return int | None
    choices = tuple(words(annotation))
    chosen = Literal[choices]  # type: ignore[valid-type]
    return chosen | None if type(None) in typing.get_args(annotation) else chosen


def words(annotation: Any) -> Iterator[str]:
    """The words of a choice."""
    if typing.get_origin(annotation) is Literal:
        yield from typing.get_args(annotation)
    elif typing.get_origin(annotation) in (typing.Union, types.UnionType):
        for part in typing.get_args(annotation):
            yield from words(part)


def of_extras(extras: tuple[Extra, ...]) -> Iterator[inspect.Parameter]:
    """Options for what a step gives besides its table."""
    for extra in extras:
        text = extra.help + (NEEDED if extra.needed else "")
        yield parameter(extra.name, str, "", typer.Option(option(extra.name), metavar="FILE", help=text))


def of_writing(*, out: bool = True, export: bool = False, words: bool = True) -> Iterator[inspect.Parameter]:
    """Options for the output.

    Parameters
    ----------
    out
        Whether there is a table to be written.
    export
        Whether it is a delivery, which names its destination.
    words
        Whether the cells of text files may hold reasons.
    """
    if out:
        names = ("--to",) if export else ("--out", "-o")
        help_ = "Write the result here; without it nothing is written."
        yield parameter("out", str, "", typer.Option(*names, metavar="DEST" if export else "FILE", help=help_))
    yield parameter("overwrite", bool, False, typer.Option("--overwrite", help="Replace what is there already."))
    if export:
        text = "Check everything and show what would be written; write nothing."
        yield parameter("rehearse", bool, False, typer.Option("--rehearse", help=text))
    if out and words:
        text = "What stands in missing cells of text files that have no code."
        yield parameter("missing", InCells, "empty", typer.Option("--missing", help=text))


def of_telling() -> Iterator[inspect.Parameter]:
    """Options for what is told."""
    json = parameter("json", bool, False, typer.Option("--json", help="Give the account as JSON."))
    quiet = parameter("quiet", bool, False, typer.Option("--quiet", "-q", help="Say nothing but errors."))
    yield from under(TOLD, (json, quiet))


def of_asides(asides: tuple[Aside, ...], tell: Callable[[Aside], None]) -> Iterator[inspect.Parameter]:
    """Options that explain something and stop."""

    def telling(aside: Aside) -> Callable[[bool], None]:
        def when_asked(asked: bool) -> None:
            if asked:
                tell(aside)

        return when_asked

    for aside in asides:
        declared = typer.Option(option(aside.name), help=aside.help, is_eager=True, callback=telling(aside))
        yield parameter(aside.name, bool, False, declared)


def of_step(
    step: type[Step], reading: type[BaseModel], tell: Callable[[Aside], None] = lambda aside: None
) -> list[inspect.Parameter]:
    """All parameters of a step's command; `tell` shows what it can explain."""
    written = of_writing(
        out=step.result != "report only",
        export=step.word == "export",
        words=step.word != "export" and step.result != "page",
    )
    return [
        *sorted([*of_roles(step.roles), *of_settings(step)], key=in_order),
        *under(WRITTEN, written),
        *under(WRITTEN, of_extras(step.gives)),
        *under(READ, of_settings(reading)),
        *under(
            READ,
            [parameter("no_study", bool, False, typer.Option("--no-study", help="Leave study.toml out of account."))],
        ),
        *of_asides(step.asides, tell),
        *of_telling(),
    ]


def under(heading: str, parameters: Iterable[inspect.Parameter]) -> Iterator[inspect.Parameter]:
    """Parameters that stand under a heading of the help."""
    for one in parameters:
        one.annotation.__metadata__[0].rich_help_panel = heading
        yield one


def in_order(one: inspect.Parameter) -> int:
    """Arguments first, then options without which a command cannot do its work, then the others."""
    declared = one.annotation.__metadata__[0]
    if isinstance(declared, ArgumentInfo):
        return 0
    return 1 if str(declared.help).endswith(NEEDED) else 2
