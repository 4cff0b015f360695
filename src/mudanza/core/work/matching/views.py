"""What is in a source column, seen in a sample: what it is matched by."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import polars as pl

from mudanza.core.engine.intake import Intake
from mudanza.core.values.written import DATE_LIKE, NUMBER_LIKE, is_placeholder
from mudanza.core.work.matching.looks.contents import LOOKS, contents
from mudanza.core.work.matching.meaning.headings import Headings, Meaning

_SAMPLE = 400
#: fewer values may look like anything
_FEW = 5
_YEAR = re.compile(r"(?:^|\D)((?:18|19|20)\d{2})(?:\D|$)|^((?:19|20)\d{2})(?:0[1-9]|1[0-2])(?:[0-2]\d|3[01])$")
_DECIMAL = re.compile(r"\D*\d+[.,]\d{1,2}\D*")


@dataclass(frozen=True)
class View:
    """A column of one source in a sample of its rows. `values` are the different ones as they stand, the frequent first."""

    source: str
    name: str
    meaning: Meaning
    rows: int
    filled: int
    distinct: int
    values: tuple[str, ...]

    @cached_property
    def texts(self) -> list[str]:
        """The values without spaces at their ends and without placeholders."""
        plain = dict.fromkeys(v.strip() for v in self.values)
        return [v for v in plain if v and not is_placeholder(v)]

    @cached_property
    def placeholders(self) -> list[str]:
        """Values that only pretend to say something."""
        return [
            v
            for v in dict.fromkeys(v.strip() for v in self.values)
            if v and is_placeholder(v) and (len(v) > 1 or self.distinct > 2)
        ]

    @property
    def unique(self) -> bool:
        """Whether it could identify the rows: filled in all but a few, and hardly ever twice."""
        return (
            self.rows > 1
            and self.filled >= 0.95 * self.rows
            and self.distinct >= self.filled - max(1, 0.03 * self.filled)
        )

    @cached_property
    def longest(self) -> int:
        return max((len(t) for t in self.texts), default=0)

    def share(self, fits: re.Pattern[str]) -> float:
        """How many of the values a pattern fits as a whole."""
        return sum(fits.fullmatch(t) is not None for t in self.texts) / len(self.texts) if self.texts else 0.0

    @cached_property
    def contents(self) -> Mapping[str, float]:
        """What the values look like, each kind of content with its share."""
        return contents(self.texts)

    @property
    def looks(self) -> str | None:
        """In words, what the values look like; None if like nothing that is known, or if there are too few to tell."""
        if len(self.texts) < _FEW:
            return None
        return next((words for what, words in LOOKS.items() if self.contents.get(what, 0.0) > 0.7), None)

    @cached_property
    def decimal(self) -> float:
        """How many of the values have one or two decimals."""
        return self.share(_DECIMAL)

    @cached_property
    def years(self) -> list[int]:
        """The years in the values, the first first, if they are dates."""
        if self.dates < 0.6:
            return []
        return sorted(int(m.group(1) or m.group(2)) for t in self.texts if (m := _YEAR.search(t)))

    @cached_property
    def numeric(self) -> float:
        return self.share(NUMBER_LIKE)

    @cached_property
    def dates(self) -> float:
        return self.share(DATE_LIKE)

    @cached_property
    def wordy(self) -> float:
        """How many of the values are made of letters mostly."""
        if not self.texts:
            return 0.0
        return sum(sum(c.isalpha() for c in t) > 0.6 * len(t.replace(" ", "")) for t in self.texts) / len(self.texts)


def views(intake: Intake, understand: Callable[[Sequence[str]], Headings]) -> dict[str, list[View]]:
    """The columns of each source, from its first rows. `understand` gives who reads the headings of one source."""
    parts: dict[str, list[pl.DataFrame]] = {}
    names: dict[str, dict[str, None]] = {}
    for opened, batch in intake.batches(first=True):
        rows = opened.rows(batch, intake.columns)
        parts.setdefault(opened.source.name, []).append(rows)
        names.setdefault(opened.source.name, {}).update(dict.fromkeys(opened.names))
    found: dict[str, list[View]] = {}
    for source, frames in parts.items():
        rows = pl.concat(frames)
        headings = understand(list(names[source]))
        found[source] = [_view(source, name, rows, headings) for name in names[source]]
    return found


def _view(source: str, name: str, rows: pl.DataFrame, headings: Headings) -> View:
    filled = rows[name].drop_nulls()
    filled = filled.filter(filled.str.strip_chars().str.len_bytes() > 0)
    counted = filled.value_counts(sort=True)
    values = tuple(counted[name].head(_SAMPLE).to_list())
    return View(source, name, headings.meaning(name), rows.height, len(filled), counted.height, values)
