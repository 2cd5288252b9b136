"""Which rows are kept: those for which a condition is true, one row for each key, and a sample."""

from __future__ import annotations

import functools
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt

from lomrix.core.arrays.matching import find_first_rows
from lomrix.core.arrays.types import Array
from lomrix.core.combining import MOST_EXAMPLES, Combinable, Shown, Words
from lomrix.core.errors import DataError, UsageError
from lomrix.core.language.evaluate import evaluate_condition
from lomrix.core.language.scope import Scope, Survey
from lomrix.core.rows.cases import Cases
from lomrix.core.rows.keys import encode_key_pairs, encode_rows, format_keys, group_rows, rank_cells
from lomrix.core.steps.account import Balance, Part
from lomrix.core.steps.subset.settings import FIRST_SEED, Subset, parse_pick
from lomrix.core.table.column import Column
from lomrix.core.table.notes import Note, pluralize
from lomrix.core.table.renaming import concatenate_tables
from lomrix.core.table.table import Table
from lomrix.core.table.texts import make_text_column
from lomrix.core.wording import shorten_list

Rows = npt.NDArray[np.int64]
# Numbers that are drawn at once.
BLOCK = 1 << 20
CAUSES = {
    "condition-false": "condition false",
    "condition-missing": "condition missing",
    "repeated-key": "another row of its key was kept",
    "no-group": "group missing",
    "not-drawn": "not drawn",
}


@dataclass
class RowChoice:
    """The rows of a table that are kept so far, and why each other row was left out."""

    table: Table
    fates: npt.NDArray[np.uint8] = field(init=False)  # 0 = kept, k = by the k-th cause
    causes: list[tuple[str, str, str]] = field(default_factory=list)  # cause, reason, and what it belongs to
    notes: list[Note] = field(default_factory=list)
    without_key: npt.NDArray[np.bool_] | None = None  # True for rows whose key is missing, if there is a key

    def __post_init__(self) -> None:
        self.fates = np.zeros(len(self.table), np.uint8)

    @property
    def kept(self) -> Rows:
        """The rows that are kept, in the order of the file."""
        return np.flatnonzero(self.fates == 0)

    def leave_out(self, rows: Array, cause: str, reason: str = "", of: str = "") -> None:
        """Leave rows out (positions, or True where); those that are out already stay so."""
        self.causes.append((cause, reason, of))
        if rows.dtype != np.bool_:
            positions, rows = rows, np.zeros(len(self.table), np.bool_)
            rows[positions] = True
        np.copyto(self.fates, len(self.causes), where=rows & (self.fates == 0), casting="unsafe")

    def make_balance(self) -> Balance:
        """Balance the rows of the table: kept, and left out by cause."""
        counts = np.bincount(self.fates, minlength=len(self.causes) + 1).tolist()
        without_key = 0 if self.without_key is None else int(np.count_nonzero(self.without_key & (self.fates == 0)))
        kept = [Part("kept", counts[0] - without_key)]
        kept += [Part("kept", without_key, "key-missing")] if without_key else []
        left_out = [
            Part("left out", count, cause, of, reason)
            for count, (cause, reason, of) in zip(counts[1:], self.causes, strict=True)
        ]
        return Balance("rows", len(self.table), (*kept, *left_out))

    def list_left_out(self, names: list[str]) -> Table:
        """Return the rows that are left out, with their row numbers and why."""
        rows = np.flatnonzero(self.fates)
        texts = [CAUSES[cause] + (f" ({reason})" if reason else "") for cause, reason, _ in self.causes]
        why = make_text_column(texts or [None]).take(np.maximum(self.fates[rows].astype(np.int64) - 1, 0))
        columns = {
            "left_out_row": Column.of("integer", np.array(self.table.number_rows(rows), np.int64)),
            "left_out_because": why,
        }
        for name in columns:
            if name in names:
                raise DataError(f"The file already has a column {name}.", todo="Leave it out with ‹without›.")
        kept = self.table.only(names).take(rows)
        return kept.with_columns({**columns, **kept.columns})


def choose_rows(step: Subset, table: Table, scope: Scope, whole: SubsetSurvey | None) -> RowChoice:
    """Apply the condition, then keep one row for each key, then draw the sample; `whole` is the survey of all parts."""
    choice = choose_before_drawing(step, table, scope)
    if step.sample:
        draw_sample(step, choice, whole)
    return choice


