"""Rows that are found by a text, a few of many at a time."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import polars as pl

_SEED = 11


@dataclass(frozen=True)
class SortedRows:
    """Some rows, and their places in the order of the hashes of a `column` of theirs, so that a few of them are found without looking at all."""

    column: str
    hashes: npt.NDArray[np.uint64]
    places: npt.NDArray[np.uint32]
    rows: pl.DataFrame

    @property
    def columns(self) -> list[str]:
        return self.rows.columns

    @classmethod
    def of(cls, rows: pl.DataFrame, column: str) -> SortedRows:
        """Rows to be found by a column of texts."""
        hashes = rows[column].hash(_SEED)
        # on all processors, which NumPy's own sorting does not use
        places = hashes.arg_sort()
        return cls(column, hashes.gather(places).to_numpy(), places.to_numpy(), rows)

    def with_(self, other: SortedRows) -> SortedRows:
        """These rows and others, by the same column."""
        hashes = np.concatenate([self.hashes, other.hashes])
        places = np.concatenate([self.places, other.places + self.rows.height])
        # two sorted runs are merged quickly by a stable sort
        order = np.argsort(hashes, kind="stable")
        rows = pl.concat([self.rows, other.rows], rechunk=False)
        return SortedRows(self.column, hashes[order], places[order], rows)

    def find(self, texts: pl.Series) -> pl.DataFrame:
        """The rows that have some texts, in no order (and those of others that share a hash with them, which is all but impossible)."""
        return self.near(wanted_hashes(texts))

    def near(self, wanted: npt.NDArray[np.uint64]) -> pl.DataFrame:
        """The rows that have one of the hashes wanted, which are sorted."""
        if not len(self.hashes):
            return self.rows
        place = np.minimum(np.searchsorted(self.hashes, wanted), len(self.hashes) - 1)
        low = place[self.hashes[place] == wanted]
        low = low[np.diff(low, prepend=-1) > 0]
        high = np.searchsorted(self.hashes, self.hashes[low], "right")
        found = [low]
        # two texts with one hash are all but impossible, and yet are told apart
        while (low := low + 1)[low < high].size:
            found.append(low[low < high])
        return self.rows.select(pl.all().gather(self.places[np.concatenate(found)]))


def wanted_hashes(texts: pl.Series) -> npt.NDArray[np.uint64]:
    """The hashes of texts, sorted: so memory is walked through once."""
    return np.sort(texts.drop_nulls().hash(_SEED).to_numpy())


def find_in(parts: Sequence[SortedRows], texts: pl.Series) -> list[pl.DataFrame]:
    """The rows of several parts that have some texts."""
    hashes = wanted_hashes(texts)
    return [near for part in parts if (near := part.near(hashes)).height]
