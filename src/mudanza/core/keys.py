"""Key books: each old identifier has one new identifier, the same in every run."""

from __future__ import annotations

import io
import re
from dataclasses import dataclass

import numpy as np
import polars as pl

from mudanza.core.errors import MoveError
from mudanza.core.ledger import Ledger
from mudanza.core.sources.reading import INNER
from mudanza.core.unique import HashRuns

_PAGE = 100_000
_SEED = 11
_KEYS = {"identity": pl.String, "key": pl.String}


@dataclass(frozen=True)
class KeyPattern:
    """How a new identifier looks: `OW-{000000}` is a number of at least six digits after `OW-`.

    With `groups`, so many of the first values of an old identifier are its group, and each group is numbered by itself; `{group}` stands
    for them.
    """

    before: str
    digits: int
    after: str
    start: int = 1
    groups: int = 0

    @classmethod
    def of(cls, text: str, start: int = 1, groups: int = 0) -> KeyPattern:
        """Raises MoveError unless there is exactly one run of zeros in braces, and {group} only where there are groups."""
        match = re.fullmatch(r"((?:[^{}]|\{group\})*)\{(0+)\}((?:[^{}]|\{group\})*)", text)
        if not isinstance(groups, int) or isinstance(groups, bool) or groups < 0:
            raise MoveError("groups says how many of the first values make the group.", hint="Write groups = 1.")
        if match and ("{group}" in text) and not groups:
            raise MoveError(
                "the pattern has a {group}, and groups is not said.",
                hint="Write groups = 1: the first value is the group.",
            )
        if not match:
            raise MoveError(
                f"{text!r} is no key pattern.",
                hint='Write the digits as zeros in braces, as in "OW-{000000}".',
            )
        return cls(match.group(1), len(match.group(2)), match.group(3), start, groups)

    def group(self, identities: pl.Expr) -> pl.Expr:
        """The group of old identifiers, as it is written."""
        return identities.str.split(INNER).list.head(self.groups).list.join("-")

    def keys(self, numbers: pl.Expr, identities: pl.Expr) -> pl.Expr:
        """Numbers as identifiers."""
        number = numbers.cast(pl.String).str.zfill(self.digits)
        return pl.concat_str(*self._around(self.before, identities), number, *self._around(self.after, identities))

    def _around(self, text: str, identities: pl.Expr) -> list[pl.Expr]:
        """What stands beside the number, with the group where the pattern has it."""
        first, *others = text.split("{group}")
        return [pl.lit(first), *(part for other in others for part in (self.group(identities), pl.lit(other)))]


class KeyBook:
    """A key book under way in one run: what earlier runs gave out, and what this one adds.

    Nothing reaches the ledger before `save`.
    """

    def __init__(self, name: str, pattern: KeyPattern, ledger: Ledger) -> None:
        self.name = name
        self.pattern = pattern
        pages = ledger.pages(name)
        self._known: list[pl.DataFrame] = [
            pl.read_ipc(io.BytesIO(body)).select("identity", "key") for _, _, body in pages
        ]
        self._last = pages[-1] if pages else None
        self.next = max(pages[-1][1] + 1, pattern.start) if pages else pattern.start
        self._first_new = self.next
        self._given: list[pl.DataFrame] = []
        self._hashes = HashRuns()
        for part in self._known:
            self._hashes.add(np.sort(part["identity"].hash(_SEED).to_numpy()))

    @property
    def given(self) -> int:
        """How many identifiers this run has given out."""
        return self.next - self._first_new

    def all(self) -> pl.DataFrame:
        """Columns identity and key, in the order given."""
        return pl.concat([pl.DataFrame(schema=_KEYS), *self._known])

    def find(self, identities: pl.Series) -> pl.DataFrame:
        """The known keys of identities: columns identity and key, in no order."""
        hashes = np.sort(identities.hash(_SEED).to_numpy())
        if not len(self._hashes.hits(hashes)):
            return pl.DataFrame(schema=_KEYS)
        wanted = identities.to_frame("identity")
        found = [part.join(wanted, on="identity", how="semi") for part in self._known]
        return pl.concat([pl.DataFrame(schema=_KEYS), *found])

    def propose(self, identities: pl.Series, found: pl.DataFrame) -> pl.DataFrame:
        """Keys for those identities that `find` did not find, in their order, without giving them out."""
        fresh = identities.drop_nulls().to_frame("identity")
        if not found.is_empty():
            fresh = fresh.join(found, on="identity", how="anti", maintain_order="left")
        fresh = fresh.unique(maintain_order=True)
        number = pl.int_range(self.next, self.next + pl.len(), dtype=pl.Int64)
        if self.pattern.groups:
            group = self.pattern.group(pl.col("identity")).alias("group")
            fresh = fresh.with_columns(group).join(self._counts(), on="group", how="left", maintain_order="left")
            number = (
                pl.col("identity").cum_count().over("group").cast(pl.Int64)
                + pl.col("given").fill_null(0)
                + (self.pattern.start - 1)
            )
        return fresh.select("identity", self.pattern.keys(number, pl.col("identity")).alias("key"))

    def _counts(self) -> pl.DataFrame:
        """How many identifiers each group has."""
        parts = [p.lazy().select(self.pattern.group(pl.col("identity")).alias("group")) for p in self._known]
        empty = pl.LazyFrame(schema={"group": pl.String})
        return pl.concat([empty, *parts]).group_by("group").agg(pl.len().cast(pl.Int64).alias("given")).collect()

    def give(self, proposed: pl.DataFrame) -> None:
        """Give out what `propose` proposed."""
        if proposed.is_empty():
            return
        self.next += proposed.height
        self._given.append(proposed)
        self._hashes.add(np.sort(proposed["identity"].hash(_SEED).to_numpy()))
        # few large parts are quicker to search than many small ones
        while len(self._known) > 1 and self._known[-1].height <= proposed.height:
            proposed = pl.concat([self._known.pop(), proposed])
        self._known.append(proposed)

    def save(self, ledger: Ledger, run: int) -> None:
        """Write what was given out to the ledger, which this run must hold."""
        if not self._given:
            return
        new = pl.concat(self._given)
        first = self._first_new
        if self._last is not None and self._last[1] - self._last[0] + 1 < _PAGE and self._last[1] + 1 == first:
            new = pl.concat([pl.read_ipc(io.BytesIO(self._last[2])), new])
            first = self._last[0]
        body = io.BytesIO()
        new.write_ipc(body, compression="zstd")
        ledger.put_page(self.name, first, first + new.height - 1, run, body.getvalue())
