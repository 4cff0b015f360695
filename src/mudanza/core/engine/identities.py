"""The old identifiers that the written rows of each source asked for."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import polars as pl

from mudanza.core.engine.recipe import Recipe
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import SOURCE

#: hashes of old identifiers, by the source that asks for them and the key book
IdentityHashes = dict[tuple[str, str], list[pl.Series]]


@dataclass
class Identities:
    """The old identifiers asked for, as often as they were."""

    asked: IdentityHashes = field(default_factory=dict)

    def merge(self, later: Identities) -> None:
        """Add those of rows that come after all of these."""
        for by, hashes in later.asked.items():
            self.asked.setdefault(by, []).extend(hashes)

    def each_once(self) -> dict[tuple[str, str], pl.Series]:
        """The hashes by source and key book, each once, in order."""
        return {by: pl.Series("identity", np.unique(pl.concat(hashes).to_numpy())) for by, hashes in self.asked.items()}


def identity_hash(column: str) -> pl.Expr:
    """The hash by which an old identifier is remembered."""
    return fixed_hash([pl.col(column)]).alias("identity")


def asked_for(recipe: Recipe, rows: pl.DataFrame) -> IdentityHashes:
    """What rows ask key books for."""
    found: IdentityHashes = {}
    for mint in recipe.mints:
        asked = rows.select(SOURCE, pl.col(mint.identity).alias("identity")).drop_nulls("identity")
        hashed = asked.select(SOURCE, identity_hash("identity"))
        # the rows of a batch are of one source, but for those that were held back
        of_one = hashed.height and hashed.select((pl.col(SOURCE) == pl.col(SOURCE).first()).all()).item()
        parts = [hashed] if of_one else hashed.partition_by(SOURCE, maintain_order=True) if hashed.height else []
        for part in parts:
            found.setdefault((str(part[SOURCE][0]), mint.book), []).append(part["identity"])
    return found
