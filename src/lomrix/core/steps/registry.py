"""All steps: one entry for each, with its panel, an example and the module of its settings, which is loaded on use."""

from __future__ import annotations

import importlib
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from lomrix.core.steps.step import Step


@dataclass(frozen=True)
class Entry:
    """One step."""

    panel: str
    word: str
    purpose: str
    example: str
    settings: str

    def load(self) -> type[Step]:
        """Return the step's class."""
        module, _, name = self.settings.partition(":")
        found: type[Step] = getattr(importlib.import_module(f"lomrix.core.steps.{module}"), name)
        return found


ENTRIES = (
    Entry("Look", "profile", "Show what is in a file: keys, types, missing cells, ranges, labels",
          "lomrix profile roster.csv --dictionary dictionary.toml", "profile.settings:Profile"),
    Entry("Look", "tally", "Count values, with labels and percentages; missing cells separately",
          "lomrix tally roster.csv sex vessel --percent column -d dictionary.toml", "tally.settings:Tally"),
    Entry("Look", "coverage", "Show who was seen when: patterns, who left and returned, what was measured",
          "lomrix coverage long.csv --case crew_id --occasion month --figure seen.png", "coverage.settings:Coverage"),
    Entry("Clean", "check", "Find what is wrong; exit status 1 if a rule is broken",
          "lomrix check roster.csv --key crew_id -d dictionary.toml --draft-ledger ledger.csv",
          "check.settings:Check"),
    Entry("Clean", "correct", "Apply a ledger of corrections to cells that still hold the old value",
          "lomrix correct roster.csv --ledger ledger_roster.csv --out roster_clean.csv",
          "correct.settings:Correct"),
    Entry("Clean", "recode", "Recode whole values: to others, codes, labels, a missing reason",
          'lomrix recode fatigue_m0.csv --map "watch: day=1, night=2, split=3" --out coded.csv',
          "recode.settings:Recode"),
    Entry("Clean", "subset", "Choose columns and rows, one row per key, or a sample; sort",
          'lomrix subset long.csv --columns "crew_id,month,sleep" --where "month in (0, 12)"',
          "subset.settings:Subset"),
    Entry("Clean", "deidentify", "Remove what names a person; write a linkage file separately",
          "lomrix deidentify roster.csv --id crew_id --remove name --seed k/seed --linkage k/link.csv --out safe.csv",
          "deidentify.settings:Deidentify"),
    Entry("Combine", "merge", "Add variables from another file, by key",
          "lomrix merge roster.csv sleep_wide.csv --key crew_id --out crew.csv", "merge.settings:Merge"),
    Entry("Combine", "stack", "Append files to each other: add cases or waves",
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
    Entry("Compute", "score", "Score items as scales: sums or means, reverse-scored items, reliability",
          "lomrix score fatigue.csv --name fatigue --items f1..f6 --reverse f2,f5 --span 0:3 --at-least 5",
          "score.settings:Score"),
    Entry("Compute", "aggregate", "Compute statistics of groups: one row per group",
          'lomrix aggregate long.csv --by vessel,month --stat "sleep: n mean sd"', "aggregate.settings:Aggregate"),
    Entry("Compute", "compare", "Compare measures: before and after, between groups, or against another measure",
          "lomrix compare long.csv --measure sleep,steps --between month --paired-on crew_id",
          "compare.settings:Compare"),
    Entry("Deliver", "changes", "Show what differs from the last delivery; exit status 1 if anything does",
          "lomrix changes last/crew.csv out/crew.csv --key crew_id --out ledger.csv", "changes.settings:Changes"),
    Entry("Deliver", "report", "Make a page for people: where a file came from, who was seen when, each variable",
          "lomrix report long.csv --case crew_id --occasion month --measure sleep --out page.html",
          "report.settings:Report"),
    Entry("Deliver", "export", "Write a file for another program, with missing values recoded",
          "lomrix export long.csv --to model.dat --form bare --missing-code auto", "export.settings:Export"),
)  # fmt: skip


def find_entry(name: str) -> Entry | None:
    """Return the entry of a step; None if there is none."""
    return next((entry for entry in ENTRIES if entry.word == name), None)
