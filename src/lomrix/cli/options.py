"""The options that commands share, and the wrapper that gives them to a command.

Nothing here may import NumPy or PyArrow: `lomrix --help` reads this module.
"""

from __future__ import annotations

import inspect
import typing
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import Annotated, Any

import typer

Out = Annotated[
    str, typer.Option("--out", "-o", metavar="FILE", help="Write the result here; without it nothing is written.")
]
Overwrite = Annotated[bool, typer.Option("--overwrite", help="Replace the output where it is there already.")]
DictionaryFile = Annotated[
    str,
    typer.Option("--dictionary", "-d", metavar="FILE", help="Labels, codes and missing codes of the variables (TOML)."),
]
Types = Annotated[
    list[str], typer.Option("--type", metavar="NAME=TYPE", help="Type of a column, such as visit=date:%d/%m/%Y.")
]
Delimiter = Annotated[
    str, typer.Option("--delimiter", metavar="SIGN", help="Delimiter of text files, where it is not found right.")
]
Encoding = Annotated[
    str, typer.Option("--encoding", metavar="NAME", help="Encoding of text files, where it is not found right.")
]
Decimal = Annotated[str, typer.Option("--decimal", metavar="SIGN", help="Sign before decimal places: . or ,")]
MissingText = Annotated[
    list[str],
    typer.Option("--missing-text", metavar="TEXTS", help="Texts that stand for a missing cell, commas between."),
]
Json = Annotated[bool, typer.Option("--json", help="Give the account as JSON.")]
Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Say nothing but errors.")]

Key = Annotated[
    list[str],
    typer.Option(
        "--key", "-k", metavar="COLUMN", help="Key column; pid=person where the added file calls it differently."
    ),
]
MissingCode = Annotated[
    list[str],
    typer.Option(
        "--missing-code", metavar="CODE", help="Code for missing cells: -9, refused=-8 for one reason, or auto."
    ),
]


class OtherLabels(StrEnum):
    """What happens where one code has different labels."""

    STOP = "stop"
    FIRST = "first"


@dataclass(frozen=True)
class Common:
    """What was said with the options that all commands share."""

    dictionary: str = ""
    type_: tuple[str, ...] = ()
    delimiter: str = ""
    encoding: str = ""
    decimal: str = "."
    missing_text: tuple[str, ...] = ()
    out: str = ""
    overwrite: bool = False
    json: bool = False
    quiet: bool = False


READING: dict[str, Any] = {
    "dictionary": DictionaryFile,
    "type_": Types,
    "missing_text": MissingText,
    "delimiter": Delimiter,
    "decimal": Decimal,
    "encoding": Encoding,
}
LISTS = ("type_", "missing_text")
DEFAULTS = {"decimal": "."}
WRITING: dict[str, Any] = {"out": Out, "overwrite": Overwrite}
TELLING: dict[str, Any] = {"json": Json, "quiet": Quiet}


def with_common_options(
    *, reads: bool = True, writes: bool = True, out: bool = True
) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Give a command the shared options; it takes them as one `Common` in its first argument.

    Parameters
    ----------
    reads, writes
        Whether it reads sources and writes an output.
    out
        Whether the output is named with `--out`.
    """
    shared = {**(READING if reads else {}), **(WRITING if writes else {}), **TELLING}
    if not out:
        shared.pop("out", None)

    def wrap(function: Callable[..., None]) -> Callable[..., None]:
        hints = typing.get_type_hints(function, include_extras=True)
        own = list(inspect.signature(function).parameters.values())[1:]
        parameters = [parameter.replace(annotation=hints[parameter.name]) for parameter in own]
        for name, annotation in shared.items():
            default: Any = [] if name in LISTS else False if annotation.__origin__ is bool else DEFAULTS.get(name, "")
            parameters.append(
                inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation)
            )

        def command(**given: Any) -> None:
            from lomrix.cli.session import guarded_command

            said = {name: given.pop(name) for name in shared}
            said |= {name: tuple(said[name]) for name in LISTS if name in said}
            guarded_command(function, Common(**said), given)

        command.__name__, command.__doc__, command.__module__ = function.__name__, function.__doc__, function.__module__
        # Typer reads a command's options from its signature.
        vars(command)["__signature__"] = inspect.Signature(parameters)
        command.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
        return command

    return wrap
