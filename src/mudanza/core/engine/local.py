"""A recipe run over all rows of a list on this machine: reading, making and giving identifiers go on at the same time, each with its own batch."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import polars as pl

from mudanza.core.engine.corrections import broken_before, held_before
from mudanza.core.engine.early import Early, missed_schema, run_early
from mudanza.core.engine.identities import Identities
from mudanza.core.engine.intake import Intake, Opened
from mudanza.core.engine.late import Ends, Memory, run_late
from mudanza.core.engine.places import with_cells
from mudanza.core.engine.recipe import Recipe
from mudanza.core.engine.summary import Balance, Summary
from mudanza.core.engine.totals import ADDED, CHANGED, Amounts, amounts, printed_sums
from mudanza.core.findings.finding import joined
from mudanza.core.plans.plan import Plan
from mudanza.core.sources.ahead import read_ahead
from mudanza.core.sources.reader import Batch
from mudanza.core.values.row_columns import (
    FILE,
    LAST,
    LEFT,
    LINE,
    SOURCE,
    SOURCE_COLUMN,
    TEXT,
    THEIRS,
    WAS,
    WHY,
    key_text,
)


@dataclass(frozen=True)
class Part:
    """What becomes of a batch of rows: the written (with the columns to sort by), the place (as `row_columns.where`) and a hash of each, the held back (damaged rows among them, with their `#text`), the
    findings, and the rows that are not written, if somebody wants to know of them, all in the total order; and what is counted. Beside the fields the written have the columns of
    `kept_beside`."""

    written: pl.DataFrame
    places: pl.Series
    records: pl.Series
    held: pl.DataFrame
    findings: pl.DataFrame
    missed: pl.DataFrame
    summary: Summary
    #: the headings of the fields that make a record's key
    key_titles: tuple[str, ...]
    #: how much of all sources of the list has been read, if that can be told
    share: float | None = None

    @cached_property
    def keys(self) -> pl.Series:
        """The key of each written record, of a list that has one."""
        return self.written.select(key_text([pl.col(title) for title in self.key_titles]).alias("key")).to_series()

    @property
    def sent(self) -> pl.DataFrame:
        """The key and the hash of each written record."""
        return pl.DataFrame([self.keys, self.records.alias("record")])


def run_recipe(plan: Plan, recipe: Recipe, intake: Intake, memory: Memory) -> Iterator[Part]:
    """The parts of a list, in the total order. Their bytes do not depend on how the rows fall into batches."""
    files = [one.shown for one in intake.opened]
    unused = [c for c in intake.columns if c not in recipe.mentions.used and plan.stays_behind(c) is None]
    sort_by = sort_columns(plan, recipe)
    rest: list[pl.DataFrame] = []
    current: Opened | None = None
    for opened, batch, early, read in read_ahead(_made(recipe, intake)):
        if current is not None and opened is not current and rest:
            yield _rest(recipe, intake, rest)
            rest = []
        current = opened
        ends = run_late(recipe, early, memory, files, [*sort_by, *kept_beside(recipe, early.rows)])
        found = with_cells(ends.findings, opened, recipe)
        whole = found["line"].is_null()
        if whole.any():
            # what is said of a file as a whole comes after all that is said of its rows
            rest.append(found.filter(whole))
            found = found.filter(~whole)
        summary = _counted(plan, recipe, opened, batch, early, ends, unused, read)
        summary.tally.add(found)
        if batch.printed is not None and recipe.totals.fields:
            printed = recipe.numbers(opened.rows(Batch(batch.printed), intake.columns))
            summary.printed = {opened.source.name: printed_sums(recipe.totals, printed)}
        held = _held(opened, batch, ends, intake.columns)
        share = intake.share(opened, batch)
        keys = tuple(plan.layout.key_titles)
        yield Part(ends.written, ends.places, ends.records, held, found, ends.missed, summary, keys, share)
    if rest:
        yield _rest(recipe, intake, rest)


def _made(recipe: Recipe, intake: Intake) -> Iterator[tuple[Opened, Batch, Early, int]]:
    """Each batch with what was made of it, and how many rows were read."""
    for opened, whole in read_ahead(intake.batches()):
        batch, corrected = opened.standing(whole)
        noticed = opened.noticed(batch, recipe.mentions.used)
        early = run_early(recipe, opened.rows(batch, intake.columns), opened.own(intake.columns), noticed)
        yield opened, batch, early.without(corrected), whole.rows.height + len(whole.broken)


def _rest(recipe: Recipe, intake: Intake, rest: Sequence[pl.DataFrame]) -> Part:
    summary = Summary()
    found = joined(rest)
    summary.tally.add(found)
    nothing = pl.DataFrame(schema=dict.fromkeys(recipe.titles, pl.String))
    return Part(
        nothing,
        pl.Series([], dtype=pl.Int64),
        pl.Series([], dtype=pl.UInt64),
        pl.DataFrame(schema=held_schema(intake.columns)),
        found,
        pl.DataFrame(schema=missed_schema(recipe)),
        summary,
        tuple(one.field.title for one in recipe.key_fields),
    )


def _counted(
    plan: Plan, recipe: Recipe, opened: Opened, batch: Batch, early: Early, ends: Ends, unused: Sequence[str], read: int
) -> Summary:
    balance = Balance(
        read=read,
        written=ends.written.height,
        merged=ends.merged,
        held_back=ends.held.height + len(batch.broken),
    )
    balance.skip(ends.skipped)
    summary = Summary(
        {opened.source.name: balance}, identities=Identities(ends.asked), corrected=early.corrected, said=early.said
    )
    if unused:
        summary.unused = dict(early.original.select(pl.col(unused).count()).row(0, named=True))
    if recipe.totals.fields:
        summary.amounts = {opened.source.name: _amounts(recipe, batch, early, ends)}
    summary.expected.see(plan, recipe, early, ends)
    summary.met.see(recipe, early)
    return summary


def _amounts(recipe: Recipe, batch: Batch, early: Early, ends: Ends) -> dict[str, Amounts]:
    merged = ends.findings.filter(pl.col("code") == "row.merged")["line"]
    lines = {"written": ends.lines, "merged": merged, "held_back": ends.held[LINE]}
    if THEIRS in ends.written.columns:
        theirs = ends.written[THEIRS]
        lines[ADDED] = ends.lines.filter(theirs.is_null())
        lines[CHANGED] = ends.lines.filter((theirs != ends.records).fill_null(False))
    return amounts(recipe.totals, early.numbers, len(batch.broken), lines)


def held_schema(columns: Sequence[str]) -> dict[str, type[pl.DataType]]:
    """The columns of rows that are held back: where they stand, by what they are known again, why, the sources' own, and the text of damaged ones."""
    first = {SOURCE: pl.String, FILE: pl.String, LINE: pl.Int64, WAS: pl.String, WHY: pl.String}
    return {**first, **dict.fromkeys(columns, pl.String), TEXT: pl.String}


