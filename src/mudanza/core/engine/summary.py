"""All that is counted of the rows of a list. What was counted of two parts is merged into what is counted of both."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from mudanza.core.engine.expectations import Expected, Met
from mudanza.core.engine.identities import Identities
from mudanza.core.engine.totals import Amounts, merged_amounts
from mudanza.core.findings.tally import Tally

#: the ends of rows, as they are told
ENDS = ("read", "skipped", "merged", "held_back", "written")


@dataclass
class Balance:
    """The ends of rows. Every row that was read ends in exactly one of them."""

    read: int = 0
    written: int = 0
    merged: int = 0
    held_back: int = 0
    skipped: dict[str, int] = field(default_factory=dict)

    @property
    def skipped_total(self) -> int:
        return sum(self.skipped.values())

    @property
    def holds(self) -> bool:
        return self.read == self.written + self.skipped_total + self.merged + self.held_back

    def skip(self, rules: Mapping[str, int]) -> None:
        """Count rows skipped by some rules."""
        for rule, count in rules.items():
            self.skipped[rule] = self.skipped.get(rule, 0) + count
        self.skipped = dict(sorted(self.skipped.items()))

    def merge(self, other: Balance) -> None:
        """Count what another balance counted."""
        self.read += other.read
        self.written += other.written
        self.merged += other.merged
        self.held_back += other.held_back
        self.skip(other.skipped)

    def as_dict(self) -> dict[str, int]:
        """The ends by their names, skipped in one sum."""
        return dict(zip(ENDS, (self.read, self.skipped_total, self.merged, self.held_back, self.written), strict=True))


@dataclass
class Summary:
    """What is counted: the ends by source, the findings, the values of columns that nothing uses, what is watched, the
    old identifiers, the rows that came back corrected, by the file they came in, and how many rows were met by what was `said` of rows, by its number."""

    balances: dict[str, Balance] = field(default_factory=dict)
    tally: Tally = field(default_factory=Tally)
    unused: dict[str, int] = field(default_factory=dict)
    expected: Expected = field(default_factory=Expected)
    met: Met = field(default_factory=Met)
    identities: Identities = field(default_factory=Identities)
    corrected: dict[str, int] = field(default_factory=dict)
    said: dict[int, int] = field(default_factory=dict)
    #: by source and field, what the rows come to
    amounts: dict[str, dict[str, Amounts]] = field(default_factory=dict)
    #: by source and field, what the totals add up to that are printed with the rows
    printed: dict[str, dict[str, Decimal]] = field(default_factory=dict)

    def merge(self, later: Summary) -> None:
        """Add what was counted of rows that come after all of these."""
        for source, balance in later.balances.items():
            self.balances.setdefault(source, Balance()).merge(balance)
        self.tally.merge(later.tally)
        for column, count in later.unused.items():
            self.unused[column] = self.unused.get(column, 0) + count
        self.expected.merge(later.expected)
        self.met.merge(later.met)
        self.identities.merge(later.identities)
        for file, count in later.corrected.items():
            self.corrected[file] = self.corrected.get(file, 0) + count
        for source, by_field in later.amounts.items():
            self.amounts[source] = merged_amounts(self.amounts.get(source, {}), by_field)
        for source, sums in later.printed.items():
            mine = self.printed.setdefault(source, {})
            for name, total in sums.items():
                mine[name] = mine.get(name, Decimal(0)) + total
        for number, count in later.said.items():
            self.said[number] = self.said.get(number, 0) + count

    @property
    def total(self) -> Balance:
        """The ends of all rows."""
        total = Balance()
        for one in self.balances.values():
            total.merge(one)
        return total
