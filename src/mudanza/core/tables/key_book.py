"""Key books: each old identifier has one new identifier, the same in every run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import polars as pl

from mudanza.core.tables.key_pattern import KeyPattern

#: columns of a key book: the old identifier (as `identity` makes it) and the new one
KEYS = {"identity": pl.String, "key": pl.String}
_SEED = 11


class KeyBook:
    """A key book under way in one run: what earlier runs gave out, and what this one adds.

    `known` are the identifiers given before, in the order given (frames of `KEYS`), `last` the number of the last of them.
    """

    def __init__(
        self, name: str, pattern: KeyPattern, known: Sequence[pl.DataFrame] = (), last: int | None = None
    ) -> None:
        self.name = name
        self.pattern = pattern
        self.next = pattern.start if last is None else max(last + 1, pattern.start)
        self._first_new = self.next
        self._known = list(known)
        self._new: list[pl.DataFrame] = []
        self._sorted = [_Sorted.of(part) for part in known]
        self._groups: dict[str, int] | None = None

    @property
    def given(self) -> int:
        """How many identifiers this run has given out."""
        return self.next - self._first_new

    def all(self) -> pl.DataFrame:
        """All identifiers in the order given, those of this run too."""
        return pl.concat([pl.DataFrame(schema=KEYS), *self._known, *self._new])

    def new(self) -> pl.DataFrame:
        """The identifiers that this run has given out, in the order given."""
        return pl.concat([pl.DataFrame(schema=KEYS), *self._new])

    def find(self, identities: pl.Series) -> pl.DataFrame:
        """The identifiers given to some old ones, in no order (and those of others that share a hash with them, which is all but impossible)."""
        # in order, memory is walked through once
        hashes = np.sort(identities.drop_nulls().hash(_SEED).to_numpy())
        found = [near for part in self._sorted if (near := part.near(hashes)).height]
        return pl.concat([pl.DataFrame(schema=KEYS), *found])

    def group_counts(self) -> dict[str, int]:
        """How many identifiers each group has; empty for a book without groups."""
        if self._groups is None:
            self._groups = {}
            if self.pattern.groups:
                self._count(self.all())
        return self._groups

    def copy(self) -> KeyBook:
        """The same book, to be tried out on its own."""
        other = KeyBook(self.name, self.pattern)
        other.next, other._first_new = self.next, self._first_new
        other._known, other._new, other._sorted = [*self._known], [*self._new], [*self._sorted]
        other._groups = None if self._groups is None else dict(self._groups)
        return other

    def _count(self, given: pl.DataFrame) -> None:
        counts = given.group_by(self.pattern.group(pl.col("identity")).alias("group")).len()
        assert self._groups is not None
        for group, count in counts.iter_rows():
            self._groups[group] = self._groups.get(group, 0) + count

    def give(self, fresh: pl.DataFrame) -> None:
        """Give out new identifiers (of `KEYS`), which nobody had before."""
        if fresh.is_empty():
            return
        if self.pattern.groups:
            self.group_counts()
            self._count(fresh)
        self.next += fresh.height
        self._new.append(fresh)
        # few large parts are quicker to search than many small ones
        part = _Sorted.of(fresh)
        while self._sorted and len(self._sorted[-1].hashes) <= 2 * len(part.hashes):
            part = self._sorted.pop().with_(part)
        self._sorted.append(part)


@dataclass(frozen=True)
class _Sorted:
    """Some rows of a key book, and their places in the order of their hashes, so that a few of them are found without looking at all."""

    hashes: npt.NDArray[np.uint64]
    places: npt.NDArray[np.int64]
    rows: pl.DataFrame

    @classmethod
    def of(cls, rows: pl.DataFrame) -> _Sorted:
        hashes = rows["identity"].hash(_SEED).to_numpy()
        places = np.argsort(hashes)
        return cls(hashes[places], places, rows)

    def with_(self, other: _Sorted) -> _Sorted:
        hashes = np.concatenate([self.hashes, other.hashes])
        places = np.concatenate([self.places, other.places + self.rows.height])
        # two sorted runs are merged quickly by a stable sort
        order = np.argsort(hashes, kind="stable")
        return _Sorted(hashes[order], places[order], pl.concat([self.rows, other.rows], rechunk=False))

    def near(self, wanted: npt.NDArray[np.uint64]) -> pl.DataFrame:
        """The rows that have one of the hashes wanted, which are sorted."""
        if not len(self.hashes):
            return self.rows
        place = np.minimum(np.searchsorted(self.hashes, wanted), len(self.hashes) - 1)
        low = place[self.hashes[place] == wanted]
        low = low[np.diff(low, prepend=-1) > 0]
        high = np.searchsorted(self.hashes, self.hashes[low], "right")
        found = [low]
        # two identities with one hash are all but impossible, and yet are told apart
        while (low := low + 1)[low < high].size:
            found.append(low[low < high])
        return self.rows.select(pl.all().gather(self.places[np.concatenate(found)]))
