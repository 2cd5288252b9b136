"""Stack as it is asked for: the mark of each file, columns that are called differently, rows that stand twice."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal, Self

from pydantic import model_validator

from lomrix.core.errors import UsageError
from lomrix.core.steps.settings import Names, Setting, parsed_by, require_distinct
from lomrix.core.steps.step import Division, Role, Step, need
from lomrix.core.table.header import HeaderTemplate
from lomrix.core.wording import listed

if TYPE_CHECKING:
    from lomrix.core.table.table import Table

Repeated = Literal["stop", "first", "last", "keep"]


def mark_said(text: str) -> tuple[str, tuple[str, ...], HeaderTemplate | None]:
    """Read `wave=0,6`, or `wave=fatigue_m{wave}` where the files' names hold the marks.

    Returns
    -------
    The column's name, and the marks or the template of the files' names.

    Raises
    ------
    UsageError
        Where it is not clear.

    Examples
    --------
    >>> mark_said("wave=0, 6")[:2]
    ('wave', ('0', '6'))
    """
    name, equals, rest = (part.strip() for part in text.partition("="))
    if not equals or not name or not rest:
        raise UsageError(f'The mark "{text}" is not clear.', todo="Say ‹mark=wave=0,6› or ‹mark=wave=fatigue_m{wave}›.")
    if "{" not in rest:
        return name, listed(rest), None
    template = HeaderTemplate.parsed(rest, measure_needed=False)
    if len(template.parts) != 3:
        raise UsageError(f'The mark "{text}" is not clear.', todo="One pair of braces marks the place.")
    return name, (), template


def pairs_said(words: Sequence[str]) -> tuple[tuple[str, str], ...]:
    """Read `old=new`.

    Raises
    ------
    UsageError
        Where a pair is not clear.
    """
    pairs = []
    for word in words:
        old, equals, new = (part.strip() for part in word.partition("="))
        if not equals or not old or not new:
            raise UsageError(f'The pair "{word}" is not clear.', todo="Say ‹pair=old_name=new_name›.")
        pairs.append((old, new))
    require_distinct([old for old, _ in pairs], "The new name of")
    return tuple(pairs)


class Stack(Step):
    """Add cases or waves: put files under each other, column by name."""

    word: ClassVar[str] = "stack"
    done_by: ClassVar[str] = "lomrix.core.steps.stack.run:stacked"
    roles: ClassVar[tuple[Role, ...]] = (
        Role("source", "The files, in the order they shall stand in.", many=True),
        Role("pair_file", "Table of columns old, new.", "FILE", option="pair_file", needed=False, content="texts"),
    )

    mark: Annotated[
        str,
        parsed_by(mark_said),
        Setting("Mark the rows: wave=0,6, or wave=fatigue_m{wave} from file names.", "NAME=VALUES"),
    ] = ""
    columns: Annotated[Literal["all", "shared"], Setting("All columns of all files, or only the shared ones.")] = "all"
    pair: Annotated[
        Names, parsed_by(pairs_said), Setting("A column that is called differently in some files.", "OLD=NEW")
    ] = ()
    case: Annotated[Names, Setting("With the mark, tells every row apart.", "COLUMNS")] = ()
    repeated: Annotated[Repeated, Setting("Rows of one case and occasion.")] = "stop"
    other_labels: Annotated[Literal["stop", "first"], Setting("One code with different labels.")] = "stop"

    @model_validator(mode="after")
    def _go_together(self) -> Self:
        need(self.case or self.repeated == "stop", "repeated", "Without ‹case› no row repeats another.",
             "Say ‹case=COLUMN› too.")  # fmt: skip
        return self

    @property
    def mark_name(self) -> str:
        """The column that says which file a row is of; empty where there is none."""
        return mark_said(self.mark)[0] if self.mark else ""

    def names_given(self, role: str, file: str, others: Mapping[str, Table]) -> Mapping[str, str]:
        """The pairs, as typed and as a file holds them."""
        from lomrix.core.table.texts import require_heads, rows_of

        pairs = list(pairs_said(self.pair))
        if "pair_file" in others:
            require_heads(others["pair_file"], ("old", "new"), "pair file")
            pairs += [(row["old"], row["new"]) for row in rows_of(others["pair_file"])]
        return dict(pairs)

    def marks(self, files: Sequence[str]) -> tuple[str, ...]:
        """The mark of each file.

        Parameters
        ----------
        files
            Names of the files, without folder and extension.

        Raises
        ------
        UsageError
            Where there are more or fewer marks than files, or a file's name does not fit the template.
        """
        name, marks, template = mark_said(self.mark)
        if template is not None:
            readings = [template.read(file) for file in files]
            for file, reading in zip(files, readings, strict=True):
                if reading is None:
                    raise UsageError(f'The file name {file} does not fit "{template.text}".', todo="Check ‹mark›.")
            return tuple(next(iter(reading.values())) for reading in readings if reading is not None)
        if len(marks) != len(files):
            told = f"{len(marks)} mark{'' if len(marks) == 1 else 's'}"
            raise UsageError(
                f"There are {len(files)} files and {told} for them.",
                todo=f"Say ‹mark={name}=…› with one value for each file, commas between.",
            )
        return marks

    @property
    def told_apart_by(self) -> tuple[str, ...]:
        """The case and the mark."""
        return (*self.case, *([self.mark_name] if self.mark else ()))

    @property
    def division(self) -> Division:
        """By case, where rows are told apart."""
        return Division("by key", {"source": self.case}) if self.case else Division("any rows")
