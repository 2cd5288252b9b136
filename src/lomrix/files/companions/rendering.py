"""The process that fills in a template: without files, with little memory, and for a short time.

It reads template, name, facts and seconds as one JSON object from standard input and writes what became of it, or
`{"error": …, "line": …}`, to standard output. It is run as a program of its own, so that a template that never ends, or
that would fill the memory, is ended with it.
"""

from __future__ import annotations

import html
import json
import re
import resource
import sys
from typing import Any

MEMORY = 1 << 30
LONGEST = 50_000_000


def filled_in(template: str, name: str, facts: dict[str, Any]) -> str:
    """A template with the facts of a delivery in it.

    Parameters
    ----------
    template
        In the language of Jinja2; no attribute that begins with an underscore can be reached, and no file.
    name
        Its name in messages.
    facts
        As `lomrix.files.companions.facts` gives them.
    """
    from jinja2 import StrictUndefined
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    environment = ImmutableSandboxedEnvironment(
        undefined=StrictUndefined, autoescape=False, trim_blocks=True, lstrip_blocks=True, keep_trailing_newline=True
    )
    environment.filters["padded"] = lambda text, width: str(text).ljust(int(width))[: max(int(width), len(str(text)))]
    environment.filters |= {"marked": marked, "in_code": lambda text: plain(text).replace("`", "'").replace("|", "\\|")}
    made = environment.from_string(template)
    text = made.render(facts)
    if len(text) > LONGEST:
        raise ValueError(f"it makes more than {LONGEST:,} signs")
    return text


def plain(text: object) -> str:
    """A text in one line."""
    return " ".join(str(text).split())


def marked(text: object) -> str:
    """A text for Markdown: nothing in it counts as markup, nor as HTML."""
    return re.sub(r"([\\`*_\[\]|#])", r"\\\1", html.escape(plain(text), quote=False))


def line_of(error: BaseException) -> int | None:
    """The line of the template where something went wrong."""
    if hasattr(error, "lineno"):
        return int(error.lineno)
    at, line = error.__traceback__, None
    while at is not None:
        if at.tb_frame.f_code.co_filename == "<template>":
            line = at.tb_lineno
        at = at.tb_next
    return line


def main() -> None:
    """Fill in one template."""
    told = json.load(sys.stdin)
    for what, most in ((resource.RLIMIT_CPU, told["seconds"]), (resource.RLIMIT_AS, MEMORY)):
        resource.setrlimit(what, (most, most))
    import jinja2.exceptions

    try:
        answer: dict[str, Any] = {"text": filled_in(told["template"], told["name"], told["facts"])}
    except jinja2.exceptions.TemplateError as error:
        answer = {"error": error.message or type(error).__name__, "line": line_of(error)}
    except (TypeError, ValueError, ArithmeticError, LookupError, AttributeError, MemoryError) as error:
        answer = {"error": str(error) or type(error).__name__, "line": line_of(error)}
    json.dump(answer, sys.stdout)


if __name__ == "__main__":
    main()
