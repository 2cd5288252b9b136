"""Near misses: for unmatched keys, the likely partner on the other side, and how the two differ."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import get_args

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.matching import find_first_rows
from lomrix.core.arrays.text_bytes import ZERO, bytes_at, find_bytes
from lomrix.core.steps.merge.settings import TidyWord
from lomrix.core.steps.merge.tidy import tidy_texts
from lomrix.core.wording import join_words

# Up to this many pairs, spelling is compared all against all; beyond, by shared neighbours.
MOST_PAIRS = 4_000_000
LEAST_SCORE = 80.0
LEAST_LETTERS = 3

# Every combination of words, the shortest first.
FORMS: tuple[tuple[str, tuple[str, ...]], ...] = tuple(
    (join_words(["leading zeros" if word == "zeros" else word for word in words]), words)
    for count in range(1, len(get_args(TidyWord)) + 1)
    for words in itertools.combinations(get_args(TidyWord), count)
)
OPTIONS = {differs_by: ",".join(words) for differs_by, words in FORMS}
STORED_NUMBER, DASHES, SPELLING = "a stored number", "a dash or another sign", "spelling"


@dataclass(frozen=True)
class NearMiss:
    """An unmatched key, its likely partner, and how they differ."""

    key: str
    partner: str
    differs_by: str
    score: float = 100.0

    @property
    def option(self) -> str:
        """The option that would match the two; empty if only a correction does."""
        return f"‹tidy_keys={OPTIONS[self.differs_by]}›" if self.differs_by in OPTIONS else ""

    def format_ledger_row(self, variable: str) -> str:
        """Format the ledger row that would match the two."""
        return f"{variable}: {quote_if_needed(self.key)} → {quote_if_needed(self.partner)}"


def quote_if_needed(text: str) -> str:
    """Quote a text with surrounding spaces, which would not be visible."""
    return f'"{text}"' if text != text.strip() else text


def find_near_misses(keys: pa.Array, candidates: pa.Array) -> dict[str, NearMiss]:
    """Return by key its likely partner, for distinct unmatched keys and candidates as Arrow arrays of text; keys
    without one are left out.
    """
    result: dict[str, NearMiss] = {}
    if not len(keys) or not len(candidates):
        return result
    remaining = np.arange(len(keys))
    for cause, normalize in _list_forms(keys, candidates):
        partner = _find_equal(normalize(keys.take(pa.array(remaining))), normalize(candidates))
        for row, other in zip(remaining[partner >= 0].tolist(), partner[partner >= 0].tolist(), strict=True):
            key = keys[row].as_py()
            result[key] = NearMiss(key, candidates[other].as_py(), cause)
        remaining = remaining[partner < 0]
    _add_spellings(result, keys.take(pa.array(remaining)), candidates)
    return result


def _list_forms(alone: pa.Array, others: pa.Array) -> list[tuple[str, Callable[[pa.Array], pa.Array]]]:
    """List the normal forms that can match some of these keys; those that change none are skipped."""
    all_texts = pa.concat_arrays([alone.cast(pa.large_string()), others.cast(pa.large_string())])
    bytes_used = find_bytes(all_texts)
    has_non_ascii = bool(bytes_used[128:].any())
    has_spaces = bool(bytes_used[[ord(" "), ord("\t")]].any()) or has_non_ascii
    # A single case throughout stays distinct in lower case.
    has_case = has_non_ascii or bool(
        bytes_used[ord("A") : ord("Z") + 1].any() and bytes_used[ord("a") : ord("z") + 1].any()
    )
    useful = {
        "spaces": has_spaces,
        "zeros": has_spaces or bool((bytes_at(all_texts, 0) == ZERO).any()),
        "case": has_case,
        "characters": has_non_ascii,
    }
    forms: list[tuple[str, Callable[[pa.Array], pa.Array]]] = [
        (cause, partial(tidy_texts, words=words)) for cause, words in FORMS if all(useful[kind] for kind in words)
    ]
    if bytes_used[ord(".")]:
        forms.append((STORED_NUMBER, lambda texts: pc.replace_substring_regex(texts, r"^0*(\d+)\.0+$", r"\1")))
    if has_non_ascii or any(bytes_used[ord(character)] for character in " \t-_./"):
        pattern = r"[\s\-‐–—_./]+"
        forms.append((DASHES, lambda texts: pc.replace_substring_regex(pc.utf8_lower(texts), pattern, "")))
    return forms


def _find_equal(first: pa.Array, second: pa.Array) -> npt.NDArray[np.int64]:
    """Return for each text the first equal one on the other side, -1 if there is none."""
    first_codes, second_codes, size = key_codes.encode_text_pair(
        first.cast(pa.large_string()), second.cast(pa.large_string())
    )
    table = np.append(find_first_rows(second_codes, size), -1)
    return np.asarray(table[first_codes])


def _add_spellings(result: dict[str, NearMiss], alone: pa.Array, others: pa.Array) -> None:
    """Add partners by spelling, for words only, since numbers are all near to each other."""
    keys, partners = _select_words(alone), _select_words(others)
    if not keys or not partners:
        return
    best_matches = (
        _compare_all(keys, partners) if len(keys) * len(partners) <= MOST_PAIRS else _find_neighbours(keys, partners)
    )
    for key, (partner, score) in best_matches.items():
        if score >= LEAST_SCORE:
            result[key] = NearMiss(key, partner, SPELLING, round(score, 1))


def _select_words(texts: pa.Array) -> list[str]:
    letters = pc.count_substring_regex(texts, r"\pL")
    return list(texts.filter(pc.greater_equal(letters, LEAST_LETTERS)).to_pylist())


def _compare_all(keys: list[str], partners: list[str]) -> dict[str, tuple[str, float]]:
    from rapidfuzz import fuzz, process

    scores = process.cdist(keys, partners, scorer=fuzz.ratio, score_cutoff=LEAST_SCORE, workers=1)
    best = scores.argmax(axis=1)
    return {
        key: (partners[index], float(scores[row, index]))
        for row, (key, index) in enumerate(zip(keys, best.tolist(), strict=True))
    }


def _find_neighbours(keys: list[str], partners: list[str]) -> dict[str, tuple[str, float]]:
    """Find partners one character away, by the texts that remain when any one character is removed.

    References
    ----------
    M. Mor and A. S. Fraenkel, "A hash code method for detecting and correcting spelling errors",
    Communications of the ACM 25 (1982), 935-938.
    """
    from rapidfuzz import fuzz

    by_shortened: defaultdict[str, list[str]] = defaultdict(list)
    for partner in partners:
        for text in _remove_each_character(partner):
            by_shortened[text].append(partner)
    best: dict[str, tuple[str, float]] = {}
    for key in keys:
        nearby = {partner for text in _remove_each_character(key) for partner in by_shortened.get(text, ())[:8]}
        scored = max(((fuzz.ratio(key, partner), partner) for partner in nearby), default=None)
        if scored is not None:
            best[key] = (scored[1], scored[0])
    return best


def _remove_each_character(text: str) -> set[str]:
    return {text, *(text[:index] + text[index + 1 :] for index in range(len(text)))}
