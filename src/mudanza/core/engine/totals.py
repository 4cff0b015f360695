"""Control totals: the sums of fields over all rows, by the ends that these come to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal

import polars as pl

from mudanza.core.language.value import Stage
from mudanza.core.values.row_columns import INNER, LINE

_AMOUNT = f"{INNER}amount "


@dataclass(frozen=True)
class Totals:
    """What makes the numbers that are summed: `stages`, and the expressions of `fields` (by their names) after them."""

    stages: tuple[Stage, ...] = ()
    fields: Mapping[str, pl.Expr] = field(default_factory=dict)

    def of(self, made: pl.DataFrame) -> pl.DataFrame:
        """The numbers of rows with the columns of all stages, with their lines."""
        return made.select(LINE, *(expr.alias(_AMOUNT + name) for name, expr in self.fields.items()))


@dataclass(frozen=True)
class Amount:
    """How many rows, how many of them have a number, and the sum of these."""

    rows: int = 0
    numbers: int = 0
    sum: Decimal = Decimal(0)

    def __add__(self, other: Amount) -> Amount:
        return Amount(self.rows + other.rows, self.numbers + other.numbers, self.sum + other.sum)

    def __sub__(self, other: Amount) -> Amount:
        return Amount(self.rows - other.rows, self.numbers - other.numbers, self.sum - other.sum)


#: by end (`summary.ENDS`, added, changed), what the rows come to
Amounts = dict[str, Amount]
#: the ends of written rows in the target
ADDED, CHANGED = "added", "changed"


def amounts(totals: Totals, numbers: pl.DataFrame, damaged: int, ends: Mapping[str, pl.Series]) -> dict[str, Amounts]:
    """By field, what the rows of a batch come to, given their `numbers` (of `Totals.of`), how many more are `damaged`, and the lines of those that ended so; what is in none of
    written, merged and held back was skipped."""
    found = {}
    for name in totals.fields:
        column = numbers[_AMOUNT + name]

        def amount(lines: pl.Series | None, column: pl.Series = column) -> Amount:
            chosen = column if lines is None else column.filter(numbers[LINE].is_in(lines.implode()))
            return Amount(chosen.len(), chosen.count(), Decimal(chosen.sum() or 0))

        by_end = {end: amount(lines) for end, lines in ends.items()}
        by_end["held_back"] += Amount(damaged)
        read = amount(None) + Amount(damaged)
        rest = read
        for end in ("written", "merged", "held_back"):
            rest -= by_end[end]
        found[name] = {"read": read, "skipped": rest, **by_end}
    return found


def printed_sums(totals: Totals, numbers: pl.DataFrame) -> dict[str, Decimal]:
    """By field, what the `numbers` (of `Totals.of`) of printed totals add up to; nothing where none is a number."""
    columns = {name: numbers[_AMOUNT + name] for name in totals.fields}
    return {name: Decimal(column.sum()) for name, column in columns.items() if column.count()}


def merged_amounts(one: Mapping[str, Amounts], other: Mapping[str, Amounts]) -> dict[str, Amounts]:
    """What two parts come to together."""
    found = {name: dict(by_end) for name, by_end in one.items()}
    for name, by_end in other.items():
        mine = found.setdefault(name, {})
        for end, amount in by_end.items():
            mine[end] = mine.get(end, Amount()) + amount
    return found


def sum_of(texts: pl.Series, values: pl.Expr) -> Amount:
    """What texts come to that a layout reads as numbers."""
    numbers = texts.to_frame().select(values.alias("number")).to_series()
    return Amount(numbers.len(), numbers.count(), Decimal(numbers.sum() or 0))
