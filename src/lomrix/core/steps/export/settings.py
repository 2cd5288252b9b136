"""Export as it is asked for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Setting, Texts, parsed_by
from lomrix.core.steps.step import ANY_ROWS, Division, Role, Step, need
from lomrix.core.table.numbers import is_number
from lomrix.core.table.selection import columns_by_name, require_words

Form = Literal["headed", "bare"]
AUTO = "auto"


def codes_said(words: Sequence[str]) -> tuple[str, dict[str, str]]:
    """Read `-9` for every missing cell, `refused=-8` for one reason.

    Returns
    -------
    The code for all others (empty where none was said), and the codes by reason.

    Raises
    ------
    UsageError
        Where a code is not clear, or two stand for all.

    Examples
    --------
    >>> codes_said(("-9", "refused=-8"))
    ('-9', {'refused': '-8'})
    """
    everywhere, by_reason = "", {}
    for word in words:
        reason, equals, code = (part.strip() for part in word.rpartition("="))
        if equals and reason and code:
            by_reason[reason] = code
        elif equals or not code or everywhere:
            raise UsageError(
                f'The missing code "{word}" is not clear.',
                todo="Say ‹missing_code=-9› once for all, and ‹missing_code=refused=-8› for single reasons.",
            )
        else:
            everywhere = code
    return everywhere, by_reason


class Export(Step):
    """Write a file for another program, with missing values recoded."""

    word: ClassVar[str] = "export"
    done_by: ClassVar[str] = "lomrix.core.steps.export.run:prepared"
    roles: ClassVar[tuple[Role, ...]] = (Role("source", "The file to export."),)

    read_back: ClassVar[bool] = True

    form: Annotated[Form, Setting("headed: names on top. bare: only numbers, no header, one missing code.")] = "headed"
    columns: Annotated[str, parsed_by(require_words), Setting("Which columns go out, in this order.", "COLUMNS")] = ""
    missing_code: Annotated[
        Texts,
        parsed_by(codes_said),
        Setting("Code for missing cells: -9, refused=-8 for one reason, or auto.", "CODE"),
    ] = ()

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        if self.form == "bare":
            everywhere, by_reason = codes_said(self.missing_code)
            need(not by_reason, "missing_code", "A bare file has one missing code everywhere.",
                 "Say ‹missing_code› once, without a reason, or ‹form=headed›.")  # fmt: skip
            need(everywhere in ("", AUTO) or is_number(everywhere), "missing_code", f'"{everywhere}" is no number.',
                 "A bare file holds only numbers: say -9 or auto.")  # fmt: skip
        return self

    @property
    def sink_form(self) -> str:
        """The form that was asked for."""
        return self.form

    @property
    def division(self) -> Division:
        """Each cell is recoded on its own, unless codes are looked for or counted."""
        return ANY_ROWS if self.form == "headed" and AUTO not in self.missing_code else Division("whole")

    def columns_needed(self, role: str, names: Sequence[str]) -> list[str] | None:
        """The columns that go out."""
        return columns_by_name(self.columns, names) if self.columns else None
