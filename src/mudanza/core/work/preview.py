"""Some rows as they would be written, beside what they come from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from mudanza.core.documents.errors import MoveError, unknown
from mudanza.core.engine.assembling import assemble_condition
from mudanza.core.engine.early import run_early
from mudanza.core.engine.intake import Opened
from mudanza.core.engine.late import Ends, run_late
from mudanza.core.engine.places import with_cells
from mudanza.core.engine.recipe import Made, Recipe
from mudanza.core.language.own_steps import steps_of
from mudanza.core.language.parameters import check_given
from mudanza.core.plans.move import Move
from mudanza.core.values.row_columns import FILE, LINE, SOURCE
from mudanza.core.work.choosing import Choice, choose
from mudanza.core.work.prepared import prepare


@dataclass(frozen=True)
class PreviewField:
    """One field of one row: the source values it comes from, what is written, and the findings on it."""

    name: str
    title: str
    before: dict[str, str | None]
    after: str | None
    findings: list[dict[str, str | None]]


@dataclass(frozen=True)
class PreviewRow:
    """One row: where it stands (`unit` is what lines are: line, row or record), how it would end (written, skipped, held back, merged), and its fields."""

    source: str
    file: str
    unit: str
    line: int
    end: str
    fields: list[PreviewField]
    findings: list[dict[str, str | None]]


@dataclass(frozen=True)
class PreviewResult:
    """Some rows of a list."""

    name: str
    rows: list[PreviewRow]


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
    ready = prepare(move, name, as_of=as_of, parameters=parameters, draft=True, refer=True)
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
        early = run_early(recipe, some, opened.own(intake.columns), noticed)
        ends = run_late(recipe, early, memory, files)
        findings = with_cells(ends.findings, opened, recipe)
        shown += _rows(recipe, opened, some, ends, findings, fields)
    return PreviewResult(name, shown)


def _rows(
    recipe: Recipe, opened: Opened, some: pl.DataFrame, ends: Ends, findings: pl.DataFrame, fields: list[str] | None
) -> list[PreviewRow]:
    written = dict(zip(ends.lines.to_list(), ends.written.iter_rows(named=True), strict=True))
    found = []
    for row in some.iter_rows(named=True):
        line = row[LINE]
        mine = findings.filter(pl.col("line") == line).drop("file", "line").to_dicts()
        found.append(_row(opened, row, ends.end_of(line), written.get(line, {}), mine, recipe.fields, fields))
    return found


def _row(
    opened: Opened,
    row: dict[str, Any],
    end: str,
    written: dict[str, str | None],
    findings: list[dict[str, str | None]],
    made: Sequence[Made],
    fields: list[str] | None,
) -> PreviewRow:
    shown = []
    for one in made:
        if fields and one.field.name not in fields:
            continue
        before = {c: row[c] for c in opened.names if c in one.columns}
        before = before or {c: row[c] for c in (SOURCE, FILE) if c in one.columns}
        mine = [_public(f) for f in findings if f["field"] == one.field.title]
        shown.append(PreviewField(one.field.name, one.field.title, before, written.get(one.field.title), mine))
    titles = {one.field.title for one in made}
    others = [_public(f) for f in findings if f["field"] not in titles]
    unit = opened.reader.facts.unit
    return PreviewRow(str(row[SOURCE]), str(row[FILE]), unit, int(str(row[LINE])), end, shown, others)


def _public(finding: dict[str, str | None]) -> dict[str, str | None]:
    """A finding with what it is about in one place."""
    shown = {name: value for name, value in finding.items() if name != "field"}
    return shown if finding["field"] is None else {**shown, "column": finding["field"]}
