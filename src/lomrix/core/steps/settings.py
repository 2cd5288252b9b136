"""Settings: what a person may say of a step, declared once for the command line, plans and histories."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator, ValidationError, ValidationInfo

from lomrix.core.errors import SettingError, UsageError
from lomrix.core.nearest import advice
from lomrix.core.table.selection import require_words
from lomrix.core.wording import listed


@dataclass(frozen=True)
class Setting:
    """What a face needs to know of a setting beside its name, type and default.

    Parameters
    ----------
    help
        What it does, in one sentence.
    metavar
        A word for its value, such as `COLUMNS`.
    letter
        One letter that may stand for its name.
    place
        The value stands by its place among the words of a command, and not behind its name.
    """

    help: str
    metavar: str = ""
    letter: str = ""
    place: bool = False


def _names(value: object) -> Any:
    if isinstance(value, str):
        return listed(value)
    if isinstance(value, list | tuple) and all(isinstance(one, str) for one in value):
        return tuple(name for one in value for name in listed(one))
    return value


def _texts(value: object) -> Any:
    if isinstance(value, str):
        return (value,) if value else ()
    return tuple(value) if isinstance(value, list) else value


# Marks a text that may be given several times, as a repeated option or a list in a plan: its parts become one text.
ADDS_UP = "adds up"


def joined_by(join: Callable[[Sequence[str]], str]) -> BeforeValidator:
    """Put several texts of one setting together."""

    def one_text(value: object) -> Any:
        if isinstance(value, list | tuple) and all(isinstance(part, str) for part in value):
            parts = [part for part in value if part.strip()]
            return join(parts) if len(parts) > 1 else "".join(parts)
        return value

    return BeforeValidator(one_text)


BY_COMMAS = BeforeValidator(_names)
# Names, with commas between or one after the other.
Names = Annotated[tuple[str, ...], BY_COMMAS]
# Texts, each a word of its own with commas in it as they come.
Texts = Annotated[tuple[str, ...], BeforeValidator(_texts)]


def parsed_by(parse: Callable[[Any], object]) -> AfterValidator:
    """A check that a setting can be understood; what it means is read from it again where it is wanted.

    Parameters
    ----------
    parse
        Reads the value; raises a UsageError where it is not clear.
    """

    def check(value: object, info: ValidationInfo) -> Any:
        if value:
            hold(info.field_name or "", lambda: parse(value))
        return value

    return AfterValidator(check)


# A choice of columns: words with commas between, in one text or in several.
Columns = Annotated[str, joined_by(", ".join), ADDS_UP, parsed_by(require_words)]


def hold(name: str, check: Callable[[], object]) -> None:
    """Do a check on behalf of a setting.

    Raises
    ------
    SettingError
        Of the setting of that name, where the check finds something wrong.
    """
    try:
        check()
    except SettingError:
        raise
    except UsageError as error:
        told = SettingError(name, error.what, where=error.where, todo=error.todo)
        told.pointer = error.pointer
        raise told from error


def require_distinct(names: Iterable[str], what: str) -> None:
    """Stop where a list speaks of one name twice, since the later words would replace the earlier ones unseen.

    Raises
    ------
    UsageError
        Naming the first such name.
    """
    twice = [name for name, count in Counter(names).items() if count > 1]
    if twice:
        raise UsageError(f"{what} {twice[0]} was given twice.", todo="Give it once.")


def setting_error(error: ValidationError, known: Mapping[str, object]) -> SettingError:
    """What a validation found wrong with a setting, in plain words.

    Parameters
    ----------
    error
        Of the settings' model.
    known
        The settings that there are.
    """
    first = error.errors()[0]
    name = str(first["loc"][0]) if first["loc"] else ""
    value, context = first.get("input"), first.get("ctx", {})
    kind = first["type"]
    if kind == "missing":
        return SettingError(name, f"No ‹{name}› was given.", todo="It is needed.")
    if kind == "extra_forbidden":
        todo = advice(name, known, f"Settings are {', '.join(known)}.")
        return SettingError(name, f"There is no setting {name}.", todo=todo)
    if kind == "literal_error":
        # Of a choice among several kinds of values each kind tells its own.
        told = [one.get("ctx", {}).get("expected", "") for one in error.errors() if one["loc"][:1] == first["loc"][:1]]
        choices = ", ".join(dict.fromkeys(re.findall(r"'([^']*)'", " ".join(map(str, told)))))
        return SettingError(name, f'"{value}" is no value of ‹{name}›.', todo=f"Values are {choices}.")
    if kind in ("greater_than_equal", "less_than_equal"):
        bound = context.get("ge", context.get("le"))
        least = "at least" if kind == "greater_than_equal" else "at most"
        return SettingError(name, f"‹{name}› is {least} {bound}, not {value}.", todo="Give another number.")
    return SettingError(name, f'"{value}" cannot be ‹{name}›.', where=first["msg"], todo="Mend the value.")
