"""A build of a list beside what the target holds, while it goes on: what is new, other, the same, and gone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.documents.errors import counted, few
from mudanza.core.engine.early import MISSED
from mudanza.core.engine.local import Part
from mudanza.core.engine.totals import ADDED, CHANGED, Amount, sum_of
from mudanza.core.findings.finding import Finding
from mudanza.core.language.asking import asks_for, tested_columns
from mudanza.core.language.compiling import IN_TARGET_NAME
from mudanza.core.plans.leavers import HELD_BACK, LAST_CHANGE, LEAVE, REMOVE, UNSELECTED
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.csv_text import QuotedWriter
from mudanza.core.state.contents import KEY, RECORD
from mudanza.core.state.differences import BACK, MARKED, REMOVED, note_differences
from mudanza.core.state.ledger import Ledger
from mudanza.core.values.digest import Digest
from mudanza.core.values.row_columns import LAST, LEFT, THEIRS, shown_key
from mudanza.core.work.again.against import Against, ids_of
from mudanza.core.work.again.before import in_layout, records_before
from mudanza.core.work.again.leavers import find_leavers, groups_of, marked, removed, with_changed
from mudanza.core.work.again.sets import ChangeSets, leavers_file
from mudanza.core.work.behind import Behind
from mudanza.core.work.keys import replaced_keys
from mudanza.core.work.results import ToTarget

#: no identifier was joined to another
_NOBODY = pl.DataFrame(schema={"before": pl.String, "key": pl.String, "how": pl.String})
#: what each written record is to the target (null: the same), by its id and key
_WHAT = {"id": pl.String, "key": pl.String, "record": pl.UInt64, "what": pl.String}


@dataclass(frozen=True)
class Difference:
    """What a build is to the target: told, to be remembered, the records of leavers that are marked, and what was found."""

    told: ToTarget
    rows: pl.DataFrame
    marked: pl.DataFrame
    found: list[Finding]
    #: by field, what leavers come to
    left: dict[str, Amount]
    #: the records of leavers that stay in the target, as it holds them
    staying: pl.DataFrame
    files: list[Digest]

    @property
    def removed(self) -> pl.Series:
        """The keys of records that are taken out."""
        return self.rows.filter(pl.col("what") == REMOVED)["key"]

    def note(self, ledger: Ledger, run: int, list_name: str) -> None:
        """Remember it. The ledger must be held by the run."""
        note_differences(ledger, run, list_name, self.told.against if self.told.files else None, self.rows)


class Comparing:
    """Takes the parts of a list. The leavers become a file and, if `sets` are asked for, what is new, changed and gone."""

    def __init__(
        self,
        move: Move,
        plan: Plan,
        ledger: Ledger,
        against: Against,
        outputs: Outputs,
        *,
        sets: bool = False,
        books: Sequence[str] = (),
        behind: Behind | None = None,
    ) -> None:
        self._joined = pl.concat([replaced_keys(ledger, one) for one in books]) if books else _NOBODY
        self._outputs = outputs
        self._move, self._plan, self._ledger, self._against = move, plan, ledger, against
        self._sets = ChangeSets(move, plan, outputs, behind) if sets else None
        self._what = [pl.DataFrame(schema=_WHAT)]
        self._missed = [pl.DataFrame(schema=MISSED)]

    def take(self, part: Part) -> None:
        """Take a part."""
        self._missed.append(part.missed.filter("in_target"))
        written = part.written
        if written.is_empty():
            return
        record = part.records.alias("record")
        theirs = written[THEIRS]
        what = written.select(
            pl.when(pl.col(THEIRS).is_null())
            .then(pl.lit(ADDED))
            .when(LAST)
            .then(pl.lit(LAST_CHANGE))
            .when(pl.lit(record) != pl.col(THEIRS))
            .then(pl.lit(CHANGED))
            .when(LEFT)
            .then(pl.lit(BACK))
            .alias("what")
        ).to_series()
        ids = written.select(ids_of(self._plan.layout).alias("id")).to_series()
        self._what.append(pl.DataFrame([ids, part.keys, record, what]))
        if self._sets is not None:
            self._sets.take(
                written.filter(theirs.is_null()), written.filter(what.is_in([CHANGED, LAST_CHANGE]).fill_null(False))
            )

    def staying(self, held: pl.DataFrame | None = None) -> pl.DataFrame:
        """The records that the target goes on holding though they are not written, as far as it is known what they
        hold; if some of the written are `held` back, too.
        """
        every, missed = pl.concat(self._what), self._missed
        if held is not None:
            ids = held.select(ids_of(self._plan.layout).alias("id"))
            every = every.join(ids, on="id", how="anti", maintain_order="left")
            missed = [*missed, ids.with_columns(why=pl.lit(HELD_BACK))]
        found = self._leaving(every, missed)
        wanted = self._against.rows.filter(pl.col("id").is_in(found["id"].implode()))
        before = records_before(self._move, self._ledger, self._plan.name, self._plan.layout, wanted)
        return self._staying(before, found)

    def _leaving(self, every: pl.DataFrame, missed: Sequence[pl.DataFrame]) -> pl.DataFrame:
        last = every.filter(pl.col("what") == LAST_CHANGE)["id"]
        rows = pl.concat(missed, how="diagonal")
        return find_leavers(self._plan, self._against.rows, every["id"], last, rows, self._joined)

    def close(self) -> Difference:
        """What it comes to; the files are written."""
        every = pl.concat(self._what)
        found = self._leaving(every, self._missed)
        other = every.filter(pl.col("what").is_not_null())
        wanted = self._against.rows.filter(
            pl.col("id").is_in(other.filter(pl.col("what") != ADDED)["id"].implode())
            | pl.col("id").is_in(found["id"].implode())
        )
        # what was held before is asked for where something is made of it
        summed = list(dict.fromkeys(one.field for one in self._plan.totals if one.field is not None))
        needed = bool(summed) or self._sets is not None or any(one.marks for one in self._plan.leavers.values())
        wanted = wanted if needed else wanted.filter(pl.col("id").is_in(found["id"].implode()))
        before = records_before(self._move, self._ledger, self._plan.name, self._plan.layout, wanted)
        found = with_changed(found, before)
        marks, gone = marked(self._plan, found, before), removed(found)
        unknown = wanted.height - before.select(pl.col(KEY).n_unique()).item() if needed else 0
        if self._sets is not None:
            self._sets.close(before, marks, gone)
        files = [self._leavers(found), *(self._sets.digests() if self._sets is not None else [])]
        rows = pl.concat(
            [
                other.select("key", "record", "what"),
                marks.select(pl.col(KEY).alias("key"), pl.col(RECORD).alias("record"), pl.lit(MARKED).alias("what")),
                gone.select("key", pl.lit(None, dtype=pl.UInt64).alias("record"), pl.lit(REMOVED).alias("what")),
            ]
        )
        leaving = before.filter(pl.col(KEY).is_in(found.filter(pl.col("what").is_not_null())["key"].implode()))
        left = {name: self._left(leaving, name) for name in summed}
        told = self._told(every["what"], found, marks, gone)
        return Difference(told, rows, marks, self._findings(found, unknown), left, self._staying(before, found), files)

    def _staying(self, before: pl.DataFrame, found: pl.DataFrame) -> pl.DataFrame:
        # what is written for the last time is among the written
        stays = found.filter(~pl.col("what").is_in([REMOVE, LAST_CHANGE]).fill_null(False))["key"]
        return in_layout(before.filter(pl.col(KEY).is_in(stays.implode())), self._plan.layout)

    def _left(self, leaving: pl.DataFrame, name: str) -> Amount:
        one = self._plan.layout.field_named(name)
        texts = leaving[one.title] if one.title in leaving.columns else pl.Series(one.title, [], dtype=pl.String)
        return sum_of(texts, one.type.read(pl.col(one.title)))

    def _leavers(self, found: pl.DataFrame) -> Digest:
        """Write the file of all leavers, for people: which, why, and what becomes of them."""
        rows = found.select(
            shown_key(pl.col("key")).alias("key"),
            "why",
            "rule",
            pl.col("words").alias("what"),
            "changed",
            "file",
            "line",
        )
        file = self._outputs.create(leavers_file(self._move, self._plan))
        writer = QuotedWriter(rows.columns)
        file.write(writer.head())
        file.write(writer.rows(rows))
        return file.digest(self._move.shown(file.final))

    def _told(self, what: pl.Series, found: pl.DataFrame, marks: pl.DataFrame, gone: pl.DataFrame) -> ToTarget:
        by_what = dict(what.value_counts().iter_rows())
        told_before = found["what"].null_count()
        return ToTarget(
            self._against.words,
            by_what.get(None, 0) + by_what.get(BACK, 0),
            by_what.get(ADDED, 0),
            by_what.get(CHANGED, 0),
            by_what.get(LAST_CHANGE, 0),
            marks.height,
            gone.height,
            found.filter(pl.col("what") == LEAVE).height,
            told_before,
            groups_of(self._plan, found),
            self._sets is not None,
            self._sets.added_keys if self._sets is not None else [],
            self._sets.fields if self._sets is not None else [],
        )

    def _findings(self, found: pl.DataFrame, unknown: int) -> list[Finding]:
        shown = self._move.shown(self._plan.path)
        unsaid = found.filter(pl.col("what").is_not_null() & ~pl.col("why").is_in([*self._plan.leavers, HELD_BACK]))
        about = [
            Finding("leaver.unsaid", shown, value=f"{count} {why}", rule=self._against.words)
            for why, count in unsaid["why"].value_counts(sort=True).iter_rows()
        ]
        keep = self._plan.keep
        tested = tested_columns(keep) if keep is not None and not asks_for(keep, IN_TARGET_NAME) else []
        if tested and UNSELECTED not in self._plan.leavers:
            gone = found.filter(pl.col("why") == UNSELECTED).height
            rule = f"[leavers] unselected, or {{{IN_TARGET_NAME}}}; {counted(gone, 'record')} left so in this build"
            about.append(Finding("keep.unsteady", shown, value=few(tested), rule=rule))
        if unknown:
            about.append(Finding("leaver.unknown-before", shown, value=str(unknown), rule=self._against.words))
        return about
