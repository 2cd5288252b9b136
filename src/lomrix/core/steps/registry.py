"""The steps that there are: one entry for each, with the panel it stands in and an example.

Nothing is loaded here: an entry names the module of its settings.
"""

from __future__ import annotations

import importlib
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from lomrix.core.steps.step import Step


@dataclass(frozen=True)
class Entry:
    """One step.

    Parameters
    ----------
    panel
        The kind of work it belongs to.
    word
        Its word.
    does
        What it does, in a few words.
    example
        How it is typed.
    settings
        Module and class of its settings.
    """

    panel: str
    word: str
    does: str
    example: str
    settings: str

    def step(self) -> type[Step]:
        """The step itself."""
        module, _, name = self.settings.partition(":")
        found: type[Step] = getattr(importlib.import_module(f"lomrix.core.steps.{module}"), name)
        return found


ENTRIES = (
    Entry("Look", "profile", "Show what is in a file: keys, types, missing cells, ranges, labels",
          "lomrix profile roster.csv --dictionary dictionary.toml", "profile.settings:Profile"),
    Entry("Look", "tally", "Count values, with labels and per cents; missing cells apart",
          "lomrix tally roster.csv sex vessel --percent column -d dictionary.toml", "tally.settings:Tally"),
    Entry("Look", "coverage", "Show who was seen when: patterns, who left and returned, what was measured",
          "lomrix coverage long.csv --case crew_id --occasion month --figure seen.png", "coverage.settings:Coverage"),
    Entry("Clean", "check", "Find what is wrong; exit status 1 where a rule is broken",
          "lomrix check roster.csv --key crew_id -d dictionary.toml --draft-ledger ledger.csv",
          "check.settings:Check"),
    Entry("Clean", "correct", "Apply a ledger of corrections, where the old value still stands",
          "lomrix correct roster.csv --ledger ledger_roster.csv --out roster_clean.csv",
          "correct.settings:Correct"),
    Entry("Clean", "recode", "Recode whole values: to others, codes, labels, a missing reason",
          'lomrix recode fatigue_m0.csv --map "watch: day=1, night=2, split=3" --out coded.csv',
          "recode.settings:Recode"),
    Entry("Clean", "subset", "Choose columns and rows",
          'lomrix subset long.csv --columns "crew_id,month,sleep" --where "month in (0, 12)"',
          "subset.settings:Subset"),
    Entry("Clean", "deidentify", "Take away what names a person; the way back is written apart",
          "lomrix deidentify roster.csv --id crew_id --remove name --seed k/seed --linkage k/link.csv --out safe.csv",
          "deidentify.settings:Deidentify"),
    Entry("Combine", "merge", "Add variables from another file, by key",
          "lomrix merge roster.csv sleep_wide.csv --key crew_id --out crew.csv", "merge.settings:Merge"),
    Entry("Combine", "stack", "Put files under each other: add cases or waves",
          "lomrix stack fatigue_m0.csv fatigue_m6.csv --mark month=0,6 --case crew_id --out fatigue.csv",
          "stack.settings:Stack"),
    Entry("Reshape", "to-long", "Turn repeated columns into one row per case and occasion",
          'lomrix to-long crew.csv --case crew_id --header "{measure}_m{month}" --out long.csv',
          "reshape.to_long:ToLong"),
    Entry("Reshape", "to-wide", "Turn the rows of a case into columns, one for each measure and occasion",
          'lomrix to-wide long.csv --case crew_id --occasion month --header "{measure}_m{month}" --out wide.csv',
          "reshape.to_wide:ToWide"),
    Entry("Reshape", "to-balanced", "Give every case a row at every occasion, or keep the cases that have all",
          "lomrix to-balanced long.csv --case crew_id --occasion month --out panel.csv",
          "balanced.settings:ToBalanced"),
    Entry("Compute", "derive", "Compute new variables by expressions; rename variables",
          'lomrix derive long.csv "sleep_h = sleep / 60" "change = change(sleep_h)" --case crew_id --occasion month',
          "derive.settings:Derive"),
    Entry("Compute", "score", "Score items as scales: sums or means, items turned round, reliability",
          "lomrix score fatigue.csv --name fatigue --items f1..f6 --reverse f2,f5 --span 0:3 --at-least 5",
          "score.settings:Score"),
    Entry("Compute", "aggregate", "Compute statistics of groups: one row per group",
          'lomrix aggregate long.csv --by vessel,month --stat "sleep: n mean sd"', "aggregate.settings:Aggregate"),
    Entry("Compute", "compare", "Compare measures: before and after, between groups, or against another measure",
          "lomrix compare long.csv --measure sleep,steps --between month --paired-on crew_id",
          "compare.settings:Compare"),
    Entry("Deliver", "changes", "Show what differs from the last delivery; exit status 1 where anything does",
          "lomrix changes last/crew.csv out/crew.csv --key crew_id --out ledger.csv", "changes.settings:Changes"),
    Entry("Deliver", "report", "Make a page for people: how a file came about, who was seen when, each variable",
          "lomrix report long.csv --case crew_id --occasion month --measure sleep --out page.html",
          "report.settings:Report"),
    Entry("Deliver", "export", "Write a file for another program, missing values recoded",
          "lomrix export long.csv --to model.dat --form bare --missing-code auto", "export.settings:Export"),
)  # fmt: skip


def entry_of(word: str) -> Entry | None:
    """The entry of a step's word; None where there is none."""
    return next((entry for entry in ENTRIES if entry.word == word), None)
