"""Identifiers given to rows: in the total order, to rows that are written alone.

The meaning is that of going through all rows one by one: an old identifier that has none gets the next number when the first row with it is written. A row
that proves not to be written takes no number. So the numbers depend on the rows alone, not on the batches they come in.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import polars as pl

from mudanza.core.engine.recipe import Recipe
from mudanza.core.language.value import Mint
from mudanza.core.tables.key_book import KEYS, KeyBook
from mudanza.core.values.row_columns import AT_ITS_TURN, JOINED, ROW

_NUMBER, _MINT, _GROUP, _FIRST = "number", "mint", "group", "first"
Fresh = dict[str, pl.DataFrame]


@dataclass(frozen=True)
class Numbered:
    """Rows with their identifiers, and those that are new: by key book, in the order given (of `KEYS`)."""

    rows: pl.DataFrame
    fresh: Fresh


def number(
    recipe: Recipe, rows: pl.DataFrame, books: Mapping[str, KeyBook], written: pl.Series | None = None
) -> Numbered:
    """Rows (in the total order, numbered by `ROW`) with the identifiers they have, or would be given next.

    `written` tells which of them are taken to be written (all, if None): only these take numbers; what the others show is what would be theirs at their turn.
    """
    fresh: Fresh = {}
    for name in recipe.books:
        mints = [mint for mint in recipe.mints if mint.book == name]
        rows, fresh[name] = _numbered(books[name], mints, rows, written)
    joined = [
        pl.col(m.identity).is_in(books[m.book].joined.implode()) for m in recipe.key_mints if books[m.book].joined.len()
    ]
    if joined:
        rows = rows.with_columns(pl.any_horizontal(joined).fill_null(False).alias(JOINED))
    return Numbered(rows, fresh)


def same_numbers(one: Fresh, other: Fresh) -> bool:
    """Whether two attempts give the same new identifiers."""
    return all(other[name]["identity"].equals(rows["identity"]) for name, rows in one.items())


def _numbered(
    book: KeyBook, mints: list[Mint], rows: pl.DataFrame, written: pl.Series | None
) -> tuple[pl.DataFrame, pl.DataFrame]:
    asked = _asked(mints, rows, written)
    known = book.find(asked["identity"])
    unknown = asked if known.is_empty() else asked.join(known, on="identity", how="anti", maintain_order="left")
    takers = unknown if written is None else unknown.filter("written")
    fresh = _with_keys(book, _each_once(takers))
    keys = fresh.select(list(KEYS))
    if len(mints) == 1 and keys.height == rows.height:
        # every row has an identity of its own that is new: the keys stand in row order already
        return rows.with_columns(keys["key"].alias(mints[0].key)), keys
    every = pl.concat([known, keys])
    for mint in mints:
        named = every.rename({"identity": mint.identity, "key": mint.key})
        rows = rows.join(named, on=mint.identity, how="left", maintain_order="left")
    if written is not None and not written.all():
        others = _at_their_turn(book, unknown.filter(~pl.col("written")), fresh)
        for number, mint in enumerate(mints):
            theirs = others.filter(pl.col(_MINT) == number).select(pl.col(ROW), pl.col("key").alias(AT_ITS_TURN))
            rows = rows.join(theirs, on=ROW, how="left", maintain_order="left")
            rows = rows.with_columns(pl.coalesce(AT_ITS_TURN, mint.key).alias(mint.key)).drop(AT_ITS_TURN)
    return rows, keys


def _each_once(rows: pl.DataFrame) -> pl.DataFrame:
    """The first row of each identity."""
    hashes = np.sort(rows["identity"].hash().to_numpy())
    if not (hashes[1:] == hashes[:-1]).any():
        # where no two hashes are alike, no two texts are
        return rows
    return rows.unique("identity", keep="first", maintain_order=True)


def _asked(mints: list[Mint], rows: pl.DataFrame, written: pl.Series | None) -> pl.DataFrame:
    """The old identifiers in the total order: by row, and within a row in the order of the fields."""
    flags = pl.lit(True) if written is None else pl.lit(written)
    parts = [
        rows.select(
            pl.col(ROW), pl.lit(number).alias(_MINT), pl.col(mint.identity).alias("identity"), flags.alias("written")
        )
        for number, mint in enumerate(mints)
    ]
    asked = pl.concat(parts).drop_nulls("identity")
    return asked if len(parts) == 1 else asked.sort(ROW, _MINT)


def _with_keys(book: KeyBook, firsts: pl.DataFrame) -> pl.DataFrame:
    """Each identity's first row, with its group, its number among the new ones of that group, and its key."""
    counted = _grouped(book, firsts).with_columns(
        (pl.int_range(pl.len(), dtype=pl.Int64).over(_GROUP) + 1).alias(_NUMBER)
        if book.pattern.groups
        else pl.int_range(1, pl.len() + 1, dtype=pl.Int64).alias(_NUMBER)
    )
    return _keyed(book, counted)


def _grouped(book: KeyBook, rows: pl.DataFrame) -> pl.DataFrame:
    group = book.pattern.group(pl.col("identity")) if book.pattern.groups else pl.lit("")
    return rows.with_columns(group.alias(_GROUP))


def _keyed(book: KeyBook, rows: pl.DataFrame) -> pl.DataFrame:
    """Rows with the identifier for their number among the new ones of their group."""
    number = pl.col(_NUMBER) + (book.next - 1)
    if book.pattern.groups:
        counts = book.group_counts()
        before = pl.DataFrame(
            {_GROUP: list(counts), "given": list(counts.values())}, schema={_GROUP: pl.String, "given": pl.Int64}
        )
        rows = rows.join(before, on=_GROUP, how="left", maintain_order="left")
        number = pl.col(_NUMBER) + pl.col("given").fill_null(0) + (book.per_group + book.pattern.start - 1)
    return rows.with_columns(book.pattern.keys(number, pl.col("identity")).alias("key"))


def _at_their_turn(book: KeyBook, others: pl.DataFrame, fresh: pl.DataFrame) -> pl.DataFrame:
    """What rows that take no number would have been given: what a row before them was given, or else the next of their group."""
    earlier = fresh.select("identity", pl.col(ROW).alias(_FIRST), pl.col("key").alias("given_key"))
    rows = _grouped(book, others).join(earlier, on="identity", how="left", maintain_order="left")
    rows = rows.with_columns(pl.when(pl.col(_FIRST) < pl.col(ROW)).then("given_key").alias("given_key"))
    waiting = rows.filter(pl.col("given_key").is_null()).unique([ROW, "identity"], keep="first", maintain_order=True)
    before = fresh.select(ROW, _GROUP, pl.col(_NUMBER).alias("before")).sort(ROW)
    waiting = (
        waiting.sort(ROW)
        .join_asof(before, on=ROW, by=_GROUP, strategy="backward", allow_exact_matches=False, check_sortedness=False)
        .with_columns(
            (pl.col("before").fill_null(0) + pl.int_range(pl.len(), dtype=pl.Int64).over(ROW, _GROUP) + 1).alias(
                _NUMBER
            )
        )
    )
    keyed = _keyed(book, waiting).select(ROW, "identity", pl.col("key").alias("next_key"))
    rows = rows.join(keyed, on=[ROW, "identity"], how="left", maintain_order="left")
    return rows.select(ROW, _MINT, pl.coalesce("given_key", "next_key").alias("key"))
