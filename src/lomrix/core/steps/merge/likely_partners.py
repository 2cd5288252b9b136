"""Near misses: for keys without a partner, the likely partner on the other side, and why the two did not meet."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from lomrix.core.arrays import codes as key_codes
from lomrix.core.arrays.matching import first_rows
from lomrix.core.arrays.text_bytes import ZERO, bytes_at, bytes_used
from lomrix.core.steps.merge.tidy import tidied_texts

# Spelling is compared all against all up to so many pairs, and by shared neighbours beyond.
MOST_PAIRS = 4_000_000
LEAST_SCORE = 80.0
LEAST_LETTERS = 3

FORMS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("blanks", ("blanks",)),
    ("case", ("case",)),
    ("leading zeros", ("zeros",)),
    ("blanks and case", ("blanks", "case")),
    ("blanks and leading zeros", ("blanks", "zeros")),
    ("blanks, case and leading zeros", ("blanks", "case", "zeros")),
)
OPTIONS = {
    "blanks": "blanks", "case": "case", "leading zeros": "zeros", "blanks and case": "blanks,case",
    "blanks and leading zeros": "blanks,zeros", "blanks, case and leading zeros": "blanks,case,zeros",
}  # fmt: skip
STORED_NUMBER, DASHES, SPELLING = "a stored number", "a dash or another sign", "spelling"


@dataclass(frozen=True)
class NearMiss:
    """A key without a partner, its likely partner, and what keeps them apart."""

    key: str
    partner: str
    differs_by: str
    score: float = 100.0

    @property
    def option(self) -> str:
        """The option that would bring the two together; empty where only a correction does."""
        return f"‹tidy_keys={OPTIONS[self.differs_by]}›" if self.differs_by in OPTIONS else ""

    def ledger_row(self, variable: str) -> str:
        """The row of a ledger that would bring the two together."""
        return f"{variable}: {visible(self.key)} → {visible(self.partner)}"


def visible(text: str) -> str:
    """A text in quotation marks where blanks around it would not be seen."""
    return f'"{text}"' if text != text.strip() else text


def near_misses(alone: pa.Array, others: pa.Array) -> dict[str, NearMiss]:
    """Likely partners of keys without one.

    Parameters
    ----------
    alone
        Arrow array of the distinct keys without a partner, as text.
    others
        Arrow array of the distinct keys without a partner on the other side.

    Returns
    -------
    By key, its near miss; a key without a likely partner is not in it.
    """
    found: dict[str, NearMiss] = {}
    if not len(alone) or not len(others):
        return found
    rest = np.arange(len(alone))
    for cause, form in _forms(alone, others):
        partner = _partners(form(alone.take(pa.array(rest))), form(others))
        for row, other in zip(rest[partner >= 0].tolist(), partner[partner >= 0].tolist(), strict=True):
            key = alone[row].as_py()
            found[key] = NearMiss(key, others[other].as_py(), cause)
        rest = rest[partner < 0]
    _add_spellings(found, alone.take(pa.array(rest)), others)
    return found


def _forms(alone: pa.Array, others: pa.Array) -> list[tuple[str, Callable[[pa.Array], pa.Array]]]:
    """The forms that can bring some of these keys together; one that changes none of them is spared."""
    both = pa.concat_arrays([alone.cast(pa.large_string()), others.cast(pa.large_string())])
    used = bytes_used(both)
    other_signs = bool(used[128:].any())
    blanks = bool(used[[ord(" "), ord("\t")]].any()) or other_signs
    # One case throughout is one case still when it is made small.
    case = other_signs or bool(used[ord("A") : ord("Z") + 1].any() and used[ord("a") : ord("z") + 1].any())
    useful = {"blanks": blanks, "zeros": blanks or bool((bytes_at(both, 0) == ZERO).any()), "case": case}
    forms: list[tuple[str, Callable[[pa.Array], pa.Array]]] = [
        (cause, partial(tidied_texts, words=words)) for cause, words in FORMS if all(useful[word] for word in words)
    ]
    if used[ord(".")]:
        forms.append((STORED_NUMBER, lambda texts: pc.replace_substring_regex(texts, r"^0*(\d+)\.0+$", r"\1")))
    if other_signs or any(used[ord(sign)] for sign in " \t-_./"):
        signs = r"[\s\-‐–—_./]+"
        forms.append((DASHES, lambda texts: pc.replace_substring_regex(pc.utf8_lower(texts), signs, "")))
    return forms


def _partners(first: pa.Array, second: pa.Array) -> npt.NDArray[np.int64]:
    """For each text the first equal one on the other side, -1 where there is none."""
    one, two, size = key_codes.paired_text_codes(first.cast(pa.large_string()), second.cast(pa.large_string()))
    table = np.append(first_rows(two, size), -1)
    return np.asarray(table[one])


def _add_spellings(found: dict[str, NearMiss], alone: pa.Array, others: pa.Array) -> None:
    """Partners by spelling: for words only, since one number is as near to another as to the next."""
    keys, partners = _words(alone), _words(others)
    if not keys or not partners:
        return
    pairs = _all_pairs(keys, partners) if len(keys) * len(partners) <= MOST_PAIRS else _neighbours(keys, partners)
    for key, (partner, score) in pairs.items():
        if score >= LEAST_SCORE:
            found[key] = NearMiss(key, partner, SPELLING, round(score, 1))


def _words(texts: pa.Array) -> list[str]:
    letters = pc.count_substring_regex(texts, r"\pL")
    return list(texts.filter(pc.greater_equal(letters, LEAST_LETTERS)).to_pylist())


def _all_pairs(keys: list[str], partners: list[str]) -> dict[str, tuple[str, float]]:
    from rapidfuzz import fuzz, process

    scores = process.cdist(keys, partners, scorer=fuzz.ratio, score_cutoff=LEAST_SCORE, workers=1)
    best = scores.argmax(axis=1)
    return {
        key: (partners[at], float(scores[row, at]))
        for row, (key, at) in enumerate(zip(keys, best.tolist(), strict=True))
    }


def _neighbours(keys: list[str], partners: list[str]) -> dict[str, tuple[str, float]]:
    """Partners one sign away, found by the texts that are left when any one sign is taken out.

    References
    ----------
    M. Mor and A. S. Fraenkel, "A hash code method for detecting and correcting spelling errors",
    Communications of the ACM 25 (1982), 935-938.
    """
    from rapidfuzz import fuzz

    left: defaultdict[str, list[str]] = defaultdict(list)
    for partner in partners:
        for text in _shortened(partner):
            left[text].append(partner)
    best: dict[str, tuple[str, float]] = {}
    for key in keys:
        near = {partner for text in _shortened(key) for partner in left.get(text, ())[:8]}
        scored = max(((fuzz.ratio(key, partner), partner) for partner in near), default=None)
        if scored is not None:
            best[key] = (scored[1], scored[0])
    return best


def _shortened(text: str) -> set[str]:
    return {text, *(text[:at] + text[at + 1 :] for at in range(len(text)))}
