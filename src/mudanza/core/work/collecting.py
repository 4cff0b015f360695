"""What is kept of a list while it is made: whoever wants something of its parts takes each in turn."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

import polars as pl
from polars._typing import SchemaDict

from mudanza.core.engine.early import MISSED
from mudanza.core.engine.local import Part
from mudanza.core.findings.finding import Finding
from mudanza.core.values.row_columns import BETWEEN, WHERE
from mudanza.core.work.accepted import accepted_cells, not_in_build, of_interest
from mudanza.core.work.loans.lent import KEY
from mudanza.core.work.prepared import Prepared


class Collector(Protocol):
    """Whoever takes the parts of a list, in the total order."""

    def take(self, part: Part) -> None:
        """Take a part."""
        ...


@dataclass(frozen=True)
class Gathered:
    """What is chosen of each part."""

    schema: SchemaDict
    choose: Callable[[Part], pl.DataFrame]
    _rows: list[pl.DataFrame] = field(default_factory=list)

    def take(self, part: Part) -> None:
        """Take a part."""
        self._rows.append(self.choose(part))

    @property
    def rows(self) -> pl.DataFrame:
        """All of it."""
        return pl.concat([pl.DataFrame(schema=self.schema), *self._rows])


def texts_of(titles: Sequence[str]) -> Gathered:
    """The texts of some fields of written records."""
    return Gathered(dict.fromkeys(titles, pl.String), lambda part: part.written.select(titles))


def places_of() -> Gathered:
    """The places of written records (`WHERE`)."""
    return Gathered({WHERE: pl.Int64}, lambda part: part.places.to_frame(WHERE))


@dataclass(frozen=True)
class HandedOn:
    """What other lists of the run may ask of a list: the texts that they look up in or refer to, and, of one with a
    key, the rows that are not written."""

    offered: Gathered | None
    missed: Gathered | None

    @classmethod
    def of(cls, ready: Prepared, wanted: Mapping[str, Collection[str]]) -> HandedOn:
        """What is asked of a list, given the headings that are `wanted` of each."""
        titles = [title for title in ready.recipe.titles if title in wanted.get(ready.plan.name, ())]
        return cls(
            texts_of(titles) if titles else None,
            Gathered(MISSED, lambda part: part.missed.select(list(MISSED))) if ready.recipe.key else None,
        )

    @property
    def collectors(self) -> list[Gathered]:
        """All of it."""
        return [one for one in (self.offered, self.missed) if one is not None]

    def hand_on(self, ready: Prepared, staying: Callable[[], pl.DataFrame] | None) -> None:
        """Let other lists find what was made, and the records that stay in the target beside it, if it is handed over
        so.
        """
        tables, name = ready.tables, ready.plan.name
        if tables.makes_several and self.missed is not None:
            tables.not_written(name, ready.recipe.known.book, self.missed.rows)
        if self.offered is not None:
            offered = self.offered.rows
            more = [] if staying is None else [staying().select(offered.columns)]
            tables.made(name, pl.concat([offered, *more]))


@dataclass(frozen=True)
class Kept:
    """What is kept of a list's records to be compared with something: all of them, if they are compared with those of
    the build before; and of one with a key their keys and hashes, the records that cells were accepted of from loans
    (`lent`), and the keys that people corrected something of."""

    records: Gathered | None
    sent: Gathered | None
    lent: pl.DataFrame
    of_loans: Gathered | None
    corrected: Gathered | None

    @classmethod
    def of(cls, ready: Prepared, *, whole: bool) -> Kept:
        """What is kept of a list, with all its records if they are wanted `whole`."""
        titles, keys = ready.recipe.titles, ready.plan.layout.key_titles
        lent, corrections = accepted_cells(ready.tables.ledger, ready.plan.name), ready.recipe.corrections

        def of_loans(part: Part) -> pl.DataFrame:
            return of_interest(lent, part.written.select(titles), keys)

        def by_people(part: Part) -> pl.DataFrame:
            return part.keys.filter(part.keys.is_in(corrections.cells["key"].implode())).to_frame("key")

        return cls(
            texts_of(titles) if whole else None,
            Gathered({"key": pl.String, "record": pl.UInt64}, lambda part: part.sent) if keys else None,
            lent,
            Gathered(dict.fromkeys([*titles, KEY], pl.String), of_loans) if keys and lent.height else None,
            Gathered({"key": pl.String}, by_people) if keys and corrections else None,
        )

    @property
    def collectors(self) -> list[Gathered]:
        """All of it."""
        return [one for one in (self.records, self.sent, self.of_loans, self.corrected) if one is not None]

    def findings(self, ready: Prepared, shown: str) -> list[Finding]:
        """What people corrected of records that were not written, and what was accepted from loans and the sources do
        not know of.
        """
        found = []
        if self.corrected is not None:
            cells, file = ready.recipe.corrections.cells, ready.recipe.corrections.file
            unused = cells.filter(~pl.col("key").is_in(self.corrected.rows["key"].implode()))
            found += [
                Finding("correction.unused", file, line, field=title, value=key.replace(BETWEEN, ", "))
                for key, title, line in unused.select("key", "field", "line").iter_rows()
            ]
        if self.of_loans is not None:
            found += not_in_build(ready.plan, shown, self.lent, self.of_loans.rows)
        return found
