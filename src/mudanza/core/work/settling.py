"""Lists made on trial: nothing of what they give out or write is known afterwards; what they would come to settles which of their rows can go."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date

import polars as pl

from mudanza.core.disk.files import Outputs
from mudanza.core.engine.early import MISSED
from mudanza.core.engine.intake import Intake
from mudanza.core.engine.late import run_whole
from mudanza.core.engine.local import run_recipe
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.state.sent import records_of
from mudanza.core.values.row_columns import CORRECTED, FILE, INNER, LINE, TEXT, WHERE, WHY, where
from mudanza.core.work.again.comparing import Comparing
from mudanza.core.work.behind import Behind
from mudanza.core.work.prepared import Prepared, assembled
from mudanza.core.work.progress import Progress, Tell
from mudanza.core.work.references import lost_in, refers_to_itself
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


def prepared(
    move: Move, plan: Plan, intake: Intake, tables: TablesAtHand, asked: Asked, *, refer: bool = False
) -> Prepared:
    named = refer and tables.makes_several
    return assembled(move, plan, intake, tables, asked.as_of, asked.parameters, refer=refer, named=named)


def settle_own(move: Move, plan: Plan, intake: Intake, tables: TablesAtHand, outputs: Outputs, asked: Asked) -> None:
    """Find out which rows of a list that refers to itself refer to none of its records.

    One that is held back may take others with it, and let others stand: the list is made, and nothing written, until no more are found.
    """
    own = refers_to_itself(plan, tables)
    tables.lost = {target.reference.fields: pl.Series([], dtype=pl.Int64) for target in own} if own else None
    if tables.lost is None:
        return
    titles = sorted({title for target in own for title in (*target.fields, *target.titles)})
    nothing = pl.DataFrame(schema={WHERE: pl.Int64, **dict.fromkeys(titles, pl.String)})
    while True:
        ready = prepared(move, plan, intake, tables, asked, refer=True)
        comparing = comparing_of(ready, outputs) if asked.sets else None
        rows = [nothing]
        for part in run_recipe(plan, ready.recipe, intake, ready.trial()):
            rows.append(part.written.select(part.places.alias(WHERE), *titles))
            if comparing is not None:
                comparing.take(part, records_of(part.written, plan.layout.key_titles, part.records)["key"])
        found = lost_in(plan, own, pl.concat(rows), None if comparing is None else comparing.staying())
        more = {fields: pl.concat([lost, found[fields]]).unique() for fields, lost in tables.lost.items()}
        if all(more[fields].len() == lost.len() for fields, lost in tables.lost.items()):
            return
        tables.lost = more


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
    """What a list would come to: the records written, with their places (`WHERE`), and the rows held back, with the texts that their fields would have, `PLACE` and `WHY`."""

    written: pl.DataFrame
    held: pl.DataFrame


def tried(move: Move, plan: Plan, intake: Intake, tables: TablesAtHand, asked: Asked) -> Tried:
    """Make a list with tables that are on trial, so that others can be made after it."""
    nowhere = Outputs(keep=False)
    settle_own(move, plan, intake, tables, nowhere, asked)
    ready = prepared(move, plan, intake, tables, asked, refer=True)
    recipe, memory = ready.recipe, ready.memory()
    texts = [made.text.expr.alias(made.field.title) for made in recipe.fields]
    written = [pl.DataFrame(schema={WHERE: pl.Int64, **dict.fromkeys(recipe.titles, pl.String)})]
    held = [pl.DataFrame(schema={PLACE: pl.String, WHY: pl.String, **dict.fromkeys(recipe.titles, pl.String)})]
    missed = [pl.DataFrame(schema=MISSED)]
    place = pl.format("{} line {}", FILE, LINE).alias(PLACE)
    comparing = comparing_of(ready, nowhere) if asked.sets else None
    read = 0
    for part in run_recipe(plan, recipe, intake, memory):
        read += part.summary.total.read
        asked.tell(Progress(f"trying {plan.name}", read, part.share))
        written.append(part.written.select(part.places.alias(WHERE), *recipe.titles))
        missed.append(part.missed.select(list(MISSED)))
        if comparing is not None:
            comparing.take(part, records_of(part.written, plan.layout.key_titles, part.records)["key"])
        whole = part.held.filter(pl.col(TEXT).is_null())
        for one in intake.opened if whole.height else ():
            rows = whole.filter(pl.col(FILE) == one.shown)
            rows = rows.with_columns(where(one.number), pl.lit(None, dtype=pl.String).alias(CORRECTED))
            books = {name: book.copy() for name, book in memory.books.items()}
            held.append(run_whole(recipe, rows, books).select(place, WHY, *texts))
    records = pl.concat(written)
    wanted = [title for title in recipe.titles if title in asked.wanted.get(plan.name, ())]
    if tables.makes_several and recipe.key:
        tables.not_written(plan.name, recipe.known.book, pl.concat(missed))
    if wanted:
        staying = [] if comparing is None else [comparing.staying()]
        tables.made(plan.name, pl.concat([rows.select(wanted) for rows in (records, *staying)]))
    return Tried(records, pl.concat(held))
