"""Where findings stand: what of a file was passed over, and cells in workbooks."""

from __future__ import annotations

import polars as pl

from mudanza.core.building.intake import Opened
from mudanza.core.building.program import Program
from mudanza.core.findings import Finding


def passed_over(opened: Opened) -> list[Finding]:
    """What of a file was not read, where the plan does not say that it is meant."""
    facts, said = opened.reader.facts, opened.source.options
    found = []
    _, doubt, likely = (facts.encoding_because or "").partition("as said, but it looks like ")
    if doubt:
        hint = f'Say encoding = "{likely}" in the plan\'s source, or leave it out to have it found.'
        found.append(Finding("file.encoding", opened.shown, value=likely, rule=f"encoding {facts.encoding}", hint=hint))
    if facts.above and said.heading is None:
        found.append(
            Finding("read.above-heading", opened.shown, facts.heading_line, value=f"{facts.above} {facts.unit}s")
        )
    if facts.heading_line == 0 and said.heading is None and (facts.delimiter or facts.sheet):
        found.append(Finding("read.no-heading", opened.shown, 1))
    others = [f"{sheet.name} ({sheet.rows} rows)" for sheet in facts.sheets if not sheet.chosen and sheet.rows]
    if others and said.sheet is None:
        found.append(Finding("read.other-sheets", opened.shown, value=", ".join(others)))
    return found


def with_cells(findings: pl.DataFrame, opened: Opened, program: Program) -> pl.DataFrame:
    """Findings with the cell, or the row where a field is made of several columns; or with what rows are counted in."""
    facts = opened.reader.facts
    sheet = facts.sheet
    if findings.is_empty() or (sheet is None and facts.unit == "line"):
        return findings
    if sheet is None:
        return findings.with_columns(pl.format(f"{facts.unit} {{}}", "line").alias("cell"))
    columns = {
        made.field.title: looked_at[0]
        for made in program.fields
        if len(looked_at := [c for c in made.columns if not c.startswith("#")]) == 1
    }
    cells = []
    for title, line in findings.select("column", "line").iter_rows():
        cell = opened.cell(columns[title], line) if title in columns else None
        cells.append(f"{sheet}!{cell or f'{line}:{line}'}")
    return findings.with_columns(pl.Series("cell", cells, dtype=pl.String))
