"""The old identifiers that the written rows of each source asked for."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from mudanza.core.engine.recipe import Recipe
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import SOURCE

#: the source that a row is of, the key book, and the hash of an old identifier
ASKED = {SOURCE: pl.String, "book": pl.String, "identity": pl.UInt64}


@dataclass
class Identities:
    """Hashes of the old identifiers asked for, as often as they were (frames of `ASKED`)."""

    asked: list[pl.DataFrame] = field(default_factory=list)

    def merge(self, later: Identities) -> None:
        """Add those of rows that come after all of these."""
        self.asked += later.asked

    def each_once(self) -> dict[tuple[str, str], pl.Series]:
        """The hashes by source and key book, each once, in order."""
        every = pl.concat([pl.DataFrame(schema=ASKED), *self.asked])
        by = every.partition_by(SOURCE, "book", as_dict=True, maintain_order=True)
        return {(str(source), str(book)): rows["identity"].unique().sort() for (source, book), rows in by.items()}


def identity_hash(column: str) -> pl.Expr:
    """The hash by which an old identifier is remembered."""
    return fixed_hash([pl.col(column)]).alias("identity")


def asked_for(recipe: Recipe, rows: pl.DataFrame) -> pl.DataFrame:
    """What rows ask key books for, as a frame of `ASKED`."""
    parts = [
        rows.select(SOURCE, pl.lit(mint.book).alias("book"), pl.col(mint.identity).alias("identity"))
        .drop_nulls("identity")
        .with_columns(identity_hash("identity"))
        for mint in recipe.mints
    ]
    return pl.concat([pl.DataFrame(schema=ASKED), *parts])
