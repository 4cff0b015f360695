"""Lookups: tables beside the sources, from which flows take further values by a key."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from mudanza.core.documents.errors import MoveError, few, nearest
from mudanza.core.values.row_columns import INNER


@dataclass(frozen=True)
class Lookup:
    """A table to look up in. `keys` are the columns looked up by; with `fold`, capitals and spaces at the ends do not matter."""

    name: str
    keys: tuple[str, ...]
    fold: bool
    rows: pl.DataFrame
    _found: dict[str, pl.DataFrame] = field(default_factory=dict)

    def key(self, parts: list[pl.Expr]) -> pl.Expr:
        """Values as the one text that is looked up; null where all are blank."""
        plain = [p.str.strip_chars().fill_null("") for p in parts]
        joined = pl.concat_str([p.str.to_lowercase() if self.fold else p for p in plain], separator=INNER)
        return pl.when(pl.any_horizontal([p.str.len_bytes() > 0 for p in plain])).then(joined)

    def values(self, column: str) -> pl.DataFrame:
        """The values of a column by key: columns key, first and last (that is filled), all (different ones), and count (how many they are).

        Raises MoveError where the table has no such column.
        """
        if column not in self._found:
            for asked in (column, *self.keys):
                if asked not in self.rows.columns:
                    near = nearest(asked, self.rows.columns)
                    raise MoveError(
                        f"the lookup {self.name!r} has no column {asked!r}.",
                        hint=f"Did you mean {near!r}?" if near else f"It has: {few(self.rows.columns)}.",
                    )
            self._found[column] = (
                self.rows.lazy()
                .select(
                    self.key([pl.col(k) for k in self.keys]).alias("key"),
                    pl.col(column).str.strip_chars().alias("value"),
                )
                .filter(pl.col("key").is_not_null())
                .with_columns(pl.when(pl.col("value") != "").then(pl.col("value")))
                .group_by("key", maintain_order=True)
                .agg(pl.col("value").drop_nulls().unique(maintain_order=True).alias("all"))
                .with_columns(
                    first=pl.col("all").list.first(), last=pl.col("all").list.last(), count=pl.col("all").list.len()
                )
                .collect()
            )
        return self._found[column]
