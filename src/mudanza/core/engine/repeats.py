"""Which rows repeat a key that an earlier row had: the first is the one with the smallest place."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl

from mudanza.core.values.hashing import fixed_hash

#: longer runs are not merged any more: for a moment that takes twice their memory
_LARGEST_RUN = 1 << 20

#: hashes with the same first bits are told apart by their runs
_FIRST_BITS = 24

Hashes = npt.NDArray[np.unsignedinteger[Any]]


class HashRuns:
    """A growing set of hashes of 64 or 32 bits in a few sorted runs, quick to ask in bulk."""

    def __init__(self) -> None:
        self._runs: list[Hashes] = []
        #: which first bits there are: what is not among them need not be looked for in the runs
        self._begun = np.zeros(1 << _FIRST_BITS, np.bool_)

    def hits(self, wanted: Hashes) -> Hashes:
        """Those of `wanted` (sorted: so that memory is walked through once) that are in the set."""
        found = [wanted[:0]]
        wanted = wanted[self._begun[_first_bits(wanted)]]
        for run in self._runs:
            place = np.minimum(np.searchsorted(run, wanted), len(run) - 1)
            found.append(wanted[run[place] == wanted])
        return np.concatenate(found)

    def add(self, hashes: Hashes) -> None:
        """Add sorted hashes. Runs of like size are merged, so that there are never more than a few."""
        if not len(hashes):
            return
        self._begun[_first_bits(hashes)] = True
        while self._runs and len(self._runs[-1]) <= min(2 * len(hashes), _LARGEST_RUN):
            hashes = np.sort(np.concatenate([self._runs.pop(), hashes]))
        self._runs.append(hashes)


def _first_bits(hashes: Hashes) -> npt.NDArray[np.int64]:
    beyond = hashes.dtype.type(hashes.dtype.itemsize * 8 - _FIRST_BITS)
    return (hashes >> beyond).astype(np.int64)


def key_hashes(parts: Sequence[pl.Expr]) -> tuple[pl.Expr, pl.Expr]:
    """Two independent 64-bit hashes of a key, as columns `key` and `key2`."""
    named = [part.alias(f"k{i}") for i, part in enumerate(parts)]
    whole = pl.struct(named) if len(named) > 1 else named[0]
    return whole.hash(1).alias("key"), whole.hash(2).alias("key2")


class SeenKeys:
    """Remembers the keys of all rows that were accepted, forty bytes a row.

    Two independent 64-bit hashes stand for a key: that two different keys among a thousand million share both has
    a chance below one in 10^20. For each key a number that says where the row stands and a hash of the whole record
    are kept, so that a repeated key can say where the first is, and whether it was the same record.
    """

    def __init__(self) -> None:
        self._known = HashRuns()
        self._rows: list[pl.DataFrame] = []

    @staticmethod
    def prepare(rows: pl.DataFrame, key: list[pl.Expr], record: list[pl.Expr]) -> pl.DataFrame:
        """Columns `key`, `key2` and `record`: hashes of the key and of the whole record of each row (the last one of those that may be kept)."""
        return rows.select(*key_hashes(key), fixed_hash(record).alias("record"))

    def first_seen(self, hashed: pl.DataFrame) -> pl.DataFrame | None:
        """For each row of `prepare`'s result that was given with `where`: where its key was first seen.

        `hashed` has columns key, key2, record, where. Gives columns `first` (null if the key is new) and `same`
        (whether the first was the same record), looking at earlier batches and at earlier rows of this one;
        None if no key is repeated.
        """
        ordered = np.sort(hashed["key"].to_numpy())
        again = bool((ordered[1:] == ordered[:-1]).any())
        hits = self._known.hits(ordered)
        if not again and not len(hits):
            return None
        keys = ["key", "key2"]
        known = [
            part.filter(pl.col("key").is_in(pl.Series(hits).implode())) for part in (self._rows if len(hits) else [])
        ]
        earlier = pl.concat([hashed.clear(), *known]).rename({"where": "was", "record": "was_record"})
        return (
            hashed.join(earlier, on=keys, how="left", maintain_order="left")
            .with_columns(
                pl.coalesce(
                    "was", pl.when(pl.int_range(pl.len()).over(keys) > 0).then(pl.col("where").first().over(keys))
                ).alias("first"),
                pl.coalesce("was_record", pl.col("record").first().over(keys)).alias("first_record"),
            )
            .select("first", (pl.col("record") == pl.col("first_record")).alias("same"))
        )

    def add(self, hashed: pl.DataFrame) -> None:
        """Remember the keys of accepted rows (columns key, key2, record, where), no two alike. Rows of a list without a key have none."""
        hashed = hashed.drop_nulls("key")
        self._known.add(np.sort(hashed["key"].to_numpy()))
        self._rows.append(hashed.select("key", "key2", "record", "where"))