def _held(opened: Opened, batch: Batch, ends: Ends, columns: Sequence[str]) -> pl.DataFrame:
    schema = held_schema(columns)
    parts = [pl.DataFrame(schema=schema)]
    if ends.held.height:
        lines = ends.held[LINE].implode()
        was = batch.rows.filter(pl.col(LINE).is_in(lines)).select(LINE, held_before(opened.reader.headings))
        held = ends.held.join(was, on=LINE, how="left", maintain_order="left")
        parts.append(held.with_columns(pl.lit(None, dtype=pl.String).alias(TEXT)).select(list(schema)))
    if batch.broken:
        reasons = pl.Series(WHY, [b.code for b in batch.broken], dtype=pl.String)
        broken = opened.broken_rows(batch.broken, list(columns))
        parts.append(broken.with_columns(reasons, broken_before(batch.broken)).select(list(schema)))
    return pl.concat(parts).sort(LINE, maintain_order=True)


def kept_beside(recipe: Recipe, rows: pl.DataFrame) -> list[pl.Expr]:
    """What is kept of the rows that records are made of: the columns that `keep` looks at, whether they are written for the last time (`LAST`),
    and what the target holds of them (`THEIRS`, `LEFT`), if that is known."""
    looked_at = [pl.col(column).alias(SOURCE_COLUMN + column) for column in recipe.looked_at]
    theirs = [pl.col(THEIRS), pl.col(LEFT)] if recipe.known.of_target else []
    return [*looked_at, *theirs, pl.col(LAST) if LAST in rows.columns else pl.lit(False).alias(LAST)]


_SORT = "\x1fsort"


def sort_columns(plan: Plan, recipe: Recipe) -> list[pl.Expr]:
    """The columns that the written rows are sorted by, under names of their own (`sort_names`)."""
    values = {f"@{made.field.name}": made.value.expr for made in recipe.fields}
    return [values.get(name, pl.col(name)).alias(f"{_SORT}{i}") for i, name in enumerate(plan.sort)]


def in_order(plan: Plan, rows: Sequence[pl.DataFrame]) -> pl.DataFrame:
    """Written rows as the plan wants them sorted; those that are alike keep the total order."""
    names = [f"{_SORT}{i}" for i in range(len(plan.sort))]
    return pl.concat(rows).sort(names, maintain_order=True, nulls_last=True)
