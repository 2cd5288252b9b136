"""Parts give what the whole gives: table, dictionary, account, extras and errors of every scene, bit by bit."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import replace
from typing import Any
from unittest import mock

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from lomrix.core.errors import AllRowsNeededError, LomrixError
from lomrix.core.rows import column_survey, distinct_sample, partitions
from lomrix.core.steps.aggregate import few_groups
from lomrix.core.steps.aggregate.settings import Aggregate
from lomrix.core.steps.merge import lookup
from lomrix.core.steps.parts import apply_in_parts
from lomrix.core.steps.registry import find_entry
from lomrix.core.steps.report.content import Content
from lomrix.core.steps.reshape.to_long import ToLong
from lomrix.core.steps.step import Inputs, Result, Step
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.numbers import Type
from lomrix.core.table.reasons import NO_OCCASION
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table
from lomrix.core.table.variable import Variable
from tests.core.steps.scenes import SCENES
from tests.core.steps.test_whole_accounts import happening
from tests.tables import merging, parts_of, sources, table


def find_ways(scene: str) -> tuple[bool, ...]:
    """How a scene can be done in parts: in blocks wherever that is possible (True), or not (False)."""
    word, inputs, settings = SCENES[scene]
    entry = find_entry(word)
    assert entry is not None
    try:
        step = entry.load()(**settings)
        if not step.can_divide((), {role: len(inputs.get_all(role)) for role in inputs.roles}):
            return ()
    except LomrixError:
        return ()
    return (True, False) if step.streaming and step.division.kind == "by key" else (True,)


def comparable(result: Result) -> Result:
    """A result with what an export describes, in place of what it is made from."""
    if "prepared" not in result.extras or isinstance(result.extras["prepared"][0], Content):
        return result
    first, *others = result.extras["prepared"]
    extras = {f"{number}": prepared.made for number, prepared in enumerate(others)}
    ready = [replace(each, before=each.made.only([]), survey=None) for each in (first, *others)]
    return replace(result, extras={**extras, "variables": first.variables, "prepared": ready})


def assert_parts_equal(word: str, inputs: Inputs, settings: dict[str, Any], size: int, *extras: str) -> None:
    def select(step: Step, wanted: list[str]) -> list[str]:
        return [name for name in wanted if step.can_divide([name]) and (name in extras or "all" in extras)]

    whole = happening(
        word, inputs, settings, lambda step, tables, wanted: comparable(step.apply(tables, select(step, wanted)))
    )
    parts = happening(
        word, inputs, settings,
        lambda step, tables, wanted: comparable(apply_in_parts(step, tables, select(step, wanted), size)),
    )  # fmt: skip
    assert parts == whole


@contextlib.contextmanager
def streaming(*, always: bool) -> Iterator[None]:
    """Go through blocks wherever a step can, or divide by key wherever it can."""
    with (
        mock.patch.object(few_groups, "MOST_GROUPS", 10**6 if always else 0),
        mock.patch.object(few_groups, "PERSON_SIZE", 1e-6),
        mock.patch.object(lookup, "SMALL", 10**6 if always else 0),
    ):
        yield


@pytest.mark.parametrize("size", [1, 2, 7, 1000])
@pytest.mark.parametrize(("scene", "streams"), [(scene, streams) for scene in SCENES for streams in find_ways(scene)])
def test_parts_equal_the_whole(scene: str, streams: bool, size: int) -> None:
    with streaming(always=streams):
        assert_parts_equal(*SCENES[scene], size, "all")


ROWS = st.lists(
    st.tuples(
        st.sampled_from([None, "a", "b", "B", "c10", "c9"]), st.integers(0, 30),
        st.sampled_from([None, 0.1, 2.5, 1 / 3]), st.sampled_from([None, 1, 2, 9]),
        st.sampled_from(["x", "10", "9", None]),
    ),
    min_size=1, max_size=25,
)  # fmt: skip
STEPS: list[tuple[str, dict[str, Any]]] = [
    ("subset", {"where": ("x > 1 or y == 2",), "without": "t"}),
    ("subset", {"where": ("y != 9",), "one_per": "id,t", "pick": "latest:x", "ties": "last"}),
    ("subset", {"one_per": "id", "pick": "earliest:y"}),
    ("subset", {"sample": 7, "seed": 3}),
    ("subset", {"sample": 2, "case": "id", "seed": 3}),
    ("subset", {"sample": 1, "case": "id", "sample_by": "t", "where": ("y != 2",)}),
    ("subset", {"sample": 1, "case": "id", "sample_by": "y", "where": ("not is_missing(id)",)}),
    ("subset", {"sample": 2, "case": "id", "one_per": "id,t", "pick": "first", "where": ("not is_missing(id)",)}),
    ("subset", {"where": ("case_count(t) > 1 and case_mean(x) > 1",), "case": "id"}),
    ("subset", {"where": ("occasion_number() == 2 or change(y) > 0",), "case": "id", "occasion": "month"}),
    ("subset", {"sort_by": "-id,y"}),
    ("subset", {"sort_by": "t,-x,month", "where": ("y != 2",), "without": "y"}),
    ("export", {"sort_by": "-x,t", "columns": "id,y"}),
    ("derive", {"expressions": ("z = x / y", "band = bands(x, 1, 2)", "big = y > 1"), "label": ("z=Ratio",)}),
    ("derive", {"expressions": ("m = case_mean(x)", "n = case_count(t)", "s = case_sd(y)"), "case": "id"}),
    (
        "derive",
        {"expressions": ("c = change(x)", "f = first(y)", "o = occasion_number()"), "case": "id", "occasion": "month"},
    ),
    ("derive", {"expressions": ("c = change(x)", "r = running_sum(y)"), "case": "id", "occasion": "t,month"}),
    ("export", {"missing_code": ("auto",), "names_max": 4}),
    ("export", {"missing_code": ("auto",), "primary_key": "id,month"}),
    ("export", {"primary_key": "month", "columns": "month,x"}),
    ("export", {"missing_code": ("-9", "t:none", "blank=-8"), "columns": "t,x,id"}),
    ("export", {"missing_code": ("9",)}),
    ("export", {"form": "bare", "missing_code": ("auto",), "names_max": 4}),
    ("export", {"form": "bare", "missing_code": ("2",), "columns": "t,id,y", "sort_by": "month"}),
    ("export", {"form": "bare", "primary_key": "month,id"}),
    ("export", {"form": "package", "primary_key": "id,month", "missing_code": ("-9", "lost=-8")}),
    ("export", {"sort_by": "t,-month", "primary_key": "month"}),
    ("export", {"sort_by": "-x", "primary_key": "id,month"}),
    ("recode", {"map": ("y: 0 to 1=low, others=9, missing=missing:none",), "to_codes": "t", "into": "{column}_new"}),
    ("recode", {"to_answers": "t,id", "map": ("y: 1=2",)}),
    ("recode", {"map": ("id: a=A, missing=nobody", "x: 2.5=2, missing=-1"), "reverse": "y", "span": "0:9"}),
    ("recode", {"map": ("t: x=0",), "others": "missing", "reverse": "y", "span": "1:5"}),
    ("aggregate", {"by": ("id",), "stat": ("x: mean sd sum median ci", "y: n missing distinct commonest share(2)")}),
    ("aggregate", {"by": ("id", "t"), "stat": ("x,y: min max first last", "share(y > 1)"), "missing_group": "own"}),
    ("aggregate", {"by": ("bands(y, 1, 5)",), "stat": ("x: mean",)}),
    ("aggregate", {"by": ("id",), "stat": ("x: mean median", "y: sum"), "attach": True, "deviation": True}),
    ("aggregate", {"by": ("t", "y"), "stat": ("x,month: mean n median", "id: commonest first"), "totals": True}),
    ("aggregate", {"by": ("y", "id"), "totals": True, "missing_group": "own"}),
    ("aggregate", {"by": ("bands(x, 1, 2)", "t"), "stat": ("y: mean",), "missing_group": "own"}),
    ("aggregate", {"by": ("t",), "stat": ("x: sd", "n(y > 1)"), "empty_groups": True}),
    ("aggregate", {"by": ("t", "y"), "stat": ("x: mean n missing",), "min_n": 2, "case": ("id",), "totals": True}),
    ("aggregate", {"by": ("y",), "stat": ("x: mean", "share(t == 'a')", "n(y > 1)"), "min_n": 2, "case": ("id", "t")}),
    ("aggregate", {"by": ("t", "y"), "stat": ("x: mean n",), "min_n": 3, "totals": True}),
    ("aggregate", {"by": ("y",), "stat": ("share(t == 'a')",), "min_n": 2}),
    ("aggregate", {"by": ("t", "y"), "min_n": 2, "case": ("id",), "missing_group": "own", "totals": True}),
    ("tally", {"variables": ("t", "id"), "by": ("y",), "percent": "row"}),
    ("profile", {}),
    ("report", {}),
    ("report", {"min_n": 3}),
    ("compare", {"measure": "x,y,month", "between": "t"}),
    ("compare", {"measure": "t", "between": "y"}),
    ("compare", {"measure": "y,month", "against": "x", "between": "id"}),
    ("compare", {"measure": "x", "between": "y", "adjust": "month,t"}),
    ("compare", {"measure": "x,y", "between": "t", "paired_on": "month"}),
    ("compare", {"measure": "x,y", "between": "id", "paired_on": "month"}),
    ("compare", {"measure": "x", "between": "y", "paired_on": "month"}),
]


def make(name: str, **columns: tuple[Type, list[Any]]) -> Table:
    return Table({key: Column.of_cells(type_, cells) for key, (type_, cells) in columns.items()}, name=name)


# A column whose only value is in no group.
@example(
    [(None, 0, None, None, "x"), ("a", 0, None, None, "x")],
    ("aggregate", {"by": ("y",), "stat": ("id: commonest",), "totals": True}), 1, False, True,
)  # fmt: skip
@given(ROWS, st.sampled_from(STEPS), st.integers(1, 9), st.booleans(), st.booleans())
def test_parts_of_any_table_equal_the_whole(
    cells: list[tuple[Any, ...]], work: tuple[str, dict[str, Any]], size: int, is_sorted: bool, streams: bool
) -> None:
    if is_sorted:
        cells = sorted(cells, key=lambda row: row[0] or "d")
    id_, month, x, y, text = map(list, zip(*cells, strict=True))
    if "month" in work[1].get("occasion", ""):
        if len(cells) % 3:
            id_, text = ["a" if one is None else one for one in id_], ["x" if one is None else one for one in text]
        month = list(range(len(month)))[::-1] if len(cells) % 2 else month
    if work[1].get("paired_on") and size % 4:  # mostly without two rows of one side
        month = [row // 3 for row in range(len(month))]
    inputs = sources(
        make("t", id=("string", id_), month=("integer", month), x=("number", x), y=("integer", y), t=("string", text))
    )
    word, settings = work

    leaves_out = {"one_per", "sample"} & set(settings) or {"sort_by", "where"} <= set(settings)
    extras = ["left_out"] if leaves_out else ["codebook"] if word == "export" else []
    with (
        streaming(always=streams or not {"totals", "empty_groups", "min_n"}.isdisjoint(settings)),
        mock.patch.object(column_survey, "MOST_DISTINCT", 3 if len(cells) % 2 else 1 << 16),
        mock.patch.object(partitions, "MOST_ROWS", 4),
    ):
        assert_parts_equal(word, inputs, settings, size, *extras)


@given(ROWS, st.booleans(), st.sampled_from(["", "id"]), st.sampled_from([1, 2**53 + 1]), st.integers(1, 9))
def test_parts_of_a_wide_table_equal_the_whole(
    cells: list[tuple[Any, ...]], keeps: bool, case: str, factor: int, size: int
) -> None:
    id_, _, x, y, text = map(list, zip(*cells, strict=True))
    y = [value if value is None or value < 9 else value * factor for value in y]
    wide = make("t", id=("string", id_), w1=("number", x), w2=("integer", y), v2=("string", text), v3=("string", id_))
    settings = {"header": ("{measure}{wave}",), "case": case, "keep_empty": keeps}
    assert_parts_equal("to-long", sources(wide), settings, size)


@given(
    ROWS, st.sampled_from(["stop", "first", "last", "mean", "sum", "median", "max"]), st.sampled_from(["", "w", "w,x"]),
    st.sampled_from(["", "y", "x"]), st.sampled_from(["stop", "last", "commonest"]), st.booleans(), st.integers(1, 9),
)  # fmt: skip
def test_parts_of_a_long_table_equal_the_whole(
    cells: list[tuple[Any, ...]], repeated: str, spread: str, constant: str, changing: str, never: bool, size: int
) -> None:
    cells = [(row[0] or ("a" if len(cells) % 5 else None), *row[1:]) for row in cells]
    id_, month, x, y, text = map(
        list, zip(*(sorted(cells, key=lambda row: row[0] or "") if never else cells), strict=True)
    )
    month = [number % 4 if number < 30 or len(cells) % 3 else None for number in month]
    never_seen = Column.of_cells("number", x)
    if never:
        where = np.array([(number or 0) > 1 for number in month])
        never_seen = never_seen.take_or(np.where(where, -1, np.arange(len(x))), NO_OCCASION)
    long = make("t", id=("string", id_), m=("integer", month), x=("number", x), y=("integer", y), w=("string", text))
    long = long.with_columns({**long.columns, "z": never_seen})
    settings = {
        "case": "id", "occasion": "m", "header": "{measure}{m}", "repeated": repeated, "if_changing": changing,
        "spread": f"{spread},z" if spread else "", "constant": constant,
    }  # fmt: skip
    assert_parts_equal("to-wide", sources(long), settings, size)


@given(ROWS, st.booleans(), st.sampled_from([(), ("2", "0", "7")]), st.sampled_from(["", "x"]), st.integers(1, 9))
def test_parts_of_a_panel_equal_the_whole(
    cells: list[tuple[Any, ...]], only_whole: bool, occasions: tuple[str, ...], constant: str, size: int
) -> None:
    distinct = {(row[0] or "a", row[1] % 4): row for row in cells}
    id_, month, x, y, text = map(list, zip(*((*key, *row[2:]) for key, row in distinct.items()), strict=True))
    panel = make("t", id=("string", id_), m=("integer", month), x=("number", x), y=("integer", y), w=("string", text))
    settings = {"case": "id", "occasion": "m", "occasions": occasions, "only_whole": only_whole, "constant": constant}
    assert_parts_equal("to-balanced", sources(panel), settings, size)


@given(ROWS, ROWS, st.sampled_from(["", "x", "w"]), st.integers(1, 9))
def test_parts_of_a_coverage_equal_the_whole(
    cells: list[tuple[Any, ...]], more: list[tuple[Any, ...]], measure: str, size: int
) -> None:
    id_, month, x, y, text = map(list, zip(*cells, *more, strict=True))
    rows = np.arange(len(cells) + len(more))
    where = np.where(rows < len(cells), rows, -1)
    x_seen, w_seen = (Column.of_cells("number", x).take_or(where, NO_OCCASION),
                      Column.of_cells("string", text).take_or(where, NO_OCCASION))  # fmt: skip
    panel = make("t", id=("string", id_), m=("integer", [number % 4 for number in month]), o=("string", text))
    panel = panel.with_columns({**panel.columns, "x": x_seen, "w": w_seen, "y": Column.of_cells("integer", y)})
    occasion = "m,o" if len(cells) % 2 else "m"
    assert_parts_equal(
        "coverage", sources(panel), {"case": "id", "occasion": occasion, "measure": measure}, size, "figure"
    )


@given(ROWS, st.integers(0, 5), st.sampled_from(["stop", "last", "mean", "max"]), st.integers(1, 9))
def test_parts_of_a_table_that_was_wide_equal_the_whole(
    cells: list[tuple[Any, ...]], again: int, repeated: str, size: int
) -> None:
    _, _, x, y, text = map(list, zip(*cells, strict=True))
    ids = [f"c{number}" for number in range(len(x))]
    wide = make("t", id=("string", ids), x1=("number", x), x2=("integer", y), y2=("string", text), y3=("string", text))
    long = ToLong(header="{measure}{wave}", case="id").apply(sources(wide)).table
    long = concatenate_tables([long, long.slice(0, again)])
    settings = {"case": "id", "occasion": "wave", "header": "{measure}{wave}", "repeated": repeated}
    assert_parts_equal("to-wide", sources(long), settings, size)


@given(
    ROWS, ROWS, st.sampled_from(["", "w=1,2", "w=a,b"]), st.sampled_from(["all", "shared"]),
    st.sampled_from(["", "first", "last", "keep", "stop"]), st.integers(1, 9),
)  # fmt: skip
def test_parts_of_stacked_files_equal_the_whole(
    first: list[tuple[Any, ...]], second: list[tuple[Any, ...]], mark: str, columns: str, repeated: str, size: int
) -> None:
    id_, month, x, y, text = map(list, zip(*first, strict=True))
    tables = [make("a", id=("string", id_), m=("integer", month), x=("number", x), mood=("string", text))]
    id_, month, x, y, text = map(list, zip(*second, strict=True))
    tables.append(make("b", id=("string", id_), m=("number", x), x=("integer", y), mod=("string", text)))
    coded = Dictionary({"x": Variable(missing={"9": "refused"})})
    files = sources(replace(tables[0], dictionary=coded), tables[1], make("c", x=("integer", []), m=("number", [])))
    files = files if not mark else sources(*files.get_all("source")[:2])
    settings = {"mark": mark, "columns": columns, **({"case": "x", "repeated": repeated} if repeated else {})}
    with mock.patch.object(partitions, "MOST_ROWS", size):
        assert_parts_equal("stack", files, settings, size)


PEOPLE = st.lists(st.tuples(st.sampled_from([None, "a", "b", "c", "d "]), st.integers(0, 3)), max_size=6)


@given(
    ROWS, PEOPLE, st.sampled_from(["all", "base", "matched"]), st.sampled_from([None, "many-to-many", "many-to-one"]),
    st.sampled_from(["check", "added", "both"]), st.sampled_from(["", "from"]), st.integers(1, 9), st.booleans(),
)  # fmt: skip
def test_parts_of_a_merge_equal_the_whole(
    cells: list[tuple[Any, ...]], people: list[tuple[Any, int]], kept: str, expect: str | None, overlap: str,
    status: str, size: int, streams: bool,
) -> None:  # fmt: skip
    id_, month, _, y, _ = map(list, zip(*cells, strict=True))
    names, numbers = [one for one, _ in people], [one for _, one in people]
    added = make("p", id=("string", names), y=("integer", numbers))
    inputs = merging(make("t", id=("string", id_), m=("integer", month), y=("integer", y)), added)
    settings = {"key": ("id",), "rows": kept, "expect": expect, "overlap": overlap, "status": status}
    if status == "":
        more = make("q", id=("string", names[::-1]), n=("integer", numbers), y=("integer", numbers[::-1]))
        inputs = merging(*inputs, more)
    with streaming(always=streams):
        assert_parts_equal("merge", inputs, settings, size, "conflicts", "unmatched")


@pytest.mark.parametrize("rows", [4, 5, 6])
def test_repeated_keys_of_a_lookup_are_named_as_in_the_whole(rows: int) -> None:
    base = table("base", id=[*"abcdef", *"bcde", *"a" * rows], x=list(range(10 + rows)))
    with streaming(always=True):
        assert_parts_equal(
            "merge", merging(base, table("added", id=["b", "z"], n=[1, 2])), {"key": "id", "expect": "one-to-one"}, 3
        )


def test_more_cases_than_memory_holds_are_left_to_the_whole() -> None:
    rows = table(g=[1, 2] * 100, id=list(range(200)), x=[1] * 200)
    with pytest.raises(AllRowsNeededError):
        apply_in_parts(Aggregate(by="g", stat="x: n", min_n=2, case="id"), sources(rows), (), 10)


def test_rows_without_a_group_are_counted_in_blocks() -> None:
    step = Aggregate(by="g", stat="x: n")
    rows = table(g=["a", None, None, "b", None, None], x=[1, 2, 3, None, 5, 6])
    account = apply_in_parts(step, sources(rows), (), 2).account
    assert parts_of(account.balances[0]) == {"in a group": 2, "g missing, in no group": 4}
    assert account.listings[0].rows == (("x", 1, 1, "1 blank"),)


SPELLS = st.lists(
    st.tuples(st.sampled_from([None, "a", "b ", "B", "c9"]), st.sampled_from([None, *range(30)]),
              st.sampled_from([None, -1, 0, 5, 20])),
    max_size=8,
)  # fmt: skip
HOW: list[dict[str, Any]] = [
    {"near": "m=start", "within": "4"},
    {"near": "m=start", "within": "9", "once": True, "side": "after"},
    {"near": "m=start", "within": "9", "expect": "one-to-one"},
    {"during": "m=start..end"},
    {"during": "m=start..end", "expect": "many-to-many"},
    {"during": "m=start..end", "expect": "one-to-many"},
    {"expect": "many-to-many"},
]


@given(
    ROWS, SPELLS, st.sampled_from(HOW), st.sampled_from(["all", "base", "matched"]),
    st.sampled_from(["", "spaces", "spaces,case"]), st.integers(1, 9),
)  # fmt: skip
def test_parts_of_a_merge_by_time_equal_the_whole(
    cells: list[tuple[Any, ...]], spells: list[tuple[Any, ...]], how: dict[str, Any], kept: str, tidy: str, size: int
) -> None:
    id_, month, _, y, _ = map(list, zip(*cells, strict=True))
    names, starts, lengths = (list(column) for column in zip(*spells, strict=True)) if spells else ([], [], [])
    ends = [None if None in pair else sum(pair) for pair in zip(starts, lengths, strict=True)]
    base = make("t", id=("string", id_), m=("integer", month), y=("integer", y))
    added = make("s", id=("string", names), start=("integer", starts), end=("number", ends), z=("string", names))
    settings = {"key": ("id",), "rows": kept, "tidy_keys": tidy, **how}
    inputs = merging(base, added)
    assert_parts_equal("merge", inputs, settings, size, "unmatched")


IDS = st.lists(st.sampled_from([None, "a", "b", "c", "d", "e"]), max_size=7)


@given(
    IDS, st.lists(st.tuples(IDS.map(dict.fromkeys).map(list), st.booleans()), min_size=1, max_size=5), st.booleans(),
    st.sampled_from(["all", "base", "matched"]), st.sampled_from(["", "st"]), st.sampled_from(["", "v*,w1", "w0"]),
    st.integers(1, 9),
)  # fmt: skip
def test_parts_of_a_merge_of_several_tables_equal_the_whole(
    ids: list[str | None], others: list[tuple[list[str | None], bool]], has_links: bool, kept: str, status: str,
    take: str, size: int,
) -> None:  # fmt: skip
    def name_ids(name: str, ids: list[str | None], file: str, *others: str) -> Table:
        numbers = {other: Column.of_cells("integer", list(range(len(ids)))) for other in others}
        return Table({name: Column.of_cells("string", ids), **numbers}, name=file)

    own_names = [is_own and not has_links for _, is_own in others]
    added = [
        name_ids("pid" if own_names[index] else "id", names, f"f{index}", f"v{index}", f"w{index}")
        for index, (names, _) in enumerate(others)
    ]
    base = name_ids("old" if has_links else "id", ids, "t", "y")
    links = {"links": table("l", old=["a", "b", "e"], id=["b", "e", "x"])} if has_links else {}
    own_keys = [f"f{index}.csv:id=pid" for index, is_own in enumerate(own_names) if is_own]
    key = ["old=id"] if has_links else ["id", *own_keys]
    settings = {"key": key, "rows": kept, "status": status, "take": take}
    assert_parts_equal("merge", Inputs(base=base, added=added, **links), settings, size, "unmatched")


@given(ROWS, ROWS, st.sampled_from(["", "0.5"]), st.sampled_from(["first", "all"]), st.booleans(), st.integers(1, 9))
def test_parts_of_two_deliveries_equal_the_whole(
    first: list[tuple[Any, ...]], second: list[tuple[Any, ...]], tolerance: str, shown: str, unique: bool, size: int
) -> None:
    both = []
    for name, cells in (("old", first), ("new", second)):
        distinct = [*{(row[0], row[1]): row for row in cells}.values()] if unique else cells
        id_, month, x, y, text = map(list, zip(*distinct, strict=True))
        table = make(name, id=("string", id_), m=("integer", month), x=("number", x), t=("string", text))
        more = {"y": Column.of_cells("integer" if name == "old" else "number", y)} if len(text) % 3 else {}
        both.append(table.with_columns({**table.columns, **more}))
    settings = {"key": "id,m", "tolerance": tolerance, "list": shown}
    tables = Inputs(old=both[0], new=both[1])
    assert_parts_equal("changes", tables, settings, size)


@given(
    ROWS, st.sampled_from(["sum", "mean"]), st.integers(0, 3), st.booleans(),
    st.sampled_from(["", "0:9", "1:5"]), st.integers(1, 9),
)  # fmt: skip
def test_parts_of_scores_equal_the_whole(
    cells: list[tuple[Any, ...]], method: str, at_least: int, with_x: bool, span: str, size: int
) -> None:
    _, _, x, y, text = map(list, zip(*cells, strict=True))
    text = text if len(x) % 5 == 1 else [None] * len(x)
    items = {"a1": ("integer", y), "b1": ("integer", y[::-1]), "c1": ("string", text)}
    more = {"a2": ("number", x), "b2": ("integer", y), "c2": ("boolean", [value == 1 for value in y])}
    settings: dict[str, Any] = {"name": "s", "items": "a,b,c", "header": "{measure}{wave}",
                                "method": method, "at_least": at_least}  # fmt: skip
    settings |= {"span": span, "reverse": "b"} if span else {}
    made: dict[str, Any] = {**items, **(more if with_x else {})}
    assert_parts_equal("score", sources(make("t", **made)), settings, size)


@given(
    ROWS, st.sampled_from(["", "t", "mate,x"]), st.booleans(), st.sampled_from(["", "y", "t,y"]),
    st.sampled_from(["id", "y"]), st.integers(1, 9),
)  # fmt: skip
def test_parts_of_a_table_without_names_equal_the_whole(
    cells: list[tuple[Any, ...]], remove: str, dates: bool, alike: str, case: str, size: int
) -> None:
    id_, month, x, y, text = map(list, zip(*cells, strict=True))
    name = [f"{value or 'mate'} Berg" for value in text]
    days = [np.datetime64("2024-03-01") + number if number % 4 else np.datetime64("NaT") for number in month]
    source = make("t", id=("string", id_), m=("integer", month), x=("number", x), y=("integer", y), t=("string", text),
                  day=("date", [None if np.isnat(day) else day for day in days]), mate=("string", name),
                  remark=("string", [f"saw {name[number % len(name)]} aboard" for number in month]))  # fmt: skip
    settings = {"id": case, "remove": remove, "shift": "day" if dates else "", "quasi_identifiers": alike}
    inputs = Inputs(source=source, seed=make("seed", secret=("string", ["s"])))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(distinct_sample, "MOST_DISTINCT", 5)
        assert_parts_equal("deidentify", inputs, settings, size, "linkage")


CORRECTIONS = st.lists(
    st.tuples(
        st.integers(0, 25), st.sampled_from(["row", "key", "both"]), st.sampled_from(["x", "y", "t", "id", "z", "day"]),
        st.sampled_from(["right"] * 4 + ["10", None]),
        st.sampled_from([None, "7", "07", "1.5", "-9", "n/a", "2024-01-05"]),
        st.sampled_from([None, "set", "missing", "note", "leave-out"]),
    ),
    max_size=6,
)  # fmt: skip


@given(ROWS, CORRECTIONS, st.booleans(), st.sampled_from([None, "integer", "string"]), st.integers(1, 9))
def test_parts_of_a_corrected_table_equal_the_whole(
    cells: list[tuple[Any, ...]], lines: list[tuple[Any, ...]], partly: bool, type_: Type | None, size: int
) -> None:
    id_, month, x, y, text = map(list, zip(*cells, strict=True))
    day = [f"2024-01-0{row % 9 + 1}" if row % 7 else "5.1." for row in range(len(x))]
    source = make("t", id=("string", id_), m=("integer", month), x=("number", x), y=("integer", y), t=("string", text))
    source = source.with_columns({**source.columns, "day": Column.of_cells("string", day)})
    source = replace(source, dictionary=Dictionary({"t": Variable(type=type_, missing={"-9": "refused"})}))
    entries = []
    for at, by, variable, old, new, action in lines:
        row = at % len(x)
        if old == "right":
            old = source[variable].take(np.array([row])).to_text()[0].as_py() if variable != "z" else None
        number = None if by == "key" else str(row + 2)
        entries.append((number, None if by == "row" else id_[row], month[row], variable, old, new, action))
    heads = ("row", "id", "m", "variable", "old", "new", "action")
    columns = zip(*entries, strict=True) if entries else [()] * len(heads)
    ledger: dict[str, tuple[Type, list[Any]]]
    ledger = {head: ("string", [one if one is None else str(one) for one in column])
              for head, column in zip(heads, columns, strict=True)}  # fmt: skip
    inputs = Inputs(source=source, ledger=make("l", **ledger))
    assert_parts_equal("correct", inputs, {"partly": partly}, size)
