"""Some rows as they would be written, beside what they come from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any

import polars as pl

from mudanza.core.documents.errors import MoveError, unknown
from mudanza.core.engine.assembling import assemble_condition
from mudanza.core.engine.early import run_early, skipped_by
from mudanza.core.engine.intake import Opened
from mudanza.core.engine.late import Ends, run_late, run_whole
from mudanza.core.engine.places import with_cells
from mudanza.core.engine.recipe import Made, Recipe
from mudanza.core.findings.codes import Severity
from mudanza.core.language.asking import value_columns
from mudanza.core.language.own_steps import steps_of
from mudanza.core.language.parameters import check_given
from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.values.row_columns import FILE, LINE, SOURCE
from mudanza.core.work.choosing import Choice, choose
from mudanza.core.work.prepared import Prepared, prepare
from mudanza.core.work.together import goes_with


@dataclass(frozen=True)
class PreviewField:
    """One field of one row: the source values it comes from (none, where no case of its flow applies), what it gives (though the row may not be written), and the findings on it."""

    name: str
    title: str
    before: dict[str, str | None]
    after: str | None
    findings: list[dict[str, str | None]]


@dataclass(frozen=True)
class PreviewRow:
    """One row: where it stands (`unit` is what lines are: line, row or record), how it would end (written, skipped, held back, merged), the `rule` by which it is skipped, its
    fields, and the findings that decide or are about none of these."""

    source: str
    file: str
    unit: str
    line: int
    end: str
    rule: str | None
    fields: list[PreviewField]
    findings: list[dict[str, str | None]]


@dataclass(frozen=True)
class PreviewResult:
    """Some rows of a list, and the lists whose rows can keep its rows from going, which a build alone knows."""

    name: str
    rows: list[PreviewRow]
    goes_with: list[str] = field(default_factory=list)


def preview(
    move: Move,
    name: str,
    *,
    rows: int = 3,
    source: str | None = None,
    fields: list[str] | None = None,
    where: str | None = None,
    key: str | None = None,
    only_findings: bool = False,
    sample: bool = False,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
) -> PreviewResult:
    """At most `rows` rows of each source (or of one), made as `build` would make them. Nothing is written.

    These are the first, or those of a condition on source columns (`where`), of a new or old `key`, with findings (`only_findings`), or a fair
    sample of all. Identifiers that do not exist yet are shown as they would be given out if these rows were the first.
    """
    ready = prepare(
        move, name, as_of=as_of, parameters=parameters, draft=True, watch=True, refer=True, for_few=True, quick=True
    )
    plan, intake, recipe = ready.plan, ready.intake, ready.recipe
    check_given(parameters or {}, set(recipe.mentions.parameters), move.parameters)
    known = [f.name for f in plan.layout.fields]
    for wanted in fields or []:
        if wanted not in known:
            raise MoveError(unknown("field", wanted, known), hint=f"The layout has: {', '.join(known)}.")
    if source is not None and source not in intake.headings:
        raise MoveError(
            unknown("source", source, list(intake.headings)),
            hint=f"The plan has: {', '.join(intake.headings)}.",
        )
    condition = None
    if where is not None:
        steps = steps_of(move.folder, move.own_steps)
        condition = assemble_condition(plan, intake.columns, ready.around, where, steps)
    memory = ready.memory()
    files = [one.shown for one in intake.opened]

    def with_findings(opened: Opened, some: pl.DataFrame, noticed: pl.DataFrame) -> pl.Series:
        # the memory is not to hold what was only looked through
        early = run_early(recipe, some, opened.own(intake.columns), noticed)
        return run_late(recipe, early, ready.trial(), files).findings["line"].unique()

    shown: list[PreviewRow] = []
    choice = Choice(rows, condition, key, only_findings, sample)
    for opened, some, noticed in choose(ready, choice, with_findings, source):
        whole = run_whole(recipe, some, {name: book.copy() for name, book in memory.books.items()})
        early = run_early(recipe, some, opened.own(intake.columns), noticed)
        ends = run_late(recipe, early, memory, files)
        findings = with_cells(ends.findings, opened, recipe)
        skipped = skipped_by(recipe, some, opened.own(intake.columns))
        shown += _rows(ready, opened, some, whole, ends, findings, skipped, fields)
    return PreviewResult(name, shown, goes_with(move, plan, ready.tables))


def _rows(
    ready: Prepared,
    opened: Opened,
    some: pl.DataFrame,
    whole: pl.DataFrame,
    ends: Ends,
    findings: pl.DataFrame,
    skipped: pl.Series,
    fields: list[str] | None,
) -> list[PreviewRow]:
    recipe = ready.recipe
    written = dict(zip(ends.lines.to_list(), ends.written.iter_rows(named=True), strict=True))
    made = whole.select(LINE, *(one.text.expr.alias(one.field.title) for one in recipe.fields)).rows(named=True)
    applies = whole.select(LINE, *(_case_applies(recipe, one).alias(one.field.title) for one in recipe.fields)).rows(
        named=True
    )
    found = []
    for number, row in enumerate(some.iter_rows(named=True)):
        line = row[LINE]
        mine = findings.filter(pl.col("line") == line).drop("file", "line").to_dicts()
        gives = written.get(line, made[number])
        wanted = [
            PreviewField(
                one.field.name,
                one.field.title,
                _before(ready.plan, opened, row, one) if applies[number][one.field.title] else {},
                gives[one.field.title],
                [_public(f) for f in mine if f["field"] == one.field.title],
            )
            for one in recipe.fields
            if not fields or one.field.name in fields
        ]
        shown = {field.title for field in wanted}
        titles = set(recipe.titles)
        others = [
            _public(f)
            for f in mine
            if f["field"] not in titles or (f["field"] not in shown and f["severity"] == Severity.STOP)
        ]
        rule = skipped[number]
        unit = opened.reader.facts.unit
        end = ends.end_of(line)
        found.append(PreviewRow(str(row[SOURCE]), str(row[FILE]), unit, int(str(line)), end, rule, wanted, others))
    return found


def _case_applies(recipe: Recipe, made: Made) -> pl.Expr:
    """Whether a case of a field's flow applies; so it does where there are no cases."""
    watched = [one for one in recipe.mentions.watched if one.column == made.field.title and one.depth == 0]
    if not watched or any(one.applies is None for one in watched):
        return pl.lit(True)
    return pl.any_horizontal([one.applies.expr for one in watched if one.applies is not None])


def _before(plan: Plan, opened: Opened, row: dict[str, Any], made: Made) -> dict[str, str | None]:
    """The values of a row that a field is made of: those that its conditions look at only if there are no others."""
    values = value_columns(plan.flows.get(made.field.name, "blank"))
    names = [c for c in opened.names if c in made.columns]
    before = {c: row[c] for c in names if c in values} or {c: row[c] for c in names}
    return before or {c: row[c] for c in (SOURCE, FILE) if c in made.columns}


def _public(finding: dict[str, str | None]) -> dict[str, str | None]:
    """A finding with what it is about in one place."""
    shown = {name: value for name, value in finding.items() if name != "field"}
    return shown if finding["field"] is None else {**shown, "column": finding["field"]}
