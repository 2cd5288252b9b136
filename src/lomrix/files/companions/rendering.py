"""The process that renders a template: without files, with little memory, and for a short time.

It reads template, name, facts and seconds as one JSON object from standard input and writes the text, or `{"error": …,
"line": …}`, to standard output. It is a separate program, so that a template that never ends, or would fill the memory,
is ended with it.
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


def render(template: str, name: str, facts: dict[str, Any]) -> str:
    """Render a Jinja2 template with the facts of a delivery; it can reach no file and no attribute that begins with an
    underscore.
    """
    from jinja2 import StrictUndefined
    from jinja2.sandbox import ImmutableSandboxedEnvironment

    environment = ImmutableSandboxedEnvironment(
        undefined=StrictUndefined, autoescape=False, trim_blocks=True, lstrip_blocks=True, keep_trailing_newline=True
    )
    environment.filters["padded"] = lambda text, width: str(text).ljust(int(width))[: max(int(width), len(str(text)))]
    environment.filters |= {
        "marked": escape_markdown,
        "in_code": lambda text: to_one_line(text).replace("`", "'").replace("|", "\\|"),
    }
    compiled = environment.from_string(template)
    text = compiled.render(facts)
    if len(text) > LONGEST:
        raise ValueError(f"it produces more than {LONGEST:,} characters")
    return text


def to_one_line(text: object) -> str:
    """Return a text on one line."""
    return " ".join(str(text).split())


def escape_markdown(text: object) -> str:
    """Escape a text for Markdown, including HTML."""
    return re.sub(r"([\\`*_\[\]|#])", r"\\\1", html.escape(to_one_line(text), quote=False))


def find_line(error: BaseException) -> int | None:
    """Return the line of the template where something went wrong."""
    if hasattr(error, "lineno"):
        return int(error.lineno)
    traceback, line = error.__traceback__, None
    while traceback is not None:
        if traceback.tb_frame.f_code.co_filename == "<template>":
            line = traceback.tb_lineno
        traceback = traceback.tb_next
    return line


def main() -> None:
    """Render one template."""
    request = json.load(sys.stdin)
    for limit, most in ((resource.RLIMIT_CPU, request["seconds"]), (resource.RLIMIT_AS, MEMORY)):
        resource.setrlimit(limit, (most, most))
    import jinja2.exceptions

    try:
        answer: dict[str, Any] = {"text": render(request["template"], request["name"], request["facts"])}
    except jinja2.exceptions.TemplateError as error:
        answer = {"error": error.message or type(error).__name__, "line": find_line(error)}
    except (TypeError, ValueError, ArithmeticError, LookupError, AttributeError, MemoryError) as error:
        answer = {"error": str(error) or type(error).__name__, "line": find_line(error)}
    json.dump(answer, sys.stdout)


if __name__ == "__main__":
    main()
