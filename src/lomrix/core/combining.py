"""Combining what is known of the parts of a table: counts add up, everything else must be the same in each."""

from __future__ import annotations

import string
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields, is_dataclass, replace
from functools import reduce
from itertools import starmap
from numbers import Rational
from typing import Any, Protocol, Self, TypeVar, cast, runtime_checkable

T = TypeVar("T")
# Examples that are shown of what is found in several rows: of a part no fewer than of the whole.
MOST_EXAMPLES = 4


@runtime_checkable
class Combinable(Protocol):
    """Something with a rule of its own for parts that follow each other."""

    def combine(self, later: Self) -> Self:
        """Return what both parts give together."""


class Run(Protocol):
    """Applies a function to the arguments of each part, here or elsewhere, and yields the results in their order.

    With `keeps` the results are used later, so that they should not stay in memory.
    """

    def __call__(
        self, function: Callable[..., Any], arguments: Iterable[tuple[Any, ...]], *, keeps: bool = False
    ) -> Iterator[Any]:
        """Yield the results."""


def run_in_memory(
    function: Callable[..., Any], arguments: Iterable[tuple[Any, ...]], *, keeps: bool = False
) -> Iterator[Any]:
    """Apply a function here, with all results in memory."""
    return starmap(function, arguments)


class PartsDifferError(Exception):
    """Parts give what cannot be combined: a mistake in a step."""


def combine(first: T, second: T) -> T:
    """Combine a value of one part with that of a later one.

    Numbers are added, mappings and dataclasses combined entry by entry.

    Raises PartsDifferError if other values differ.
    """
    if isinstance(first, Combinable):
        return first.combine(second)  # type: ignore[arg-type]
    if is_dataclass(first) and not isinstance(first, type):
        names = [field.name for field in fields(first)]
        return replace(first, **{name: combine(getattr(first, name), getattr(second, name)) for name in names})
    if isinstance(first, Mapping) and isinstance(second, Mapping):
        both = {name: combine(first[name], second[name]) if name in second else first[name] for name in first}
        return {**both, **{name: value for name, value in second.items() if name not in first}}  # type: ignore[return-value]
    if isinstance(first, tuple) and isinstance(second, tuple) and len(first) == len(second):
        return cast(T, tuple(map(combine, first, second)))
    if isinstance(first, Rational) and not isinstance(first, bool):
        return cast(T, first + second)
    if first != second:
        raise PartsDifferError(f"{first!r} and {second!r} cannot be combined.")
    return first


def combine_all(values: Iterable[T]) -> T:
    """Combine the values of all parts in their order."""
    return reduce(combine, values)


def combine_lists(first: Sequence[T], second: Sequence[T], identify: Callable[[T], Hashable]) -> tuple[T, ...]:
    """Combine two lists item by item; what only one has stays before what followed it there."""
    later = {identify(item): item for item in second}
    earlier = {identify(item) for item in first}
    rest = iter(second)
    result: list[T] = []
    for item in first:
        name = identify(item)
        if name not in later:
            result.append(item)
            continue
        for other in rest:
            if identify(other) == name:
                break
            if identify(other) not in earlier:
                result.append(other)
        result.append(combine(item, later[name]))
    return (*result, *(other for other in rest if identify(other) not in earlier))


class _Count(int):
    """A number in a text: `{n}` is 1,234, `{n:row}` 1,234 rows, `{n:=is|are}` the word, `{n:times}` once or 2 times."""

    def __format__(self, words: str) -> str:
        if not words:
            return int.__format__(self, ",")
        if words == "times":
            return "once" if self == 1 else f"{int(self):,} times"
        singular, _, plural = words.removeprefix("=").partition("|")
        word = singular if self == 1 else plural or f"{singular}s"
        return word if words.startswith("=") else f"{int(self):,} {word}"


