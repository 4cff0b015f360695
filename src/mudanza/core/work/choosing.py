"""Rows chosen out of a list's sources, to be looked at: the first, those of a condition or a key, those with findings, a fair sample."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import polars as pl

from mudanza.core.engine.early import skipped_by
from mudanza.core.engine.intake import Opened
from mudanza.core.engine.late import run_whole
from mudanza.core.engine.recipe import Condition
from mudanza.core.sources.reader import Batch, BrokenRow, OfDatabase
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import BETWEEN, INNER, LINE, WHERE, key_text, shown_key
from mudanza.core.work.prepared import Prepared

#: rows of one file, in the intake's shape, with the findings that the reader has on them
Chosen = tuple[Opened, pl.DataFrame, pl.DataFrame]


@dataclass(frozen=True)
class Choice:
    """Which rows are wanted: at most `rows` of each source. One of the others may be given, else the first are taken."""

    rows: int = 3
    where: Condition | None = None
    key: str | None = None
    findings: bool = False
    sample: bool = False
    #: damaged rows that hold the key are noted here
    damaged: list[tuple[Opened, BrokenRow]] | None = None


def choose(
    ready: Prepared,
    choice: Choice,
    has_findings: Callable[[Opened, pl.DataFrame, pl.DataFrame], pl.Series],
    source: str | None = None,
) -> Iterator[Chosen]:
    """The rows that are wanted, source by source (or of one source). `has_findings` tells the lines of rows that have findings."""
    intake = ready.intake
    by_source: dict[str, list[Opened]] = {}
    for one in intake.opened:
        if source in (None, one.source.name):
            by_source.setdefault(one.source.name, []).append(one)
    finder = _Finder(ready, choice.key) if choice.key is not None else None
    for files in by_source.values():
        left = choice.rows
        sampled: list[tuple[int, Opened, pl.DataFrame, pl.DataFrame]] = []
        for one in files:
            batches = one.reader.batches(first=not (choice.where or finder or choice.findings or choice.sample))
            for batch in finder.near(one) or batches if finder is not None else batches:
                rows = one.rows(batch, intake.columns)
                noticed = one.noticed(batch, ready.recipe.mentions.used)
                if choice.damaged is not None:
                    choice.damaged.extend(
                        (one, b) for b in batch.broken if choice.key in [(c or "").strip() for c in b.cells]
                    )
                if choice.where is not None:
                    known = ready.recipe.named(rows) if choice.where.of_target else rows
                    rows = choice.where.choose(known).select(rows.columns)
                elif finder is not None:
                    rows = finder.find(rows)
                elif choice.findings:
                    rows = rows.filter(pl.col(LINE).is_in(has_findings(one, rows, noticed).implode()))
                else:
                    # what is skipped does not take the place of what is made
                    skipped = skipped_by(ready.recipe, rows, one.own(intake.columns))
                    standing = rows.filter(skipped.is_null())
                    if not choice.sample:
                        others = rows.filter(skipped.is_not_null())
                        rows = pl.concat([standing.head(left), others]).head(left).sort(LINE)
                    elif standing.height:
                        rows = standing
                if choice.sample:
                    for order, row in _smallest(rows, choice.rows):
                        sampled.append((order, one, row, noticed))
                    sampled = sorted(sampled, key=lambda item: item[0])[: choice.rows]
                    continue
                if rows.height:
                    yield one, rows.head(left), noticed
                    left -= min(left, rows.height)
                if not left or not (choice.where or finder or choice.findings):
                    break
            if not left:
                break
        for one in files:
            mine = [item for item in sampled if item[1] is one]
            if mine:
                by_batch = {id(found): found for *_, found in mine}
                yield one, pl.concat([rows for _, _, rows, _ in mine]).sort(LINE), pl.concat([*by_batch.values()])


def _smallest(rows: pl.DataFrame, most: int) -> list[tuple[int, pl.DataFrame]]:
    """The rows whose places have the smallest hashes: each row of a file has the same chance, in every run the same."""
    mixed = fixed_hash([pl.col(WHERE).cast(pl.String)])
    hashed = rows.with_columns(mixed.alias(f"{INNER}hash")).bottom_k(most, by=f"{INNER}hash")
    return [(hashed[f"{INNER}hash"][i], hashed[i].drop(f"{INNER}hash")) for i in range(hashed.height)]


class _Finder:
    """Finds rows by a key: the new one, as it is or would be written, or an old one, as it stands in a column that the key is made of."""

    def __init__(self, ready: Prepared, key: str) -> None:
        self.ready, self.recipe, self.key = ready, ready.recipe, key.strip()
        made = self.recipe.key_fields
        self.columns = sorted({c for m in made or self.recipe.fields for c in m.columns if not c.startswith("#")})
        self.texts = [m.text.expr for m in made]
        self.mints = self.recipe.mints
        self.identities: dict[str, list[str]] = {}
        for mint in self.mints:
            known = ready.tables.book(mint.book).all()
            self.identities[mint.identity] = known.filter(pl.col("key") == self.key)["identity"].to_list()

        #: what may stand in a column of a row that has the key
        self.wanted = {self.key.lower()} | {
            part.lower() for known in self.identities.values() for one in known for part in one.split(BETWEEN)[-1:]
        }

    def find(self, rows: pl.DataFrame) -> pl.DataFrame:
        """Those of the rows that have the key."""
        plain = [pl.col(c).str.strip_chars().str.to_lowercase().is_in(list(self.wanted)) for c in self.columns]
        near = rows.filter(pl.any_horizontal(plain).fill_null(False)) if plain else rows
        found = self._verified(near) if near.height else near
        # a key that is made of the row may be written otherwise than it stands in any column
        return self._verified(rows) if found.is_empty() and self._mapped_keys() else found

    def near(self, one: Opened) -> Iterator[Batch] | None:
        """The batches in which a source that can be asked finds the key; None if all of it has to be read."""
        renames = one.source.options.rename
        headings = [h for h in one.reader.headings if renames.get(h, h) in self.columns]
        # what is made of the row, or added by the plan, the source does not know
        made = self._mapped_keys() and not self._is_plain()
        if (
            not isinstance(one.reader, OfDatabase)
            or made
            or any(value.strip().lower() in self.wanted for value in one.source.adds.values())
        ):
            return None
        return one.reader.holding(headings, self.wanted)

    def _is_plain(self) -> bool:
        """Whether the key is a column as it stands."""
        flows = [self.ready.plan.flows.get(made.field.name, "") for made in self.recipe.key_fields]
        return len(flows) == 1 and flows[0].strip() in {f"{{{column}}}" for column in self.columns}

    def _mapped_keys(self) -> bool:
        """Whether keys are made of the row itself, and not given out by a book."""
        return bool(self.texts) and not self.mints

    def _verified(self, rows: pl.DataFrame) -> pl.DataFrame:
        made = run_whole(self.recipe, rows, self.ready.tables.books)
        tests = [pl.col(c).str.strip_chars() == self.key for c in self.columns]
        tests += [shown_key(key_text(self.texts)) == self.key] if self._mapped_keys() else []
        tests += [pl.col(mint.identity).is_in(self.identities[mint.identity]) for mint in self.mints]
        keep = made.select(pl.any_horizontal([t.fill_null(False) for t in tests])).to_series()
        return rows.filter(keep)
