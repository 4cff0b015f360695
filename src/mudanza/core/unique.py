"""Which rows repeat a key that an earlier row had, told batch by batch."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import polars as pl

_Hashes = npt.NDArray[np.uint64]


class SeenKeys:
    """Remembers the keys of all rows that were accepted, sixteen bytes a row, in sorted runs.

    Two independent 64-bit hashes stand for a key: that two different keys among a thousand million share both has
    a chance below one in 10^20. For each key the line and a hash of the whole record are kept, so that a repeated key can say
    where the first is, and whether it was the same record.
    """

    def __init__(self) -> None:
        self._runs: list[pl.DataFrame] = []
        self._hashes: list[_Hashes] = []

    @staticmethod
    def prepare(rows: pl.DataFrame, key: list[pl.Expr], record: list[pl.Expr]) -> pl.DataFrame:
        """Columns `key`, `key2` and `record`: hashes of the key and of the whole record of each row."""

        def mixed(parts: list[pl.Expr], seed: int) -> pl.Expr:
            return pl.struct(parts).hash(seed) if len(parts) > 1 else parts[0].hash(seed)

        named = [part.alias(f"k{i}") for i, part in enumerate(key)]
        whole = [part.alias(f"r{i}") for i, part in enumerate(record)]
        return rows.select(mixed(named, 1).alias("key"), mixed(named, 2).alias("key2"), mixed(whole, 3).alias("record"))

    def first_seen(self, hashed: pl.DataFrame) -> pl.DataFrame:
        """For each row of `prepare`'s result that was given with `where`: where its key was first seen.

        `hashed` has columns key, key2, record, where. Gives columns `first` (null if the key is new) and `same`
        (whether the first was the same record), looking at earlier batches and at earlier rows of this one.
        """
        keys = ["key", "key2"]
        column = hashed["key"].to_numpy()
        order = np.argsort(column)
        ordered = column[order]
        if len(ordered) and (ordered[1:] == ordered[:-1]).any():
            earlier = hashed.select(
                pl.when(pl.int_range(pl.len()).over(keys) > 0).then(pl.col("where").first().over(keys)).alias("first"),
                (pl.col("record") == pl.col("record").first().over(keys)).alias("same"),
            )
        else:
            earlier = hashed.select(pl.lit(None, dtype=pl.Int64).alias("first"), pl.lit(False).alias("same"))
            earlier = earlier.clear(hashed.height).with_columns(pl.col("same").fill_null(False))
        for hashes, run in zip(self._hashes, self._runs, strict=True):
            # sorted needles walk through memory once
            place = np.minimum(np.searchsorted(hashes, ordered), len(hashes) - 1)
            hit = np.zeros(len(column), dtype=bool)
            hit[order] = hashes[place] == ordered
            if not hit.any():
                continue
            known = (
                hashed.with_row_index("row")
                .filter(pl.Series(hit))
                .join(run, on=keys, how="inner", suffix="_first")
                .select(
                    pl.col("row"),
                    pl.col("where_first").alias("was"),
                    (pl.col("record") == pl.col("record_first")).alias("alike"),
                )
            )
            earlier = (
                earlier.with_row_index("row")
                .join(known, on="row", how="left", maintain_order="left")
                .select(
                    pl.coalesce("was", "first").alias("first"),
                    pl.when(pl.col("was").is_not_null()).then("alike").otherwise("same").alias("same"),
                )
            )
        return earlier

    def add(self, hashed: pl.DataFrame) -> None:
        """Remember the keys of accepted rows (columns key, key2, record, where)."""
        if hashed.is_empty():
            return
        run = hashed.select("key", "key2", "record", "where").sort("key")
        # runs of like size are merged, so that there are never more than a few
        while self._runs and self._runs[-1].height <= 2 * run.height:
            run = pl.concat([self._runs.pop(), run]).sort("key")
            self._hashes.pop()
        self._runs.append(run)
        self._hashes.append(run["key"].to_numpy())
