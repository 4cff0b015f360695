"""One record's whole story: where it came from, how each field was made, and where it went."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

import polars as pl

from mudanza.core.documents.errors import MudanzaError
from mudanza.core.engine.early import run_early, skipped_by
from mudanza.core.engine.intake import Opened
from mudanza.core.engine.late import run_late, run_whole
from mudanza.core.engine.places import with_cells
from mudanza.core.findings.finding import as_shown
from mudanza.core.layouts.layout import Layout
from mudanza.core.plans.crosswalk_files import entries_of
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.formats import read_built
from mudanza.core.sources.reader import BrokenRow
from mudanza.core.state.evidence import ledger_of
from mudanza.core.state.in_target import HandOver
from mudanza.core.state.loans import accepted
from mudanza.core.state.sent import Went, went_out
from mudanza.core.tables.crosswalk import PROPOSED, Listed
from mudanza.core.values.kinds import plain_text
from mudanza.core.values.row_columns import BETWEEN, FILE, LINE, SOURCE, key_text, shown_key
from mudanza.core.work.again.handing_over import told_of
from mudanza.core.work.choosing import Choice, choose
from mudanza.core.work.order import list_of
from mudanza.core.work.prepared import Prepared, prepare
from mudanza.core.work.tables_at_hand import TablesAtHand
from mudanza.core.work.together import goes_with

_MOST = 5


@dataclass(frozen=True)
class TracedStep:
    """A piece of a flow and the value after it; `depth` counts the brackets it stands in."""

    text: str
    value: str | None
    depth: int


@dataclass(frozen=True)
class TracedField:
    """A field of the record: its steps in their order, the text that is written, and the crosswalk entries that were used."""

    name: str
    title: str
    flow: str | None
    steps: list[TracedStep]
    written: str | None
    entries: list[str]


@dataclass(frozen=True)
class TracedRow:
    """A source row of the record: all its columns, how it ended (and the rule by which it is skipped), its fields, the identifiers (book, old, new, given or not yet), and its findings."""

    source: str
    file: str
    unit: str
    line: int
    columns: dict[str, str | None]
    keep: str | None
    end: str
    rule: str | None
    fields: list[TracedField]
    keys: list[tuple[str, str, str | None, bool]]
    findings: list[dict[str, str | None]]


@dataclass(frozen=True)
class Related:
    """Records of another list that belong to the record: `to` if it refers to them, else they refer to it."""

    list_name: str
    to: bool
    fields: str
    count: int
    keys: list[str]


@dataclass(frozen=True)
class Trace:
    """A record in one list. `went` are the runs that wrote it (with their moment), `changes` what loans changed: loan, field, before, after."""

    list_name: str
    key: str | None
    rows: list[TracedRow]
    #: damaged rows that hold the key: file, line, why, text
    damaged: list[tuple[str, int, str, str]] = field(default_factory=list)
    went: list[tuple[Went, str]] = field(default_factory=list)
    #: the hand-overs that speak of the record: each with what became of it, and the target's own identifier
    told: list[tuple[HandOver, str, str | None]] = field(default_factory=list)
    changes: list[tuple[str, str, str | None, str | None]] = field(default_factory=list)
    related: list[Related] = field(default_factory=list)
    #: lists whose rows can keep its rows from going, which a build alone knows
    goes_with: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Traces:
    """A record in the lists that have it, the lists that could not be looked through, with the reason, and those that were not looked through any more."""

    found: list[Trace]
    failed: list[tuple[str, MudanzaError]] = field(default_factory=list)
    left: list[str] = field(default_factory=list)


def trace(
    move: Move,
    key: str,
    lists: Sequence[str] = (),
    *,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
) -> Traces:
    """The record of a new or old key in some lists, or in the first that has it if none are named: those first that wrote it.

    Nothing is written. Raises MudanzaError where a list that was named cannot be looked through.
    """
    if lists:
        asked = [_trace(move, key, name, as_of or date.today(), parameters or {}) for name in lists]
        return Traces([one for one in asked if one is not None])
    left = move.names("plans", ".toml")
    ledger = ledger_of(move)
    left.sort(key=lambda name: not went_out(ledger, name, key))
    failed = []
    while left:
        name = left.pop(0)
        try:
            one = _trace(move, key, name, as_of or date.today(), parameters or {})
        except MudanzaError as error:
            failed.append((name, error))
            continue
        if one is not None:
            return Traces([one], failed, left)
    return Traces([], failed)


def _trace(move: Move, key: str, name: str, as_of: date, parameters: Mapping[str, str]) -> Trace | None:
    ready = prepare(move, name, as_of=as_of, parameters=parameters, watch=True, refer=True, for_few=True)
    plan, ledger = ready.plan, ready.tables.ledger
    rows: list[TracedRow] = []
    broken: list[tuple[Opened, BrokenRow]] = []
    for opened, some, noticed in choose(ready, Choice(_MOST, key=key, damaged=broken), lambda _, rows, __: rows[LINE]):
        rows += _rows(ready, opened, some, noticed)
    titles = plan.layout.key_titles
    written = next((r for r in rows if r.end in ("written", "merged")), None)
    texts = {f.title: f.written for f in written.fields} if written else {}
    new = ", ".join(texts.get(t) or "" for t in titles) if written and titles else None
    went = went_out(ledger, name, new or key)
    if not rows and not went and not broken:
        return None
    damaged = [(opened.shown, row.line, f"{row.code}: {row.value}", row.text or "") for opened, row in broken]
    moments = {run.id: run.started for run in ledger.runs()}
    target = new or key
    changes = [
        (loan, by_field, before, after)
        for loan, changed, by_field, before, after in accepted(ledger, name)
        if changed.replace(BETWEEN, ", ") == target
    ]
    return Trace(
        name,
        new,
        rows,
        damaged,
        [(one, moments.get(one.run, "")) for one in went],
        told_of(ledger, name, target),
        changes,
        _related(ready.tables, plan, texts),
        goes_with(move, plan, ready.tables),
    )


def _rows(ready: Prepared, opened: Opened, some: pl.DataFrame, noticed: pl.DataFrame) -> list[TracedRow]:
    recipe, intake = ready.recipe, ready.intake
    made = run_whole(recipe, some, ready.tables.books)
    given = {mint.key: set(ready.tables.book(mint.book).find(made[mint.identity])["key"]) for mint in recipe.mints}
    early = run_early(recipe, some, opened.own(intake.columns), noticed)
    ends = run_late(recipe, early, ready.trial(), [one.shown for one in intake.opened])
    skipped = skipped_by(recipe, some, opened.own(intake.columns))
    findings = as_shown(with_cells(ends.findings, opened, recipe))
    found = []
    for number, row in enumerate(some.iter_rows(named=True)):
        line = row[LINE]
        end = ends.end_of(line)
        mine = findings.filter(pl.col("line") == line).drop("file", "line").to_dicts()
        keys = []
        whole = made[number]
        for mint in recipe.mints:
            identity, key = whole.select(mint.identity, mint.key).row(0)
            if identity is not None:
                keys.append((mint.book, identity.replace(BETWEEN, ", "), key, key in given[mint.key]))
        columns = {c: row[c] for c in opened.names}
        fields = _fields(ready, whole) if end != "skipped" else []
        found.append(
            TracedRow(
                str(row[SOURCE]),
                str(row[FILE]),
                opened.reader.facts.unit,
                line,
                columns,
                ready.plan.keep,
                end,
                skipped[number],
                fields,
                keys,
                mine,
            )
        )
    return found


def _fields(ready: Prepared, row: pl.DataFrame) -> list[TracedField]:
    recipe = ready.recipe
    asked: list[pl.Expr] = []
    for number, watched in enumerate(recipe.mentions.watched):
        asked.append(plain_text(watched.value.expr, watched.value.kind).cast(pl.String).alias(f"v{number}"))
        asked.append((pl.lit(True) if watched.applies is None else watched.applies.expr).alias(f"a{number}"))
    asked += [made.text.expr.alias(f"t{number}") for number, made in enumerate(recipe.fields)]
    values = row.select(asked).row(0, named=True)
    found = []
    for number, made in enumerate(recipe.fields):
        steps = []
        for at, watched in enumerate(recipe.mentions.watched):
            if watched.column != made.field.title or not values[f"a{at}"]:
                continue
            steps.append(TracedStep(watched.text, values[f"v{at}"], watched.depth))
        flow = ready.plan.flows.get(made.field.name)
        entries = _entries(ready, row, made.field.title)
        found.append(TracedField(made.field.name, made.field.title, flow, steps, values[f"t{number}"], entries))
    return found


def _entries(ready: Prepared, row: pl.DataFrame, title: str) -> list[str]:
    """The lines of crosswalks that a field of a row was made by, as people know them."""
    found, move = [], ready.move
    for asked in ready.recipe.mentions.crosswalks:
        if asked.field != title or (asked.applies is not None and not row.select(asked.applies).item()):
            continue
        asked_for = row.select(asked.columns)
        each = asked_for.explode(asked.columns[0]) if isinstance(asked_for.dtypes[0], pl.List) else asked_for
        path = move.crosswalk_path(asked.crosswalk)
        listed = Listed([e for e in entries_of(path) if e.state != PROPOSED])
        codes = [tuple(value or "" for value in values) for values in each.iter_rows()]
        for entry in filter(None, [listed.entry_for(values) for values in codes if values[0]]):
            code = f"{entry.code} to {entry.upto}" if entry.upto else entry.code
            said = f"{move.shown(path)} line {entry.line}: {', '.join((code, *entry.when))} -> {entry.to or '(blank)'}"
            found.append(said + (f"  ({entry.note})" if entry.note else ""))
    return found


def _related(tables: TablesAtHand, plan: Plan, texts: Mapping[str, str | None]) -> list[Related]:
    """Records of other lists, in the files as they were built last."""
    if not texts:
        return []
    move, layouts = tables.move, tables.layouts
    found = []
    by_name = {f.name: f.title for f in plan.layout.fields}
    for reference in plan.layout.references:
        target = list_of(layouts, reference.resource)
        values = [texts.get(by_name[f]) for f in reference.fields]
        if target and all(values):
            found.append(_matching(move, layouts[target], target, True, reference.columns, values))
    for other, layout in layouts.items():
        for reference in layout.references:
            if list_of(layouts, reference.resource) == plan.name:
                values = [texts.get(by_name.get(c, c)) for c in reference.columns]
                if all(values):
                    found.append(_matching(move, layout, other, False, reference.fields, values))
    return [one for one in found if one is not None]


def _matching(
    move: Move, layout: Layout, name: str, to: bool, names: Sequence[str], values: Sequence[Any]
) -> Related | None:
    rows = read_built(move, name, layout)
    if rows is None:
        return None
    titles = {f.name: f.title for f in layout.fields}
    asked = [pl.col(titles.get(n, n)) == v for n, v in zip(names, values, strict=True)]
    hits = rows.filter(pl.all_horizontal(asked))
    keys = [titles[k] for k in layout.primary_key] or list(titles.values())[:1]
    shown_keys = hits.select(shown_key(key_text([pl.col(k) for k in keys]))).to_series()
    return Related(name, to, ", ".join(names), hits.height, shown_keys.head(_MOST).to_list())