def choose_before_drawing(step: Subset, table: Table, scope: Scope) -> RowChoice:
    """Apply the condition, and keep one row for each key."""
    choice = RowChoice(table)
    if step.where:
        is_true = evaluate_condition(step.where, scope)
        choice.leave_out(~is_true.values & ~is_true.is_missing, "condition-false")
        if is_true.why is not None:
            for reason in is_true.reason_counts():
                choice.leave_out(is_true.why == is_true.reasons.index(reason) + 1, "condition-missing", reason)
    if step.one_per:
        keep_one_per_key(step, choice)
    return choice


# ------------------------------------------------------------------ one row for each key


def keep_one_per_key(step: Subset, choice: RowChoice) -> None:
    """Keep one row of each key; a row whose key is missing stays."""
    codes, size = encode_rows(choice.table, step.one_per)
    choice.without_key = codes < 0
    if choice.causes:
        codes = np.where(choice.fates > 0, -1, codes)
    count = int(np.count_nonzero(choice.without_key & (choice.fates == 0)))
    text = Words("{rows:row} without a key stayed, since a missing key matches no other.", rows=count)
    choice.notes.append(Note(text, ", ".join(step.one_per), (), "key-missing", count))
    word, name = parse_pick(step.pick)
    takes_last = step.ties == "last" if name else word == "last"
    dtype: type[np.int32 | np.int64] = np.int32 if len(codes) < 2**31 else np.int64
    rows, of_rows = np.arange(len(codes), dtype=dtype), codes
    if name:
        ranks = rank_for_pick(choice.table, name, is_latest=word == "latest")
        # One more, for rows of no key.
        best = np.full(size + 1, np.iinfo(np.int64).max)
        np.minimum.at(best, codes, ranks)
        is_best = ranks == best[codes]
        if step.ties is None:
            require_one_best(choice.table, step, codes, size, is_best)
        rows = np.flatnonzero(is_best).astype(dtype)
        of_rows = codes[rows]
    chosen = np.full(size + 1, -1, dtype)
    step_through = slice(None) if takes_last else slice(None, None, -1)  # the last to be put in stays
    chosen[of_rows[step_through]] = rows[step_through]
    is_repeated = codes >= 0
    is_repeated[chosen[:-1][chosen[:-1] >= 0]] = False
    choice.leave_out(is_repeated, "repeated-key")
    has_several = np.zeros(size, np.bool_)
    has_several[codes[is_repeated]] = True
    count = int(np.count_nonzero(has_several))
    kept = f"the one with the {word} {name}" if name else f"the {word}"
    text = Words("{keys:key} had several rows; {kept} was kept.", keys=count, kept=kept)
    choice.notes.append(Note(text, ", ".join(step.one_per), (), "picked", count, done=True))


def rank_for_pick(table: Table, name: str, *, is_latest: bool) -> Rows:
    """Return integers that are smaller for cells that are picked rather; missing cells come last."""
    column = table[name].fit_type("integer")
    if column.type not in ("date", "datetime", "integer", "number"):
        raise UsageError(
            f"{name} is {column.type}: earliest and latest need dates or numbers.",
            todo=f"Use ‹pick=first› or ‹pick=last›, or state its type and form: ‹type={name}=date:%d/%m/%Y›.",
        )
    ranks = rank_cells(column)[0] if column.type == "number" else column.values.astype(np.int64)
    ranks = -ranks if is_latest else ranks
    return ranks if column.why is None else np.where(column.is_missing, np.iinfo(np.int64).max, ranks)


