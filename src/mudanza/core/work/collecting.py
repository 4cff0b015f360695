"""What is kept of a list while it is made: whoever wants something of its parts takes each in turn."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, fields
from typing import Protocol

import polars as pl
from polars._typing import SchemaDict

from mudanza.core.engine.early import MISSED
from mudanza.core.engine.local import Part
from mudanza.core.findings.finding import Finding
from mudanza.core.values.row_columns import BETWEEN
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


@dataclass(frozen=True)
class Kept:
    """What is kept of a list's records for what comes after it. Of a list without a key nothing is known again."""

    #: the headings that other lists look up in, or refer to
    offered: Gathered | None = None
    #: all of them, to be compared with those of the build before
    records: Gathered | None = None
    #: keys and hashes
    sent: Gathered | None = None
    #: the rows that are not written
    missed: Gathered | None = None
    #: the records that cells were accepted of from loans
    of_loans: Gathered | None = None
    #: the keys that people corrected something of
    corrected: Gathered | None = None

    @classmethod
    def of(cls, ready: Prepared, wanted: Sequence[str], *, whole: bool) -> Kept:
        """What is kept of a list of which others want some headings; `whole` records if they are to be compared."""
        titles, keys = ready.recipe.titles, ready.plan.layout.key_titles
        lent = accepted_cells(ready.tables.ledger, ready.plan.name)
        corrected = (
            ready.recipe.corrections.cells["key"] if ready.recipe.corrections else pl.Series([], dtype=pl.String)
        )

        def of_loans(part: Part) -> pl.DataFrame:
            return of_interest(lent, part.written.select(titles), keys)

        def by_people(part: Part) -> pl.DataFrame:
            return part.keys.filter(part.keys.is_in(corrected.implode())).to_frame("key")

        texts = dict.fromkeys(titles, pl.String)
        return cls(
            texts_of(wanted) if wanted else None,
            texts_of(titles) if whole else None,
            Gathered({"key": pl.String, "record": pl.UInt64}, lambda part: part.sent) if keys else None,
            Gathered(MISSED, lambda part: part.missed.select(list(MISSED))) if keys else None,
            Gathered({**texts, KEY: pl.String}, of_loans) if keys and lent.height else None,
            Gathered({"key": pl.String}, by_people) if keys and corrected.len() else None,
        )

    def collectors(self) -> Iterator[Collector]:
        """All that is kept."""
        return (one for part in fields(self) if (one := getattr(self, part.name)) is not None)

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
            lent = accepted_cells(ready.tables.ledger, ready.plan.name)
            found += not_in_build(ready.plan, shown, lent, self.of_loans.rows)
        return found

    def hand_on(self, ready: Prepared, staying: Callable[[], pl.DataFrame] | None) -> None:
        """Let other lists of the run find what was made of this one, and the records that stay in the target beside
        it, if it is handed over so.
        """
        tables, name = ready.tables, ready.plan.name
        if tables.makes_several and self.missed is not None:
            tables.not_written(name, ready.recipe.known.book, self.missed.rows)
        if self.offered is not None:
            offered = self.offered.rows
            more = [] if staying is None else [staying().select(offered.columns)]
            tables.made(name, pl.concat([offered, *more]))
