"""Some rows as they would be written, beside what they come from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from mudanza.core.building.choosing import Choice, choose
from mudanza.core.building.intake import Opened, open_sources
from mudanza.core.building.places import with_cells
from mudanza.core.building.program import Made, Program, check_columns, compile_chooser, compile_plan
from mudanza.core.building.rows import Ends, run_early, run_late, wrong_cells
from mudanza.core.errors import MoveError, unknown
from mudanza.core.findings import SCHEMA
from mudanza.core.move import Move
from mudanza.core.parameters import check_given
from mudanza.core.plans import load_plan
from mudanza.core.sources.reading import FILE, LINE, SOURCE
from mudanza.core.unique import SeenKeys


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
    plan = load_plan(move, name, draft=True)
    intake = open_sources(plan, move.shown)
    day, given = as_of or date.today(), parameters or {}
    program = compile_plan(plan, move, intake.columns, day, given)
    check_columns(plan, program, intake.headings)
    check_given(given, set(program.parameters), move.parameters)
    known = [f.name for f in plan.layout.fields]
    for wanted in fields or []:
        if wanted not in known:
            raise MoveError(unknown("field", wanted, known), hint=f"The layout has: {', '.join(known)}.")
    if source is not None and source not in intake.headings:
        raise MoveError(
            unknown("source", source, list(intake.headings)),
            hint=f"The plan has: {', '.join(intake.headings)}.",
        )
    chooser = compile_chooser(plan, move, intake.columns, day, given, where) if where is not None else None
    seen = SeenKeys()
    files = [one.shown for one in intake.opened]

    def ends_of(opened: Opened, some: pl.DataFrame, noticed: pl.DataFrame, seen: SeenKeys) -> tuple[Ends, pl.DataFrame]:
        ends = run_late(
            program, plan.layout, run_early(program, some, intake.columns, wrong_cells(noticed)), seen, files
        )
        return ends, pl.concat([noticed, with_cells(ends.findings, opened, program)])

    # the books are not to remember what was only looked through
    looking = compile_plan(plan, move, intake.columns, day, given) if only_findings else program

    def with_findings(some: pl.DataFrame, noticed: pl.DataFrame) -> pl.Series:
        ends = run_late(
            looking, plan.layout, run_early(looking, some, intake.columns, wrong_cells(noticed)), SeenKeys(), files
        )
        return pl.concat([noticed, ends.findings])["line"].unique()

    shown: list[PreviewRow] = []
    choice = Choice(rows, chooser, key, only_findings, sample)
    for opened, some, noticed in choose(intake, program, choice, with_findings, source):
        ends, findings = ends_of(opened, some, noticed, seen)
        shown += _rows(program, opened, some, ends, findings, fields)
    return PreviewResult(name, shown)


def _rows(
    program: Program, opened: Opened, some: pl.DataFrame, ends: Ends, findings: pl.DataFrame, fields: list[str] | None
) -> list[PreviewRow]:
    written = dict(zip(ends.lines.to_list(), ends.written.iter_rows(named=True), strict=True))
    found = []
    for row in some.iter_rows(named=True):
        line = row[LINE]
        mine = (
            findings.filter(pl.col("line") == line).select([c for c in SCHEMA if c not in ("file", "line")]).to_dicts()
        )
        found.append(_row(opened, row, ends.end_of(line), written.get(line, {}), mine, program.fields, fields))
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
        mine = [f for f in findings if f["column"] == one.field.title]
        shown.append(PreviewField(one.field.name, one.field.title, before, written.get(one.field.title), mine))
    titles = {one.field.title for one in made}
    others = [f for f in findings if f["column"] not in titles]
    unit = opened.reader.facts.unit
    return PreviewRow(str(row[SOURCE]), str(row[FILE]), unit, int(str(row[LINE])), end, shown, others)
