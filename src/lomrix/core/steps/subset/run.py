"""Choose columns and rows, and note rows that cannot be distinguished any more."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays import codes as key_codes
from lomrix.core.combining import Words, combine_all
from lomrix.core.errors import UsageError
from lomrix.core.language.evidence import find_evidence
from lomrix.core.language.parse import find_names, parse
from lomrix.core.language.scope import Scope, Survey
from lomrix.core.rows.candidate_keys import IS_ID
from lomrix.core.rows.keys import rank_cells
from lomrix.core.rows.sorting import sort_rows
from lomrix.core.steps.account import Account, Balance, Part, balance_values
from lomrix.core.steps.step import Inputs, Result, require
from lomrix.core.steps.subset.choice import Span, SubsetSurvey, choose_before_drawing, choose_rows, list_cases
from lomrix.core.steps.subset.settings import Subset
from lomrix.core.table.column import Column
from lomrix.core.table.dictionary import Dictionary
from lomrix.core.table.missing_guess import CodeEvidence
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.renaming import join_in_row_order
from lomrix.core.table.selection import choose_columns, parse_sort_word
from lomrix.core.table.table import Table
from lomrix.core.wording import shorten_list

MOST_LISTED = 12
# Rows in which columns are compared.
MOST_COMPARED = 1_000_000
# A column with more distinct values than this share of the rows identifies rows, not cases.
CASE_SHARE = 0.9


def survey(step: Subset, tables: Inputs) -> SubsetSurvey:
    """Survey a part: its rows, its occasions if the condition may use them, and the cases to draw from."""
    table = tables.get_one()
    names, occasion = list[str](), tuple[str, ...]()
    if step.where and step.division.kind == "by key":
        names, occasion = [name for name in find_names(parse(step.where)) if name in table.columns], step.occasion
    scope = Survey.of(table, occasion, names)
    draws_cases = step.sample and step.case
    choice = choose_before_drawing(step, table, Scope(table, step.case, step.occasion)) if draws_cases else None
    return SubsetSurvey(Span(table.first_row, len(table)), scope, list_cases(step, choice)[0] if choice else None)


def subset(step: Subset, tables: Inputs, wanted: Collection[str], whole: SubsetSurvey | None = None) -> Result:
    """Choose columns and rows; `whole` is the survey of all parts."""
    table = tables.get_one()
    # Columns of the source that were not read are known by their names only.
    read = table.types()
    types = {name: read.get(name, "") for name in table.source_names}
    stated = choose_columns(step.columns, types, table.name) if step.columns else list(types)
    excluded = set(choose_columns(step.without, types, table.name)) if step.without else set()
    kept = [name for name in stated if name not in excluded]
    set_of_kept = set(kept)
    if not kept:
        raise UsageError(
            "No column is left.", todo="Choose at least one; a column both chosen and left out is left out."
        )
    require("left_out" not in wanted or step.leaves_rows_out, "left_out", "No row is left out without a condition.",
            "Add ‹where›, ‹one_per› or ‹sample›.")  # fmt: skip
    scope = Scope(table, step.case, step.occasion, survey=whole.scope if whole else Survey())
    choice = choose_rows(step, table, scope, whole) if step.leaves_rows_out else None
    result = table.only(kept)
    if choice is not None:
        result = result.take(choice.kept)
    sort_notes: list[Note] = []
    if step.sort_by:
        needed = table.only({parse_sort_word(word, table.columns)[0]: None for word in step.sort_by})
        order, sort_notes = sort_rows(needed if choice is None else needed.take(choice.kept), step.sort_by)
        result = result.take(order)
    left_out_names = [name for name in types if name not in set_of_kept]
    summary = f"{{kept:,}} of {{rows:,}} rows and {len(kept)} of {len(types)} columns kept."
    account = Account(
        "subset",
        Words(summary.replace(":,", ""), kept=len(result), rows=len(table)),
        (
            choice.make_balance() if choice is not None else Balance("rows", len(table), (Part("kept", len(result)),)),
            Balance("columns", len(types), (Part("kept", len(result.names)), Part("left out", len(left_out_names)))),
            *([balance_values(table, result)] if choice is None else []),
        ),
        {"rows": len(result), "columns": kept, "left_out": left_out_names},
        (),
        (
            *scope.order_notes,
            *scope.reports,
            *(choice.notes if choice is not None else ()),
            *sort_notes,
            *note_contradictions(step, stated, excluded),
            *note_left_out(left_out_names),
        ),
    )
    extras = {"left_out": choice.list_left_out(kept)} if choice is not None and "left_out" in wanted else {}
    # Only the first rows are compared, so that parts find what the whole does.
    lost = [name for name in left_out_names if name in table.columns]
    compared = [*kept[:MOST_LISTED], *(name for name in kept if IS_ID.search(name)), *lost] if lost else []
    head = table.only(dict.fromkeys(name for name in compared if name in table.columns))
    if choice is not None or len(table) > MOST_COMPARED:
        head = head.take(np.arange(len(table))[:MOST_COMPARED] if choice is None else choice.kept[:MOST_COMPARED])
    evidence = find_evidence([step.where] if step.where else [], table, read, (*step.case, *step.occasion))
    return Result(result, account, extras, tally=Head(head, kept, left_out_names, evidence, table.dictionary))


@dataclass(frozen=True)
class Head:
    """The first kept rows, as far as columns are compared; names of all kept columns and those left out; and what the
    condition used.
    """

    rows: Table
    kept: Sequence[str]
    left_out_names: Sequence[str]
    evidence: Mapping[str, CodeEvidence]  # of missing codes
    dictionary: Dictionary


def conclude(step: Subset, account: Account, heads: Sequence[Head]) -> Account:
    """Add notes on rows that cannot be distinguished any more, before that on columns left out; and on likely missing
    codes that the condition counted as numbers.
    """
    rows = join_in_row_order(head.rows for head in heads).first(MOST_COMPARED)
    notes = note_lost_distinctions(rows, heads[0].kept, heads[0].left_out_names)
    place = next((index for index, note in enumerate(account.notes) if note.kind == "left-out"), len(account.notes))
    evidence = combine_all(head.evidence for head in heads)
    codes = [note for name, found in evidence.items() for note in found.make_notes(name, heads[0].dictionary)]
    return replace(account, notes=(*account.notes[:place], *notes, *account.notes[place:], *codes))


def note_contradictions(step: Subset, stated: Sequence[str], excluded: set[str]) -> list[Note]:
    """Note columns that are both chosen and left out."""
    both = [name for name in stated if name in excluded]
    if not both or not step.columns:
        return []
    return [Note(f"both chosen and left out, so left out: {', '.join(both)}.", kind="both", count=len(both))]


def note_left_out(names: Sequence[str]) -> list[Note]:
    """Note the columns that are left out."""
    if not names:
        return []
    text = f"columns left out: {shorten_list(names)}."
    return [Note(text, kind="left-out", count=len(names))]


def note_lost_distinctions(table: Table, kept: Sequence[str], left_out_names: Sequence[str]) -> list[Note]:
    """Note columns without which rows of one case cannot be distinguished, such as the occasion."""
    lost = [name for name in left_out_names if name in table.columns]
    if not lost or not len(table):
        return []
    for case in kept[:MOST_LISTED]:
        if table[case].type in ("number", "boolean"):
            continue
        codes, count = rank_cells(table[case])
        occurring = np.count_nonzero(np.bincount(codes[codes >= 0], minlength=count))
        if not 1 < occurring < CASE_SHARE * len(codes):
            continue
        notes = []
        for name in lost:
            case_count = count_separated(codes, count, table[name])
            if case_count:
                text = f"without {name} rows of {pluralize(case_count, 'case')} of {case} cannot be distinguished."
                notes.append(Note(text, name, (), "indistinguishable", case_count))
        # Where an id that is kept separates the rows, this is no case but an occasion.
        ids = [name for name in kept if name != case and IS_ID.search(name)]
        if notes and not any(count_separated(codes, count, table[name]) for name in ids):
            return notes
    return []


def count_separated(codes: npt.NDArray[np.int64], count: int, column: Column) -> int:
    """Return how many cases have several rows that only this column distinguishes; 0 if it does not."""
    if column.type == "number" or column.missing_count:
        return 0
    ranks, size = rank_cells(column)
    present = codes >= 0
    pairs, size_of_pairs = key_codes.combine_codes(codes, count, ranks, max(size, 1))
    pairs, old = key_codes.compact_codes(pairs, size_of_pairs)
    if len(old) < np.count_nonzero(present):
        return 0
    return int(np.count_nonzero(np.bincount(codes[present], minlength=count) > 1))
