"""What a survey tells of one column."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

#: hashes of values and how often each stands
HASHES = {"h": pl.UInt64, "n": pl.UInt32}
Counts = list[tuple[str, int]]


@dataclass
class ColumnFacts:
    """What is in a column.

    `distinct_exact` is false where the number is an estimate; `odd` are values that do not fit the kind most of them have; `least`
    and `most` the extremes, by value for numbers and dates; `frequent`, `shapes` and `placeholders` come with how often
    they stand. `several` is a separator and how many cells have it; `date_orders` how many dates can only have the day first, only the
    month first, or either; `total` is the sum of a number column.
    """

    name: str
    heading: str
    filled: int = 0
    distinct: int = 0
    distinct_exact: bool = True
    kind: str = "blank"
    kind_share: float = 1.0
    shortest: int | None = None
    longest: int | None = None
    least: str | None = None
    most: str | None = None
    samples: list[str] = field(default_factory=list)
    odd: list[str] = field(default_factory=list)
    frequent: Counts = field(default_factory=list)
    shapes: Counts = field(default_factory=list)
    placeholders: Counts = field(default_factory=list)
    spaces: int = 0
    leading_zeros: int = 0
    zeros_lost: bool = False
    several: tuple[str, int] | None = None
    date_orders: tuple[int, int, int] | None = None
    control: tuple[int, str] | None = None
    total: str | None = None
    hashes: pl.DataFrame = field(default_factory=lambda: pl.DataFrame(schema=HASHES), repr=False)

    @property
    def constant(self) -> bool:
        return self.distinct == 1 and self.filled > 1

    @property
    def pretending(self) -> int:
        """How many values only pretend to be filled."""
        return sum(count for _, count in self.placeholders)
