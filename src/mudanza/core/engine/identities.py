"""The old identifiers that a source's written rows asked for, and how many of them were new."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import polars as pl

from mudanza.core.engine.recipe import Recipe
from mudanza.core.values.hashing import fixed_hash


@dataclass
class Identities:
    """By source and key book: hashes of the old identifiers asked for, as often as they were, and how many new ones were given."""

    asked: dict[tuple[str, str], list[pl.Series]] = field(default_factory=dict)
    new: dict[tuple[str, str], int] = field(default_factory=dict)

    def see(self, source: str, asked: Mapping[str, pl.Series], given: Mapping[str, int]) -> None:
        """Take in what the rows of a batch asked for and were given, by key book."""
        for book, hashes in asked.items():
            self.asked.setdefault((source, book), []).append(hashes)
            self.new[source, book] = self.new.get((source, book), 0) + given[book]

    def merge(self, later: Identities) -> None:
        """Add those of rows that come after all of these."""
        for at, hashes in later.asked.items():
            self.asked.setdefault(at, []).extend(hashes)
            self.new[at] = self.new.get(at, 0) + later.new[at]

    def each_once(self) -> dict[tuple[str, str], pl.Series]:
        """The hashes of the old identifiers asked for, each once, in order."""
        return {at: pl.concat(hashes).unique().sort() for at, hashes in self.asked.items()}


def asked_for(recipe: Recipe, rows: pl.DataFrame) -> dict[str, pl.Series]:
    """Hashes of the old identifiers that rows ask key books for."""
    return {
        book: pl.concat(
            rows.select(pl.col(mint.identity).alias("identity"))
            .drop_nulls()
            .select(fixed_hash([pl.col("identity")]).alias("identity"))
            .to_series()
            for mint in recipe.mints
            if mint.book == book
        )
        for book in recipe.books
    }
