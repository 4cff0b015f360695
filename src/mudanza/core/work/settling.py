"""Lists made on trial: nothing of what they give out or write is known afterwards; what they would come to settles which of their rows can go."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.engine.intake import Intake
from mudanza.core.engine.late import run_whole
from mudanza.core.engine.local import run_recipe
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.values.row_columns import CORRECTED, FILE, INNER, LINE, TEXT, WHY, where
from mudanza.core.work.again.comparing import Comparing
from mudanza.core.work.behind import Behind
from mudanza.core.work.collecting import Collector, HandedOn, places_of, texts_of
from mudanza.core.work.prepared import Prepared, assembled
from mudanza.core.work.progress import Progress, Tell
from mudanza.core.work.references import Lost, lost_in, refers_to_itself
from mudanza.core.work.tables_at_hand import TablesAtHand

#: file and line of a row, as people are told them
PLACE = f"{INNER}place"


@dataclass(frozen=True)
class Asked:
    """What a build was asked for."""

    as_of: date
    parameters: Mapping[str, str]
    tell: Tell
    compare: bool
    #: whether files of what is new, changed and gone are written
    sets: bool
    run: int | None
    #: losses that are meant, by the codes of their findings
    meant: frozenset[str]
    #: the headings of lists that others look up in, or refer to
    wanted: Mapping[str, Collection[str]]


@dataclass(frozen=True)
class Listed:
    """A list to be made, with its open sources. `lost` tells, where that is settled, which rows refer to no record of
    the list itself; `lost_first` the same of a pass without what comes behind other lists."""

    plan: Plan
    intake: Intake
    lost: Lost | None = None
    lost_first: Lost | None = None


def prepared(
    move: Move, one: Listed, tables: TablesAtHand, asked: Asked, *, refer: bool = False, lost: Lost | None = None
) -> Prepared:
    named = refer and tables.makes_several
    return assembled(
        move, one.plan, one.intake, tables, asked.as_of, asked.parameters, refer=refer, named=named, lost=lost
    )


def settle_own(move: Move, one: Listed, tables: TablesAtHand, outputs: Outputs, asked: Asked) -> Lost:
    """Which rows of a list refer to none of its own records, by the fields that refer.

    The list is made once, and nothing written; what follows of rows that are held back is found in what would be
    written. Only where rows share their keys, and a later one may take the place of one that is held back, it is made
    again, until no more are found.
    """
    if one.lost is not None:
        return one.lost
    plan = one.plan
    own = refers_to_itself(plan, tables)
    lost = {target.reference.fields: pl.Series([], dtype=pl.Int64) for target in own}
    titles = sorted({title for target in own for title in (*target.fields, *target.titles)} | {*plan.layout.key_titles})
    while own:
        ready = prepared(move, one, tables, asked, refer=True, lost=lost)
        comparing = comparing_of(ready, outputs) if asked.sets else None
        places, texts = places_of(), texts_of(titles)
        repeated = 0
        for part in run_recipe(plan, ready.recipe, one.intake, ready.trial()):
            places.take(part)
            texts.take(part)
            repeated += part.summary.total.merged + part.findings.filter(pl.col("code") == "key.repeated").height
            if comparing is not None:
                comparing.take(part)
        found = lost_in(plan, own, places.rows.hstack(texts.rows), None if comparing is None else comparing.staying)
        more = {fields: pl.concat([before, found[fields]]).unique() for fields, before in lost.items()}
        again = repeated and any(more[fields].len() > before.len() for fields, before in lost.items())
        lost = more
        if not again:
            break
    return lost


def comparing_of(
    ready: Prepared, outputs: Outputs, *, sets: bool = False, behind: Behind | None = None
) -> Comparing | None:
    """What compares a list with what the target holds, if something is known of that."""
    against = ready.tables.against(ready.plan)
    if against is None:
        return None
    books = list(dict.fromkeys(mint.book for mint in ready.recipe.key_mints))
    return Comparing(
        ready.move, ready.plan, ready.tables.ledger, against, outputs, sets=sets, books=books, behind=behind
    )


@dataclass(frozen=True)
class Tried:
    """What a list would come to: the records written, with their places (`WHERE`), the rows held back, with the texts
    that their fields would have, `PLACE` and `WHY`, and those that refer to none of its records."""

    written: pl.DataFrame
    held: pl.DataFrame
    lost: Lost


def tried(move: Move, one: Listed, tables: TablesAtHand, asked: Asked) -> Tried:
    """Make a list with tables that are on trial, so that others can be made after it."""
    plan, intake, nowhere = one.plan, one.intake, Outputs(keep=False)
    lost = settle_own(move, one, tables, nowhere, asked)
    ready = prepared(move, one, tables, asked, refer=True, lost=lost)
    recipe, memory = ready.recipe, ready.memory()
    texts = [made.text.expr.alias(made.field.title) for made in recipe.fields]
    titles = recipe.titles
    handed_on = HandedOn.of(ready, asked.wanted)
    places, records = places_of(), texts_of(titles)
    held = [pl.DataFrame(schema={PLACE: pl.String, WHY: pl.String, **dict.fromkeys(titles, pl.String)})]
    place = pl.format("{} line {}", FILE, LINE).alias(PLACE)
    comparing = comparing_of(ready, nowhere) if asked.sets else None
    collectors: list[Collector] = [places, records, *handed_on.collectors]
    if comparing is not None:
        collectors.append(comparing)
    read = 0
    for part in run_recipe(plan, recipe, intake, memory):
        read += part.summary.total.read
        asked.tell(Progress(f"trying {plan.name}", read, part.share))
        for each in collectors:
            each.take(part)
        whole = part.held.filter(pl.col(TEXT).is_null())
        for opened in intake.opened if whole.height else ():
            rows = whole.filter(pl.col(FILE) == opened.shown)
            rows = rows.with_columns(where(opened.number), pl.lit(None, dtype=pl.String).alias(CORRECTED))
            books = {name: book.copy() for name, book in memory.books.items()}
            held.append(run_whole(recipe, rows, books).select(place, WHY, *texts))
    handed_on.hand_on(ready, None if comparing is None else comparing.staying)
    return Tried(places.rows.hstack(records.rows), pl.concat(held), lost)
