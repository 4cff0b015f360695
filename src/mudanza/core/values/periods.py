"""Periods of the calendar, as they are written (ISO 8601: 2026, 2026-11, 2026-W48, 2026-11-28; a quarter as 2026-Q4): their first and last day, and the next one."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import date, timedelta

#: the lengths that a period can have, with an example of how each is written
PERIODS = {"day": "2026-11-28", "week": "2026-W48", "month": "2026-11", "quarter": "2026-Q4", "year": "2026"}
_MONTHS = {"month": 1, "quarter": 3, "year": 12}
_WRITTEN = {"month": r"(\d{4})-(\d\d)", "quarter": r"(\d{4})-Q([1-4])", "year": r"(\d{4})", "week": r"(\d{4})-W(\d\d)"}


@dataclass(frozen=True)
class Period:
    """A period of a length (of `PERIODS`), by its first day."""

    length: str
    first: date

    @classmethod
    def of(cls, length: str, text: str) -> Period:
        """Raises ValueError where a text is no period of that length."""
        text = text.strip()
        if length == "day":
            return cls(length, date.fromisoformat(text))
        match = re.fullmatch(_WRITTEN[length], text)
        if match is None:
            raise ValueError(text)
        year, number = int(match.group(1)), int(match.group(2)) if match.lastindex == 2 else 1
        if length == "week":
            return cls(length, date.fromisocalendar(year, number, 1))
        return cls(length, date(year, (number - 1) * _MONTHS[length] + 1, 1))

    @property
    def next(self) -> Period:
        """The period after this one."""
        if self.length in ("day", "week"):
            return Period(self.length, self.first + timedelta(days=7 if self.length == "week" else 1))
        months = self.first.month - 1 + _MONTHS[self.length]
        return Period(self.length, date(self.first.year + months // 12, months % 12 + 1, 1))

    @property
    def last(self) -> date:
        """Its last day."""
        return self.next.first - timedelta(days=1)

    def __str__(self) -> str:
        year, week, _ = self.first.isocalendar()
        written = {
            "day": self.first.isoformat(),
            "week": f"{year:04d}-W{week:02d}",
            "month": f"{self.first:%Y-%m}",
            "quarter": f"{self.first.year:04d}-Q{(self.first.month + 2) // 3}",
            "year": f"{self.first.year:04d}",
        }
        return written[self.length]
