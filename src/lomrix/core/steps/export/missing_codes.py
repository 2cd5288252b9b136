"""Missing codes as stated: for every cell, a reason, some columns, or a reason in some columns."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from lomrix.core.errors import UsageError
from lomrix.core.table.selection import choose_columns

AUTO = "auto"
CLEAR = "Use ‹missing_code=-9› for all, ‹missing_code=refused=-8› for a reason, ‹missing_code=sleep_*:-99› for columns."


@dataclass(frozen=True)
class CodeSetting:
    """One stated missing code (`auto`: to be found), the reason it is for (empty: all), and the choice of columns
    (empty: all).
    """

    code: str
    reason: str = ""
    columns: str = ""


def parse_missing_codes(texts: Sequence[str]) -> tuple[CodeSetting, ...]:
    """Parse `-9`, `refused=-8`, `sleep_*:-99` and `sleep_*:refused=-98`."""
    settings: list[CodeSetting] = []
    for text in texts:
        left, equals, code = (part.strip() for part in text.rpartition("="))
        columns, colon, remainder = (part.strip() for part in (left if equals else code).rpartition(":"))
        setting = CodeSetting(code, remainder, columns) if equals else CodeSetting(remainder, "", columns)
        if not setting.code or (equals and not setting.reason) or (colon and not setting.columns):
            raise UsageError(f'The missing code "{text}" is not valid.', todo=CLEAR)
        if any((setting.reason, setting.columns) == (other.reason, other.columns) for other in settings):
            raise UsageError(f'The missing code "{text}" is for cells that already have one.', todo=CLEAR)
        if setting.code == AUTO and (setting.reason or setting.columns):
            raise UsageError(f'"{text}": auto applies to every cell.', todo=CLEAR)
        settings.append(setting)
    return tuple(settings)


@dataclass(frozen=True)
class MissingCodes:
    """The missing codes of a table: for each column and reason, the most specific one."""

    everywhere: str  # the code of cells that nothing closer was said of; empty where there is none
    by_reason: Mapping[str, str]  # codes of reasons, in every column
    # for each column the codes that were said of it, by reason; the empty reason stands for all others
    by_column: Mapping[str, Mapping[str, str]]

    @classmethod
    def resolve(cls, settings: Sequence[CodeSetting], types: Mapping[str, str], table: str) -> MissingCodes:
        """Apply the settings to the columns of a table.

        Raises UsageError if two codes are stated for one column and reason, or a column does not exist.
        """
        everywhere = next((setting.code for setting in settings if not setting.reason and not setting.columns), "")
        by_reason = {setting.reason: setting.code for setting in settings if setting.reason and not setting.columns}
        by_column: dict[str, dict[str, str]] = {}
        for setting in (setting for setting in settings if setting.columns):
            for name in choose_columns(setting.columns, types, table):
                codes = by_column.setdefault(name, {})
                if codes.setdefault(setting.reason, setting.code) != setting.code:
                    raise UsageError(
                        f"Two missing codes are given for {name}: {codes[setting.reason]} and {setting.code}.",
                        todo="Name each column in only one of them.",
                    )
        return cls(everywhere, by_reason, by_column)

    def get_code(self, column: str, reason: str) -> str:
        """Return the code of a column's cells missing for a reason; empty if there is none."""
        codes = self.by_column.get(column, {})
        return codes.get(reason) or codes.get("") or self.by_reason.get(reason) or self.everywhere

    def list_codes(self, column: str, reasons: Iterable[str]) -> list[str]:
        """Return every code that may occur in a column whose cells are missing for these reasons."""
        codes = self.by_column.get(column, {})
        # Codes of other reasons do not occur in the column.
        general = [] if "" in codes else [*(self.by_reason.get(reason, "") for reason in reasons), self.everywhere]
        return list(dict.fromkeys(code for code in (*codes.values(), *general) if code))

    @property
    def specific_codes(self) -> set[str]:
        """The codes for particular reasons or columns."""
        return {*self.by_reason.values(), *(code for codes in self.by_column.values() for code in codes.values())}


NO_CODES = MissingCodes("", {}, {})
