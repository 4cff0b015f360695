"""Lookups: tables beside the sources, from which flows take further values by a key."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import polars as pl

from mudanza.core.errors import MoveError, Place, few, nearest
from mudanza.core.sources.reading import INNER, Reader


@dataclass(frozen=True)
class Found:
    """A lookup's values of one column by key: the first and the last that is filled, all different ones, and how many they are."""

    keys: pl.Series
    first: pl.Series
    last: pl.Series
    all: pl.Series
    count: pl.Series


@dataclass
class Lookup:
    """A table to look up in. `keys` are the columns looked up by; with `fold`, capitals and spaces at the ends do not matter."""

    name: str
    keys: tuple[str, ...]
    fold: bool
    open: Callable[[], list[tuple[str, Reader]]]
    renames: dict[str, str] = field(default_factory=dict)
    _rows: pl.DataFrame | None = None
    _found: dict[str, Found] = field(default_factory=dict)

    def key(self, parts: list[pl.Expr]) -> pl.Expr:
        """Values as the one text that is looked up; null where all are blank."""
        plain = [p.str.strip_chars().fill_null("") for p in parts]
        joined = pl.concat_str([p.str.to_lowercase() if self.fold else p for p in plain], separator=INNER)
        return pl.when(pl.any_horizontal([p.str.len_bytes() > 0 for p in plain])).then(joined)

    def values(self, column: str) -> Found:
        """The values of a column. Raises MoveError where the table has no such column or cannot be read whole."""
        if column not in self._found:
            rows = self.rows()
            for asked in (column, *self.keys):
                if asked not in rows.columns:
                    near = nearest(asked, rows.columns)
                    raise MoveError(
                        f"the lookup {self.name!r} has no column {asked!r}.",
                        hint=f"Did you mean {near!r}?" if near else f"It has: {few(rows.columns)}.",
                    )
            grouped = (
                rows.lazy()
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
            self._found[column] = Found(*(grouped[name] for name in ("key", "first", "last", "all", "count")))
        return self._found[column]

    def rows(self) -> pl.DataFrame:
        """All rows of the table, as texts."""
        if self._rows is None:
            parts = []
            for shown, reader in self.open():
                parts.append(
                    pl.DataFrame(schema=dict.fromkeys(reader.headings, pl.String)).rename(self.renames, strict=False)
                )
                for batch in reader.batches():
                    if batch.broken:
                        bad = batch.broken[0]
                        raise MoveError(
                            f"a row of the lookup {self.name!r} is damaged: {bad.value}.",
                            place=Place(shown, bad.line),
                            hint="Mend the file; what cannot be read cannot be looked up.",
                        )
                    parts.append(batch.rows.select(reader.headings).rename(self.renames, strict=False))
            self._rows = pl.concat(parts, how="diagonal") if parts else pl.DataFrame()
        return self._rows
