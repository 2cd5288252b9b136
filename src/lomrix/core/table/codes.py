"""Lists of codes: single values, and ranges such as "2 to 4", with their labels."""

from __future__ import annotations

import re
from collections.abc import Mapping

from lomrix.core.table.numbers import is_number

RANGE = re.compile(r"(-?\d+(?:\.\d+)?)\s+to\s+(-?\d+(?:\.\d+)?)")


class CodeList:
    """Labels by code, where a code is a stored value as text or a range of numbers such as "2 to 4" (both ends
    included).
    """

    def __init__(self, labels: Mapping[str, str]) -> None:
        self.labels = labels
        self._ranges = [(float(match[1]), float(match[2]), code) for code in labels if (match := RANGE.fullmatch(code))]
        self._numbers = {float(code): code for code in labels if is_number(code)}

    def code_of(self, text: str, *, as_numbers: bool = True) -> str | None:
        """Return the code that covers a value given as text, or None; as numbers, 1 and 1.0 are the same."""
        if text in self.labels:
            return text
        if not is_number(text):
            return None
        number = float(text)
        if as_numbers and number in self._numbers:
            return self._numbers[number]
        return next((code for low, high, code in self._ranges if low <= number <= high), None)

    def label_of(self, text: str) -> str | None:
        """Return the label of a value, or None."""
        code = self.code_of(text)
        return None if code is None else self.labels[code]

    def unused(self, texts: list[str]) -> list[str]:
        """Return the codes that cover none of the values."""
        used = {self.code_of(text) for text in texts}
        return [code for code in self.labels if code not in used]