def require_one_best(table: Table, step: Subset, codes: Rows, size: int, is_best: npt.NDArray[np.bool_]) -> None:
    """Stop if the row to pick is not clear: several are equal, or one of a key with several rows has no value.

    Raises DataError with keys and rows.
    """
    word, name = parse_pick(step.pick)
    inside, is_missing = codes >= 0, table[name].is_missing
    has_ties = np.bincount(codes[is_best & inside], minlength=size) > 1
    has_missing = np.bincount(codes[is_missing & inside], minlength=size) > 0
    has_missing &= np.bincount(codes[inside], minlength=size) > 1
    unclear = np.flatnonzero(has_ties | has_missing)
    if not len(unclear):
        return
    first_rows = find_first_rows(codes, size)
    shown = []
    for code in unclear[np.argsort(first_rows[unclear])][:MOST_EXAMPLES].tolist():
        same = np.flatnonzero((codes == code) & (is_best | bool(has_missing[code])))
        numbers = shorten_list(map(str, table.number_rows(same)), 4)
        cause = f"{name} missing" if has_missing[code] else "equal"
        text = f"{format_keys(table, step.one_per, same[:1])[0]} (rows {numbers}: {cause})"
        shown.append((table.number_rows(first_rows[[code]])[0], text))
    raise DataError(
        Words("The {word} {name} is not clear for {keys:key}.", word=word, name=name, keys=len(unclear)),
        where=Shown(shown, len(unclear), separator="; "),
        todo="Correct the dates, or add ‹ties=first› or ‹ties=last› to decide by the order of the file.",
        columns=[name],
    )


# ---------------------------------------------------------------------------- sample


@dataclass(frozen=True)
class Span(Combinable):
    """The rows of a table, or of a part of it."""

    first_row: int
    rows: int

    def combine(self, later: Span) -> Span:
        """Return the span of both."""
        return Span(min(self.first_row, later.first_row), self.rows + later.rows)


@dataclass(frozen=True)
class CasesToDraw(Combinable):
    """One row for each case that may be drawn: its id, and its group."""

    table: Table

    def combine(self, later: CasesToDraw) -> CasesToDraw:
        """Return the cases of both parts, which have none in common."""
        return CasesToDraw(concatenate_tables([self.table, later.table]))


@dataclass(frozen=True)
class SubsetSurvey:
    """What must be known of all parts: their rows, what functions of a case use, and the cases to draw from."""

    span: Span
    scope: Survey
    cases: CasesToDraw | None


def list_cases(step: Subset, choice: RowChoice) -> tuple[CasesToDraw, Rows]:
    """List the cases of the rows that are kept so far, and find the case of each of these rows.

    Raises DataError if a column that forms groups varies within a case.
    """
    names = dict.fromkeys([*step.case, *step.sample_by])
    cases = Cases(choice.table.only(names).keep(choice.kept), step.case)
    require_constant_groups(step, cases)
    return CasesToDraw(replace(cases.table.take(cases.firsts), row_numbers=None)), cases.of_row


def draw_rows(step: Subset, choice: RowChoice, whole: Span) -> None:
    """Draw rows at random: those with the smallest of the numbers that `draw` gives."""
    seed = FIRST_SEED if step.seed is None else step.seed
    numbers = np.random.PCG64(seed)
    numbers.advance(choice.table.first_row - whole.first_row)
    is_drawn = numbers.random_raw(len(choice.table)) <= find_largest_drawn(seed, whole.rows, step.sample)
    choice.leave_out(~is_drawn, "not-drawn")
    drawn = int(np.count_nonzero(is_drawn))
    text = Words("{drawn:row} drawn of {rows}, with seed {seed}.", drawn=drawn, rows=len(is_drawn), seed=str(seed))
    choice.notes.append(Note(text, kind="sample", count=drawn, done=True))
    if whole.rows < step.sample:
        note = f"there are fewer than {step.sample:,} rows, and all were taken."
        choice.notes.append(Note(note, kind="small-sample", count=1))


@functools.lru_cache(maxsize=1)
def find_largest_drawn(seed: int, rows: int, count: int) -> np.uint64:
    """Return the largest of the `count` smallest numbers of all rows."""
    numbers, smallest = np.random.PCG64(seed), np.zeros(0, np.uint64)
    for start in range(0, rows, BLOCK):
        smallest = np.append(smallest, numbers.random_raw(min(BLOCK, rows - start)))
        if len(smallest) > count:
            smallest = np.partition(smallest, count - 1)[:count]
    return smallest.max() if len(smallest) else np.uint64(0)