class Words(str):
    """A text with numbers that add up over parts.

    >>> Words("{n:row} of {table}", n=1, table="crew").combine(Words("{n:row} of {table}", n=2, table="crew"))
    '3 rows of crew'
    """

    __slots__ = ("template", "values")
    template: str
    values: dict[str, int | str]

    def __new__(cls, template: str, **values: int | str) -> Self:
        """Fill in the template; values that are texts belong to the text, numbers add up."""
        shown = {name: _Count(value) if isinstance(value, int) else value for name, value in values.items()}
        text = super().__new__(cls, string.Formatter().vformat(template, (), shown))
        text.template, text.values = template, values
        return text

    def __reduce__(self) -> tuple[Any, ...]:
        return _make_words, (self.template, self.values)

    @property
    def identity(self) -> Hashable:
        """The text without its numbers."""
        return self.template, tuple(value for value in self.values.values() if isinstance(value, str))

    def combine(self, later: Self) -> Self:
        """Add the numbers.

        Raises PartsDifferError if it is another text.
        """
        if not isinstance(later, Words) or later.identity != self.identity:
            raise PartsDifferError(f"{self!r} and {later!r} cannot be combined.")
        return type(self)(self.template, **combine(self.values, later.values))


class Shown(str):
    """The first of some items by row number, and a mark if there are more.

    >>> Shown([(4, "b"), (7, "c")], 5, "rows ").combine(Shown([(3, "a")], 1, "rows "))
    'rows a, b, c …'
    """

    __slots__ = ("before", "items", "most", "separator", "total")
    items: Sequence[tuple[int, str]]
    total: int
    most: int
    before: str
    separator: str

    def __new__(
        cls,
        items: Sequence[tuple[int, str]],
        total: int,
        before: str = "",
        separator: str = ", ",
        most: int = MOST_EXAMPLES,
    ) -> Self:
        """Show at most `most` of the items, which are the first of `total`, with the numbers of their rows."""
        first = sorted(items, key=lambda item: item[0])[:most]
        more = " …" if total > len(first) else ""
        text = super().__new__(cls, before + separator.join(text for _, text in first) + more)
        text.items, text.total, text.most, text.before, text.separator = first, total, most, before, separator
        return text

    def __reduce__(self) -> tuple[Any, ...]:
        return Shown, (self.items, self.total, self.before, self.separator, self.most)

    def combine(self, later: Self) -> Self:
        """Show the first of both."""
        total, form = self.total + later.total, self if self.items else later
        return type(self)([*self.items, *later.items], total, form.before, form.separator, form.most)


def _make_words(template: str, values: dict[str, int | str]) -> Words:
    return Words(template, **values)


def identify_text(text: str) -> Hashable:
    """Return a text without its numbers, by which it is found in another part."""
    return text.identity if isinstance(text, Words) else text


class Items(tuple[Any, ...]):
    """Combinable items, each with an `identity` by which it is found in the other part."""

    __slots__ = ()

    def combine(self, later: Self) -> Self:
        """Combine them item by item."""
        return type(self)(combine_lists(self, later, lambda item: item.identity))


@dataclass(frozen=True)
class Extreme(Combinable):
    """The minimum or maximum of a column (None if it has no value)."""

    value: Any
    is_maximum: bool

    def combine(self, later: Self) -> Self:
        """Keep the more extreme one."""
        if self.value is None or later.value is None:
            return later if self.value is None else self
        is_later = later.value > self.value if self.is_maximum else later.value < self.value
        return later if is_later else self


@dataclass(frozen=True)
class Same(Combinable):
    """What every part knows of the whole."""

    value: Any

    def combine(self, later: Self) -> Self:
        """Return it."""
        return self


@dataclass(frozen=True)
class First(Combinable):
    """The first of some items by row number."""

    items: tuple[tuple[int, Any], ...]  # row number and item, in order
    most: int = MOST_EXAMPLES

    def combine(self, later: Self) -> Self:
        """Keep the first of both."""
        items = sorted((*self.items, *later.items), key=lambda item: item[0])
        return replace(self, items=tuple(items[: self.most]))
