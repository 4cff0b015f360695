"""Key books: each old identifier has one new identifier, the same in every run."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from mudanza.core.tables.key_pattern import KeyPattern
from mudanza.core.tables.sorted_rows import SortedRows, find_in

#: columns of a key book: the old identifier (as `identity` makes it) and the new one
KEYS = {"identity": pl.String, "key": pl.String}


@dataclass(frozen=True)
class GivenKeys:
    """The identifiers that a key book has given, as they are at one time."""

    parts: tuple[SortedRows, ...]
    columns = tuple(KEYS)

    def find(self, identities: pl.Series) -> pl.DataFrame:
        """The identifiers given to some old ones, in no order (and those of others that share a hash with them, which
        is all but impossible).
        """
        return pl.concat([pl.DataFrame(schema=KEYS), *find_in(self.parts, identities)])


class KeyBook:
    """A key book under way in one run: what earlier runs gave out, and what this one adds.

    `known` are the identifiers given before, in the order given (frames of `KEYS`), `last` the number of the last of them. `taken` are those that were ever given or entered, whoever has them
    now, if not all came by number; `per_group` how many numbers of each group are kept free beside those that are
    known; `joined` old identifiers that share their new one with others, because they are of one record.
    """

    def __init__(
        self,
        name: str,
        pattern: KeyPattern,
        known: Sequence[pl.DataFrame] = (),
        last: int | None = None,
        *,
        taken: pl.DataFrame | None = None,
        joined: pl.Series | None = None,
        per_group: int = 0,
    ) -> None:
        self.name = name
        self.pattern = pattern
        self.joined = pl.Series("identity", [], dtype=pl.String) if joined is None else joined
        self._taken = taken
        self.per_group = per_group
        self.next = pattern.start if last is None else max(last + 1, pattern.start)
        if taken is not None and not pattern.groups:
            # a number that stands in an entry is given to nobody else
            self.next = max(self.next, 1 + int(taken.select(pattern.numbers(pl.col("key")).max()).item() or 0))
        self._first_new = self.next
        self._known = list(known)
        self._new: list[pl.DataFrame] = []
        # in one piece, since each of many would have to be asked
        self._sorted = [SortedRows.of(pl.concat(known, rechunk=True), "identity")] if known else []
        self._groups: dict[str, int] | None = None

    @property
    def given(self) -> int:
        """How many identifiers this run has given out."""
        return self.next - self._first_new

    def all(self) -> pl.DataFrame:
        """All identifiers in the order given, those of this run too."""
        return pl.concat([pl.DataFrame(schema=KEYS), *self._known, *self._new])

    def taken(self) -> pl.DataFrame:
        """All identifiers that anybody ever had (frames of `KEYS`), whoever has them now."""
        return self.all() if self._taken is None else pl.concat([self._taken, *self._new])

    def new(self) -> pl.DataFrame:
        """The identifiers that this run has given out, in the order given."""
        return pl.concat([pl.DataFrame(schema=KEYS), *self._new])

    @property
    def now(self) -> GivenKeys:
        """What it has given by now; what it gives later does not change that."""
        return GivenKeys(tuple(self._sorted))

    def find(self, identities: pl.Series) -> pl.DataFrame:
        """The identifiers given to some old ones, as `GivenKeys.find` does."""
        return self.now.find(identities)

    def group_counts(self) -> dict[str, int]:
        """How many identifiers each group has; empty for a book without groups."""
        if self._groups is None:
            self._groups = {}
            if self.pattern.groups:
                self._count(self.taken().unique("key"))
                self._skip_entered()
        return self._groups

    def _skip_entered(self) -> None:
        """Numbers of a group that stand in entries are given to nobody else."""
        if self._taken is None or self._groups is None:
            return
        numbers = self._taken.select(
            self.pattern.group(pl.col("identity")).alias("group"), self.pattern.numbers(pl.col("key")).alias("number")
        )
        for group, number in numbers.drop_nulls().group_by("group").max().iter_rows():
            self._groups[group] = max(self._groups.get(group, 0), number - self.pattern.start + 1)

    def copy(self) -> KeyBook:
        """The same book, to be tried out on its own."""
        other = KeyBook(self.name, self.pattern, joined=self.joined, per_group=self.per_group)
        other._taken = self._taken
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
        part = SortedRows.of(fresh, "identity")
        while self._sorted and len(self._sorted[-1].hashes) <= 2 * len(part.hashes):
            part = self._sorted.pop().with_(part)
        self._sorted.append(part)
