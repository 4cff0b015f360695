"""What has changed since the build before: records written, old identifiers brought, kinds of columns. What looks like a loss stops a build unless it is meant."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

import polars as pl

from mudanza.core.documents.errors import Place, SourceError
from mudanza.core.engine.identities import Identities, identity_hash
from mudanza.core.engine.intake import Intake
from mudanza.core.findings.codes import CODES
from mudanza.core.findings.finding import Finding
from mudanza.core.plans.plan import Plan
from mudanza.core.state.column_kinds import kinds_before, note_kinds
from mudanza.core.state.identities import brought, note_brought
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.sent import note_sent
from mudanza.core.tables.key_book import KeyBook
from mudanza.core.values.row_columns import shown_key
from mudanza.core.work.results import SourceIdentities

#: of fewer than this any share may go
_FEW = 10


@dataclass(frozen=True)
class Brought:
    """What a source brought in the build before and brings now: hashes of old identifiers, each once; `fresh` are the key book's that this list gives out, new identifier and hash."""

    source: str
    book: str
    before: pl.Series
    now: pl.Series
    fresh: pl.DataFrame

    @cached_property
    def new(self) -> pl.DataFrame:
        """Those of the source that are given out now."""
        return self.fresh.filter(pl.col("hash").is_in(self.now.implode())) if self.fresh.height else self.fresh

    @cached_property
    def missing(self) -> pl.Series:
        """Those that do not come any more."""
        if self.before.is_empty():
            return self.before
        return self.before.filter(~self.before.is_in(self.now.implode()))

    @property
    def counts(self) -> SourceIdentities:
        return SourceIdentities(
            self.source, self.book, self.now.len() - self.new.height, self.new.height, self.missing.len()
        )

    @property
    def looks_new(self) -> bool:
        """Whether hardly any of those before comes back, and more new ones are given out."""
        back = self.before.len() - self.missing.len()
        return self.before.len() >= _FEW and back * 10 < self.before.len() and self.new.height > back


@dataclass(frozen=True)
class Since:
    """A build of a list (by its plan, of that `shown` path) beside the build before. `sent` are keys and hashes of the records (None for a list without a key), `written` how many
    there are; `kinds` by source."""

    plan: Plan
    shown: str
    sent_before: pl.DataFrame
    sent: pl.DataFrame | None
    written_before: int
    written: int
    brought: list[Brought]
    kinds_before: Mapping[str, tuple[int, Mapping[str, str]]]
    kinds: Mapping[str, Mapping[str, str]]

    def note(self, ledger: Ledger, run: int, file: str) -> None:
        """Remember all that the next build is compared with. The ledger must be held by the run."""
        if self.sent is not None:
            note_sent(ledger, run, self.plan.name, file, self.sent_before, self.sent)
        for one in self.brought:
            note_brought(ledger, run, self.plan.name, one.source, one.book, one.before, one.now)
        for source, kinds in self.kinds.items():
            note_kinds(ledger, run, self.plan.name, source, kinds)

    def changed_kinds(self) -> list[Finding]:
        """The columns whose declared kind is another one now."""
        found = []
        for source, kinds in self.kinds.items():
            run, before = self.kinds_before[source]
            for column, kind in kinds.items():
                was = before.get(column, kind)
                if was != kind:
                    rule = f"{was}, as in run {run}; source {source}"
                    found.append(Finding("column.kind-changed", self.shown, column=column, value=kind, rule=rule))
        return found

    def fewer_records(self) -> Finding | None:
        """What tells that a source has probably lost records."""
        now, before = self.written, self.written_before
        if now == 0 < before or (before >= _FEW and now * 2 < before):
            rule = f"the build before wrote {before:,}"
            return Finding("build.fewer", self.shown, value=f"{now:,} records", rule=rule)
        return None

    def new_identities(self, books: Mapping[str, KeyBook]) -> Finding | None:
        """What tells that the records of a source probably only look new."""
        for one in self.brought:
            if one.looks_new:
                was = with_hash(books[one.book].all()).filter(pl.col("hash").is_in(one.missing.implode()))
                rule = f"{one.before.len():,} known ones of {one.source}, as {_shown(was)}"
                value = f"{one.new.height:,} new ones, as {_shown(one.new)}"
                return Finding("build.new-identities", self.shown, value=value, rule=rule)
        return None


def with_hash(keys: pl.DataFrame) -> pl.DataFrame:
    """Rows of a key book with the hash of the old identifier."""
    return keys.with_columns(identity_hash("identity").alias("hash"))


def since(
    ledger: Ledger,
    plan: Plan,
    shown: str,
    intake: Intake,
    before: pl.DataFrame,
    sent: pl.DataFrame | None,
    written: int,
    identities: Identities,
    given: Mapping[str, pl.DataFrame],
) -> Since:
    """A build of a list, whose rows have been made, beside the build before, which wrote the records of `before`. `given` are the rows of key books that the list gave out."""
    fresh = {book: with_hash(rows) for book, rows in given.items()}
    kinds = {one.source.name: one.kinds for one in intake.opened if one.kinds}
    return Since(
        plan,
        shown,
        before,
        sent,
        before.height if sent is not None else _written_before(ledger, plan.name),
        written,
        [
            Brought(source, book, brought(ledger, plan.name, source, book), now, fresh[book])
            for (source, book), now in identities.each_once().items()
        ],
        {source: kinds_before(ledger, plan.name, source) for source in kinds},
        kinds,
    )


def _written_before(ledger: Ledger, name: str) -> int:
    """How many records the last build of a list wrote, if it noted that."""
    done = (run for run in ledger.runs() if run.command == "build" and run.state == "done")
    noted = (one["records"] for run in done for one in run.written if one.get("list") == name)
    return next(noted, 0)


def refused(plan: Plan, loss: Finding) -> SourceError:
    """The error for a loss that nobody has said is meant."""
    words = {
        "build.fewer": f"{plan.name} would have {loss.value}, and {loss.rule}.",
        "build.new-identities": f"hardly any old identifier comes back in {plan.name}: {loss.value}, instead of {loss.rule}.",
    }
    hint = f"Nothing was replaced. {CODES[loss.code].next}"
    return SourceError(words[loss.code], place=Place(str(plan.path)), hint=hint)


def _shown(book: pl.DataFrame) -> str:
    """The first old identifier of a key book, as people write it."""
    (text,) = book.head(1).select(shown_key(pl.col("identity"))).to_series()
    return f'"{text}"'
