"""Settings: declared once for the command line, plans and histories."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import AfterValidator, BeforeValidator, ValidationError, ValidationInfo
from pydantic.fields import FieldInfo

from lomrix.core.errors import SettingError, UsageError
from lomrix.core.nearest import advise
from lomrix.core.table.selection import require_choice
from lomrix.core.wording import split_list


@dataclass(frozen=True)
class Setting:
    """What an interface needs beside a setting's name, type and default: help, a word for its value (`metavar`), a one-
    letter form, and whether the value is positional.
    """

    help: str
    metavar: str = ""
    letter: str = ""
    positional: bool = False


def _split_names(value: object) -> Any:
    if isinstance(value, str):
        return split_list(value)
    if isinstance(value, list | tuple) and all(isinstance(text, str) for text in value):
        return tuple(name for text in value for name in split_list(text))
    return value


def _to_texts(value: object) -> Any:
    if isinstance(value, str):
        return (value,) if value else ()
    return tuple(value) if isinstance(value, list) else value


# Marks a text that may be given several times (repeated option, list in a plan): its parts are joined.
JOINED = "adds up"


def join_parts(join: Callable[[Sequence[str]], str]) -> BeforeValidator:
    """Join several texts of one setting."""

    def join_texts(value: object) -> Any:
        if isinstance(value, list | tuple) and all(isinstance(part, str) for part in value):
            parts = [part for part in value if part.strip()]
            return join(parts) if len(parts) > 1 else "".join(parts)
        return value

    return BeforeValidator(join_texts)


BY_COMMAS = BeforeValidator(_split_names)
# Names, separated by commas or given one by one.
Names = Annotated[tuple[str, ...], BY_COMMAS]
# Texts, each a unit that may hold commas.
Texts = Annotated[tuple[str, ...], BeforeValidator(_to_texts)]


def parsed_by(parse: Callable[[Any], object]) -> AfterValidator:
    """Return a check that a setting can be parsed; its meaning is parsed again where it is needed."""

    def check(value: object, info: ValidationInfo) -> Any:
        if value:
            check_setting(info.field_name or "", lambda: parse(value))
        return value

    return AfterValidator(check)


# Columns to sort by; a minus is for descending.
SortWords = Annotated[tuple[str, ...], BY_COMMAS, parsed_by(lambda words: require_different(words))]
# A choice of columns, separated by commas, in one text or several.
Columns = Annotated[str, join_parts(", ".join), JOINED, parsed_by(require_choice)]


def parse_spell(text: str) -> tuple[str, str]:
    """Parse `from..until` as the columns of a spell's start and end.

    Raises UsageError if one of them is not given.

    >>> parse_spell("from..until")
    ('from', 'until')
    """
    start, _, end = (part.strip() for part in text.partition(".."))
    if not start or not end or start == end:
        raise UsageError(f'"{text}" does not name the start and the end of a spell.', todo="Write from..until.")
    return start, end


def require_different(words: Sequence[str]) -> None:
    """Stop if a column is named twice, also with a minus, since the second has no effect.

    Raises UsageError naming the first one.
    """
    require_distinct([word.removeprefix("-") for word in words], "The column")


def check_setting(name: str, check: Callable[[], object]) -> None:
    """Run a check on behalf of a setting.

    Raises SettingError for that setting, if the check fails.
    """
    try:
        check()
    except SettingError:
        raise
    except UsageError as error:
        setting_error_ = SettingError(name, error.what, where=error.where, todo=error.todo)
        setting_error_.pointer = error.pointer
        raise setting_error_ from error


def require_distinct(names: Iterable[str], what: str) -> None:
    """Stop if a list names something twice, since the later value would silently replace the earlier one.

    Raises UsageError naming the first one.
    """
    repeated = [name for name, count in Counter(names).items() if count > 1]
    if repeated:
        raise UsageError(f"{what} {repeated[0]} was given twice.", todo="Give it once.")


def advise_to_add(name: str, metavar: str, help_: str) -> str:
    """Advise to add an option or input, with what its help says of it."""
    return f"Add ‹{name}={metavar}›: {help_[:1].lower()}{help_[1:]}"


def explain_validation_error(error: ValidationError, settings: Mapping[str, FieldInfo], name: str = "") -> SettingError:
    """Turn a failed validation, of settings or of the one that is named, into a plain error."""
    first = error.errors()[0]
    name = name or (str(first["loc"][0]) if first["loc"] else "")
    value, context = first.get("input"), first.get("ctx", {})
    kind = first["type"]
    if kind == "missing":
        known = next((one for one in settings[name].metadata if isinstance(one, Setting)), Setting(""))
        return SettingError(name, f"No ‹{name}› was given.", todo=advise_to_add(name, known.metavar, known.help))
    if kind == "extra_forbidden":
        todo = advise(name, settings, f"Settings are {', '.join(settings)}.")
        return SettingError(name, f"Unknown setting {name}.", todo=todo)
    if kind == "literal_error":
        # Each alternative of a union reports its own choices.
        expected = [
            detail.get("ctx", {}).get("expected", "")
            for detail in error.errors()
            if detail["loc"][:1] == first["loc"][:1]
        ]
        choices = ", ".join(dict.fromkeys(re.findall(r"'([^']*)'", " ".join(map(str, expected)))))
        return SettingError(name, f'"{value}" is not a value of ‹{name}›.', todo=f"Values are {choices}.")
    if kind in ("greater_than_equal", "less_than_equal"):
        bound = context.get("ge", context.get("le"))
        limit = "at least" if kind == "greater_than_equal" else "at most"
        return SettingError(name, f"‹{name}› is {limit} {bound}, not {value}.", todo="Use another number.")
    if kind.startswith("int_"):
        return SettingError(name, f'"{value}" is not valid for ‹{name}›.', todo="Use a whole number.")
    where = first["msg"].removeprefix("Value error, ")
    return SettingError(name, f'"{value}" is not valid for ‹{name}›.', where=where, todo="Correct the value.")
