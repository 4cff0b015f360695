"""The first rows as they would be written, beside what they come from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from mudanza.core.building.intake import Opened, open_sources
from mudanza.core.building.places import with_cells
from mudanza.core.building.program import Made, check_columns, compile_plan
from mudanza.core.building.rows import run_early, run_late, where, wrong_cells
from mudanza.core.errors import MoveError, unknown
from mudanza.core.findings import SCHEMA
from mudanza.core.move import Move
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
    """The first rows of a list. `read` counts the rows that were looked at."""

    name: str
    rows: list[PreviewRow]


def preview(
    move: Move,
    name: str,
    *,
    rows: int = 3,
    source: str | None = None,
    fields: list[str] | None = None,
    only_findings: bool = False,
    as_of: date | None = None,
    parameters: Mapping[str, str] | None = None,
) -> PreviewResult:
    """The first `rows` rows of each source (or of one), made as `build` would make them. Nothing is written.

    With `only_findings`, the first rows that have findings, among those in the sources' first quarter megabyte. Identifiers
    that do not exist yet are shown as they would be given out if these rows were the first.
    """
    plan = load_plan(move, name)
    intake = open_sources(plan, move.shown)
    program = compile_plan(plan, move, intake.columns, as_of or date.today(), parameters or {})
    check_columns(plan, program, intake.headings)
    known = [f.name for f in plan.layout.fields]
    for wanted in fields or []:
        if wanted not in known:
            raise MoveError(unknown("field", wanted, known), hint=f"The layout has: {', '.join(known)}.")
    if source is not None and source not in intake.headings:
        raise MoveError(
            unknown("source", source, list(intake.headings)),
            hint=f"The plan has: {', '.join(intake.headings)}.",
        )
    shown: list[PreviewRow] = []
    seen = SeenKeys()
    files = [one.shown for one in intake.opened]
    for opened, batch in intake.batches(first=True):
        if source is not None and opened.source.name != source:
            continue
        some = opened.rows(batch, intake.columns)
        some = where(some if only_findings else some.head(rows), opened.number)
        wrong = wrong_cells(opened.noticed(batch, program.used))
        ends = run_late(program, plan.layout, run_early(program, some, intake.columns, wrong), seen, files)
        findings = pl.concat([opened.noticed(batch, program.used), with_cells(ends.findings, opened, program)])
        if only_findings:
            lines = findings["line"].unique().sort().head(rows)
            some = some.filter(pl.col(LINE).is_in(lines.implode()))
        written = dict(zip(ends.lines.to_list(), ends.written.iter_rows(named=True), strict=True))
        held_lines = set(ends.held[LINE].to_list())
        for row in some.iter_rows(named=True):
            line = row[LINE]
            mine = (
                findings.filter(pl.col("line") == line)
                .select([c for c in SCHEMA if c not in ("file", "line")])
                .to_dicts()
            )
            end = "written" if line in written else "held back" if line in held_lines else "skipped"
            if any(f["code"] == "row.merged" for f in mine):
                end = "merged"
            shown.append(_row(opened, row, end, written.get(line, {}), mine, program.fields, fields))
    return PreviewResult(name, shown)


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
