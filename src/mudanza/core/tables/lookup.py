"""Lookups: tables beside the sources, from which flows take further values by a key."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

import polars as pl

from mudanza.core.documents.errors import MoveError, few, nearest
from mudanza.core.values.row_columns import BETWEEN

#: the columns of what a lookup has by key
VALUES = ("key", "first", "last", "all", "count")
#: up to so many keys are sought among the rows as they are read
_FEW = 1000


@dataclass(frozen=True)
class Lookup:
    """A table to look up in. `keys` are the columns looked up by; with `fold`, capitals and spaces at the ends do not matter.

    `parts` reads its rows. With `for_few`, they are not held in memory as long as only few keys are asked for.
    """

    name: str
    keys: tuple[str, ...]
    fold: bool
    columns: tuple[str, ...]
    parts: Callable[[], Iterator[pl.DataFrame]]
    for_few: bool = False
    _found: dict[str, pl.DataFrame] = field(default_factory=dict)
    #: the keys that were asked for so far, and the rows that have them
    _asked: set[str] = field(default_factory=set)
    _near: list[pl.DataFrame] = field(default_factory=list)

    def key(self, parts: list[pl.Expr]) -> pl.Expr:
        """Values as the one text that is looked up; null where all are blank."""
        plain = [p.str.strip_chars().fill_null("") for p in parts]
        joined = pl.concat_str([p.str.to_lowercase() if self.fold else p for p in plain], separator=BETWEEN)
        return pl.when(pl.any_horizontal([p.str.len_bytes() > 0 for p in plain])).then(joined)

    def check(self, column: str) -> None:
        """Raise MoveError where the table lacks a column, or one that it is looked up by."""
        for asked in (column, *self.keys):
            if asked not in self.columns:
                near = nearest(asked, list(self.columns))
                raise MoveError(
                    f"the lookup {self.name!r} has no column {asked!r}.",
                    hint=f"Did you mean {near!r}?" if near else f"It has: {few(self.columns)}.",
                )

    def values(self, column: str) -> pl.DataFrame:
        """The values of a column by key, as `VALUES`: first and last (that is filled), all (different ones), and count (how many they are).

        Raises MoveError where the table has no such column, or a row is damaged.
        """
        self.check(column)
        if column not in self._found:
            self._found[column] = self._by_key(self._rows, column)
        return self._found[column]

    def values_for(self, column: str, texts: pl.Series) -> pl.DataFrame:
        """The same at least for some keys. Raises as `values` does."""
        self.check(column)
        fresh = set(texts.drop_nulls().unique()) - self._asked if self.for_few else set()
        if not self.for_few or column in self._found or len(self._asked) + len(fresh) > _FEW:
            return self.values(column)
        if fresh or not self._near:
            self._near.extend(rows.filter(self._key.is_in(list(fresh))) for rows in self.parts())
            self._asked.update(fresh)
        return self._by_key(pl.concat(self._near), column)

    @property
    def _key(self) -> pl.Expr:
        return self.key([pl.col(k) for k in self.keys])

    @cached_property
    def _rows(self) -> pl.DataFrame:
        return pl.concat(self.parts(), how="diagonal")

    def _by_key(self, rows: pl.DataFrame, column: str) -> pl.DataFrame:
        return (
            rows.lazy()
            .select(self._key.alias("key"), pl.col(column).str.strip_chars().alias("value"))
            .filter(pl.col("key").is_not_null())
            .with_columns(pl.when(pl.col("value") != "").then(pl.col("value")))
            .group_by("key", maintain_order=True)
            .agg(pl.col("value").drop_nulls().unique(maintain_order=True).alias("all"))
            .with_columns(
                first=pl.col("all").list.first(), last=pl.col("all").list.last(), count=pl.col("all").list.len()
            )
            .select(VALUES)
            .collect()
        )


@dataclass(frozen=True)
class LookupColumn:
    """A column of a lookup, to be asked for a few of its values (`VALUES`) by key."""

    lookup: Lookup
    column: str
    columns = VALUES

    def find(self, texts: pl.Series) -> pl.DataFrame:
        """What the lookup has for some keys. Raises MoveError where a row of it is damaged."""
        return self.lookup.values_for(self.column, texts)
