"""Handing over: noting that the target took a build's files in, and taking that back."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date

import polars as pl

from mudanza.core.documents.errors import MoveError, few, nearest
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.leavers import LAST_CHANGE
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan_reading import layout_of
from mudanza.core.state.contents import KEY, RECORD, change_set_of, change_sets, contents_of, keep_contents
from mudanza.core.state.differences import MARKED, REMOVED, differences_of
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.in_target import (
    TOLD,
    HandOver,
    hand_overs,
    in_target,
    note_hand_over,
    standing,
    take_hand_over_back,
    told_by,
)
from mudanza.core.state.ledger import Ledger, Run, now
from mudanza.core.state.loans import noted_loan
from mudanza.core.state.running import running
from mudanza.core.state.sent import sent_by
from mudanza.core.values.digest import digest_of
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import shown_key
from mudanza.core.work.again.against import identified
from mudanza.core.work.again.before import in_layout, records_before
from mudanza.core.work.again.outcomes import OUTCOMES, ResultsFile, read_outcomes
from mudanza.core.work.runs import RECEIVE, done_build

COMMAND = "handed-over"
#: what was imported: the whole list, or the files of what is new, changed and gone
WHOLE, SETS, OF_LOAN = "whole list", "what is new, changed and gone", "what came of a loan"
_EXAMPLES = 5


@dataclass(frozen=True)
class Telling:
    """What is told of a hand-over: the whole list was imported though there were files of what is new, changed and gone; the target was emptied before; what it said of records,
    and whether those that it did not mention were taken; when, by whom, and a note."""

    whole: bool = False
    anew: bool = False
    results: ResultsFile | None = None
    unmentioned_taken: bool = True
    on: date | None = None
    by: str | None = None
    note: str | None = None
    #: note it although it was noted before
    again: bool = False


@dataclass(frozen=True)
class ListHandedOver:
    """A list that was handed over: how, how many records were taken (of them taken out), rejected (with examples of key and outcome) and not mentioned, how many lines of the results name no
    record, keys of them that the run did not send, and how many records the target holds now."""

    list_name: str
    how: str
    taken: int
    removed: int
    rejected: int
    unmentioned: int
    nameless: int
    examples: list[tuple[str, str | None]]
    unknown: list[str]
    in_target: int

    @property
    def counts(self) -> dict[str, int]:
        """What is remembered of it."""
        names = ("taken", "removed", "rejected", "unmentioned", "nameless")
        return {name: getattr(self, name) for name in names} | {"unknown": len(self.unknown)}


@dataclass(frozen=True)
class HandedOver:
    """A hand-over of a `build`, noted by a `run`; lists `without_key` stayed out of it."""

    run: int
    build: int
    lists: list[ListHandedOver]
    without_key: list[str] = field(default_factory=list)


def hand_over(move: Move, build: int, names: Sequence[str] = (), telling: Telling | None = None) -> HandedOver:
    """Note that the target took in what a build wrote of some lists (all of its lists, if none is named), or what came of a loan when it was received.

    Raises MoveError where the run is neither and done, a list is none of its, or it was noted before; SourceError where the results cannot be read.
    """
    telling = telling or Telling()
    ledger = ledger_of(move)
    layouts = {name: layout_of(move, name) for name in _lists(ledger, build, names, telling)}
    # of a list without a key nothing can be known record by record; it stays out, unless it was asked for
    keyed = {name: layout for name, layout in layouts.items() if layout.primary_key or name in names}
    for name, layout in keyed.items() if keyed else layouts.items():
        if not layout.primary_key:
            raise MoveError(
                f"the records of {name} have no key, so it cannot be told which of them the target holds.",
                hint="Say in the layout which fields make the key (primaryKey).",
            )
    read = []
    results: tuple[pl.DataFrame, int] = (pl.DataFrame(schema=OUTCOMES), 0)
    if telling.results is not None:
        if len(keyed) > 1:
            raise MoveError(
                f"results are of one list, and run {build} has {few(list(keyed))}.",
                hint=f"Name the list: mudanza handed-over {build} {next(iter(keyed))} --results …",
            )
        shown = move.shown(telling.results.path.resolve())
        results = read_outcomes(telling.results, next(iter(keyed.values())), shown)
        read = [digest_of(telling.results.path, shown).as_dict()]
    with running(ledger, COMMAND, f"run {build}: {', '.join(keyed)}") as run:
        # another command may have noted it meanwhile
        _lists(ledger, build, list(keyed), telling)
        done = [_HandingOver(move, ledger, run.id, build, *one, telling).done(*results) for one in keyed.items()]
        counts = {key: sum(one.counts[key] for one in done) for key in ("taken", "rejected")}
        run.commit(counts, read)
    return HandedOver(run.id, build, done, [name for name in layouts if name not in keyed])


def last_build(move: Move) -> int:
    """The last build that is done. Raises MoveError where there is none."""
    builds = (run.id for run in ledger_of(move).runs() if run.command == "build" and run.state == "done")
    found = next(builds, None)
    if found is None:
        raise MoveError("nothing was built yet.", hint="Build first: mudanza build.")
    return found


def _lists(ledger: Ledger, build: int, names: Sequence[str], telling: Telling) -> list[str]:
    """The lists of a build that are handed over."""
    of_run = _lists_of(ledger, done_build(ledger, build, or_loan=True), telling)
    for name in names:
        if name not in of_run:
            near = nearest(name, of_run)
            hint = f"Did you mean {near!r}?" if near else f"It built {few(of_run)}."
            raise MoveError(f"run {build} did not build a list {name!r}.", hint=hint)
    names = list(dict.fromkeys(names)) or of_run
    before = [one for one in standing(hand_overs(ledger)) if one.build == build and one.list_name in names]
    if before and not telling.again:
        one = before[-1]
        by = f" by {one.by}" if one.by else ""
        raise MoveError(
            f"{one.list_name} of run {build} was handed over on {one.moment[:10]}{by}.",
            hint="Add --again if it was imported a second time, or take the first back: "
            f"mudanza handed-over {build} --take-back.",
        )
    return names


def _lists_of(ledger: Ledger, run: Run, telling: Telling) -> list[str]:
    """The lists that a run wrote files of."""
    if run.command != RECEIVE:
        return run.subject.split(", ")
    loan = noted_loan(ledger, run.subject)
    if loan is None or run.id not in change_sets(ledger, loan.subject):
        raise MoveError(
            f"run {run.id} made no file to import of {run.subject}.",
            hint="Only what came of a loan of records can be handed over, and only as this version keeps it.",
        )
    if telling.whole or telling.anew:
        raise MoveError(
            f"run {run.id} is what came of the loan {run.subject}, which is no whole list.",
            hint=f"Leave --whole and --anew out: mudanza handed-over {run.id}.",
        )
    return [loan.subject]


@dataclass(frozen=True)
class _HandingOver:
    """A list under way."""

    move: Move
    ledger: Ledger
    run: int
    build: int
    name: str
    layout: Layout
    telling: Telling

    def done(self, outcomes: pl.DataFrame, nameless: int) -> ListHandedOver:
        """Note it, given what the target said of records, and how many lines of that name none."""
        against, differences = differences_of(self.ledger, self.name, self.build)
        of_loan = bool(change_set_of(self.ledger, self.name, self.build))
        whole = not of_loan and (self.telling.whole or self.telling.anew or against is None)
        how = OF_LOAN if of_loan else WHOLE if whole else SETS
        rows = self._of_loan() if of_loan else self._kept(self._sent(differences, whole=whole))
        sent = identified(rows, self.layout)
        known = identified(outcomes, self.layout).unique("id", keep="last", maintain_order=True)
        told = self._told(sent, known)
        taken, rejected = told.filter("took"), told.filter(~pl.col("took"))
        unknown = known.join(sent, on="id", how="anti", maintain_order="left")
        result = ListHandedOver(
            self.name,
            how,
            taken.height,
            taken["record"].null_count(),
            rejected.height,
            told.filter("unmentioned").height if self.telling.results is not None else 0,
            nameless,
            rejected.head(_EXAMPLES).select(shown_key(pl.col("key")), "outcome").rows(),
            unknown.select(shown_key(pl.col("key"))).to_series().to_list(),
            0,
        )
        telling = self.telling
        moment = telling.on.isoformat() if telling.on is not None else now()
        facts = (self.run, self.name, self.build, result.how, telling.anew, moment, telling.by, telling.note)
        note_hand_over(self.ledger, HandOver(*facts, result.counts), self._noted(told))
        return replace(result, in_target=in_target(self.ledger, self.name).height)

    def _sent(self, differences: pl.DataFrame, *, whole: bool) -> pl.DataFrame:
        """What was imported: key, record (null for what is taken out), run and left."""
        records = sent_by(self.ledger, self.name, self.build)
        if whole:
            last = differences.filter(pl.col("what") == LAST_CHANGE)["key"]
            return records.with_columns(left=pl.col("key").is_in(last.implode()))
        made_here = pl.col("what").is_in([MARKED, REMOVED])
        return differences.join(records.select("key", "run"), on="key", how="left", maintain_order="left").select(
            "key",
            "record",
            pl.when(made_here).then(pl.lit(self.build, dtype=pl.Int64)).otherwise("run").alias("run"),
            pl.col("what").is_in([LAST_CHANGE, MARKED]).alias("left"),
        )

    def _of_loan(self) -> pl.DataFrame:
        """What came of a loan and was imported: key, record (null for what is taken out), run and left. Its files may have some fields alone; of the others a record holds what it held."""
        changes, additions, removals = change_set_of(self.ledger, self.name, self.build)
        held = identified(in_target(self.ledger, self.name), self.layout)
        built = identified(sent_by(self.ledger, self.name), self.layout).join(held, on="id", how="anti")
        columns = ["id", "key", "record", "run"]
        changes = identified(changes.rename({KEY: "key"}), self.layout)
        known = pl.concat([held.select(columns), built.select(columns)]).join(changes, on="id", how="semi")
        before = in_layout(records_before(self.move, self.ledger, self.name, self.layout, known), self.layout)
        titles = [one.title for one in self.layout.fields]
        before = identified(before.rename({KEY: "key"}), self.layout).drop("key", RECORD)
        before = before.drop(title for title in titles if title in changes.columns)
        changed = changes.join(before, on="id", how="left", maintain_order="left").drop("id").rename({"key": KEY})
        now = pl.concat([changed, in_layout(additions, self.layout)], how="diagonal")
        now = now.with_columns(fixed_hash([pl.col(title) for title in titles]).alias(RECORD))
        keep_contents(self.ledger, self.run, self.name, now)
        gone = removals.select(KEY, pl.lit(None, dtype=pl.UInt64).alias(RECORD))
        return pl.concat([now.select(KEY, RECORD), gone]).select(
            pl.col(KEY).alias("key"),
            pl.col(RECORD).alias("record"),
            pl.lit(self.run, dtype=pl.Int64).alias("run"),
            pl.lit(False).alias("left"),
        )

    def _kept(self, sent: pl.DataFrame) -> pl.DataFrame:
        """What was imported, with the run that keeps what each record holds; what nobody keeps yet is kept by this one, as far as the file of the build still has it."""
        there = sent.filter(pl.col("record").is_not_null())
        known = contents_of(self.ledger, self.name, there)
        lacking = there.join(
            known, left_on=["key", "record"], right_on=[KEY, RECORD], how="anti", maintain_order="left"
        )
        if lacking.is_empty():
            return sent
        held = records_before(self.move, self.ledger, self.name, self.layout, lacking)
        keep_contents(self.ledger, self.run, self.name, held)
        mine = held.select(
            pl.col(KEY).alias("key"), pl.col(RECORD).alias("record"), pl.lit(self.run, dtype=pl.Int64).alias("kept")
        )
        joined = sent.join(mine, on=["key", "record"], how="left", maintain_order="left")
        return joined.with_columns(pl.coalesce("kept", "run").alias("run")).drop("kept")

    def _told(self, sent: pl.DataFrame, known: pl.DataFrame) -> pl.DataFrame:
        """What was imported, with what became of it, and with what the target held of it before (`…_was`)."""
        before = identified(in_target(self.ledger, self.name), self.layout)
        before = before.clear() if self.telling.anew else before
        was = before.select("id", *(pl.col(name).alias(f"{name}_was") for name in ("key", "record", "left", "there")))
        said = known.select("id", "took", pl.col("there").alias("gave"), "outcome")
        told = sent.join(said, on="id", how="left", maintain_order="left")
        taken = self.telling.unmentioned_taken or self.telling.results is None
        return told.join(was, on="id", how="left", maintain_order="left").with_columns(
            pl.col("took").is_null().alias("unmentioned"),
            pl.col("took").fill_null(taken),
            pl.coalesce("gave", "there_was").alias("there"),
        )

    def _noted(self, told: pl.DataFrame) -> pl.DataFrame:
        """What is remembered of it (`TOLD`): what is another now, what was rejected, and of what the target said something."""
        same = pl.all_horizontal(pl.col(name).eq_missing(pl.col(f"{name}_was")) for name in ("record", "left", "there"))
        noted = told.filter(~(same & pl.col("took")) | pl.col("outcome").is_not_null())
        # a key that is written otherwise is the same record under another name
        renamed = noted.filter(pl.col("took") & (pl.col("key_was") != pl.col("key")))
        gone = renamed.select(
            pl.col("key_was").alias("key"),
            pl.lit(None, dtype=pl.UInt64).alias("record"),
            "run",
            pl.lit(False).alias("left"),
            pl.lit(None, dtype=pl.String).alias("there"),
            "took",
            pl.lit(None, dtype=pl.String).alias("outcome"),
        )
        return pl.concat([gone, noted.select(list(TOLD))])


def take_back_hand_over(move: Move, build: int, names: Sequence[str] = ()) -> HandedOver:
    """Take the last hand-over of a build back, of some lists or all that it was of: the target then holds what it held before.

    Raises MoveError where there is none, or a list was handed over again since.
    """
    ledger = ledger_of(move)
    overs = _last(ledger, build, names)
    with running(ledger, COMMAND, f"run {build} taken back: {', '.join(one.list_name for one in overs)}") as run:
        overs = _last(ledger, build, names)
        for one in overs:
            take_hand_over_back(ledger, one, run.id)
        done = [
            ListHandedOver(one.list_name, one.how, 0, 0, 0, 0, 0, [], [], in_target(ledger, one.list_name).height)
            for one in overs
        ]
        run.commit()
    return HandedOver(run.id, build, done)


def _last(ledger: Ledger, build: int, names: Sequence[str]) -> list[HandOver]:
    every = standing(hand_overs(ledger))
    mine = [one for one in every if one.build == build and (not names or one.list_name in names)]
    if not mine:
        raise MoveError(f"run {build} was not handed over.", hint="`mudanza handed-over` tells what was.")
    mine = [one for one in mine if one.run == mine[-1].run]
    for one in mine:
        later = [other for other in every if other.list_name == one.list_name and other.run > one.run]
        if later:
            raise MoveError(
                f"{one.list_name} was handed over again since, as run {later[-1].build} wrote it.",
                hint=f"Take that back first: mudanza handed-over {later[-1].build} --take-back.",
            )
    return mine


@dataclass(frozen=True)
class TargetList:
    """What the target holds of a list: how many records, of them such as left; the hand-overs; and the last build, if it was not handed over."""

    list_name: str
    records: int
    left: int
    overs: list[HandOver]
    waiting: int | None
    #: what came of loans after all that was handed over: the runs
    of_loans: list[int]


def what_target_holds(move: Move) -> list[TargetList]:
    """What the target holds, by list, in the order of their names."""
    ledger = ledger_of(move)
    builds = [run for run in ledger.runs() if run.command == "build" and run.state == "done"]
    built: dict[str, int] = {}
    for build in builds:
        for name in build.subject.split(", "):
            built.setdefault(name, build.id)
    overs = hand_overs(ledger)
    found = []
    for name in sorted({*built, *(one.list_name for one in overs)}):
        mine = [one for one in overs if one.list_name == name]
        rows = in_target(ledger, name)
        waiting = built.get(name)
        handed = {one.build for one in standing(mine)}
        waiting = None if waiting in handed else waiting
        of_loans = [run for run in change_sets(ledger, name) if run > max(handed, default=0)]
        found.append(TargetList(name, rows.height, int(rows["left"].sum()), mine, waiting, of_loans))
    return found


def told_of(ledger: Ledger, list_name: str, key: str) -> list[tuple[HandOver, str, str | None]]:
    """What hand-overs say of a record, by its key as people write it: each with what became of it and the target's own identifier."""
    found = []
    for one in hand_overs(ledger, list_name):
        rows = told_by(ledger, one).filter(shown_key(pl.col("key")) == key)
        for row in rows.iter_rows(named=True):
            became = (
                row["outcome"] or "rejected" if not row["took"] else "taken out" if row["record"] is None else "taken"
            )
            found.append((one, became, row["there"]))
    return found