def draw_sample(step: Subset, choice: RowChoice, whole: SubsetSurvey | None) -> None:
    """Draw rows, or whole cases, at random; of each group if asked for."""
    if step.draws_of_all_rows:
        draw_rows(step, choice, whole.span if whole else Span(choice.table.first_row, len(choice.table)))
    elif step.case:
        here, of_row = list_cases(step, choice)
        if whole is None or whole.cases is None:
            draw_cases(step, choice, here.table, of_row)
            return
        codes = encode_key_pairs(here.table, whole.cases.table, tuple((name, name) for name in step.case))
        position = np.empty(codes.size, np.int64)
        position[codes.added] = np.arange(len(codes.added))
        draw_cases(step, choice, whole.cases.table, position[codes.base][of_row])
    else:
        rows = choice.kept
        groups = np.zeros(len(rows), np.int64)
        if step.sample_by:
            groups = group_rows(choice.table.only(step.sample_by).take(rows), step.sample_by).codes
            choice.leave_out(rows[groups < 0], "no-group", of=", ".join(step.sample_by))
        is_drawn = draw(groups, step.sample, FIRST_SEED if step.seed is None else step.seed)
        choice.leave_out(rows[~is_drawn], "not-drawn")
        choice.notes += note_sample(step, groups, int(np.count_nonzero(is_drawn)))


def draw_cases(step: Subset, choice: RowChoice, cases: Table, of_row: Rows) -> None:
    """Draw whole cases; `cases` has one row for each case of all parts, `of_row` the case of each row kept so far."""
    # Cases are drawn in the order of their ids, so that the sample does not depend on the order of the rows.
    order = np.argsort(group_rows(cases, step.case).codes)
    groups, rows = np.zeros(len(cases), np.int64), choice.kept
    if step.sample_by:
        groups = group_rows(cases, step.sample_by).codes
        choice.leave_out(rows[groups[of_row] < 0], "no-group", of=", ".join(step.sample_by))
    is_drawn = np.zeros(len(cases), np.bool_)
    is_drawn[order] = draw(groups[order], step.sample, FIRST_SEED if step.seed is None else step.seed)
    choice.leave_out(rows[~is_drawn[of_row]], "not-drawn")
    choice.notes += note_sample(step, groups, int(np.count_nonzero(is_drawn)))


def require_constant_groups(step: Subset, cases: Cases) -> None:
    """Stop if a column that forms groups varies within a case."""
    for name in step.sample_by:
        varying = cases.find_contradictions(cases.table[name])
        if len(varying):
            raise DataError(
                Words("{name} varies within {cases:case}, so a case has no one group.", name=name, cases=len(varying)),
                where=cases.show_examples(name, varying),
                todo="Use a column that is constant within a case.",
                columns=[name],
            )


def draw(groups: Rows, count: int, seed: int) -> npt.NDArray[np.bool_]:
    """Draw `count` positions of each group (-1: none), the same for a seed on every machine.

    Each position gets a random integer of 64 bits from PCG64 (M. E. O'Neill, "PCG: A family of simple fast
    space-efficient statistically good algorithms", 2014), whose stream NumPy keeps; the smallest of a group are drawn.
    """
    numbers = np.random.PCG64(seed).random_raw(len(groups)) if len(groups) else np.zeros(0, np.uint64)
    order = np.lexsort((numbers, groups))
    in_order = groups[order]
    starts = np.searchsorted(in_order, in_order)
    drawn = np.zeros(len(groups), np.bool_)
    drawn[order] = (np.arange(len(groups)) - starts < count) & (in_order >= 0)
    return drawn


def note_sample(step: Subset, groups: Rows, drawn: int) -> list[Note]:
    """Note how the sample was drawn, and groups that have fewer."""
    unit = "case" if step.case else "row"
    sizes = np.bincount(groups[groups >= 0])
    sizes = sizes[sizes > 0]
    seed = FIRST_SEED if step.seed is None else step.seed
    text = f"{pluralize(drawn, unit)} drawn of {int(sizes.sum()):,}, with seed {seed}"
    text += f", from {pluralize(len(sizes), 'group')}." if step.sample_by else "."
    notes = [Note(text, kind="sample", count=drawn, done=True)]
    if few := int(np.count_nonzero(sizes < step.sample)):
        text = f"{pluralize(few, 'group has', 'groups have')} fewer than {step.sample:,} {unit}s, and all were taken."
        text = text if step.sample_by else f"there are fewer than {step.sample:,} {unit}s, and all were taken."
        notes.append(Note(text, kind="small-sample", count=few))
    return notes
