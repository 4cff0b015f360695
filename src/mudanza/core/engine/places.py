"""Where findings stand: what of a file was passed over, and cells in workbooks."""

from __future__ import annotations

import polars as pl

from mudanza.core.documents.errors import counted
from mudanza.core.engine.intake import Opened
from mudanza.core.engine.recipe import Recipe
from mudanza.core.findings.finding import Finding


def passed_over(opened: Opened) -> list[Finding]:
    """What of a file was not read, where the plan does not say that it is meant."""
    facts, said = opened.reader.facts, opened.source.options
    found = []
    if facts.text is not None and facts.text.likelier is not None:
        likely = facts.text.likelier
        hint = f'Say encoding = "{likely}" in the plan\'s source, or leave it out to have it found.'
        found.append(Finding("file.encoding", opened.shown, value=likely, rule=f"encoding {facts.encoding}", hint=hint))
    if facts.text is not None and facts.text.others:
        hint = (
            f'Look at names and towns, and say encoding = "{facts.encoding}" in the plan\'s source if they are right.'
        )
        rule = f"{' and '.join(facts.text.others[:3])} would read it otherwise"
        found.append(Finding("file.encoding-guessed", opened.shown, value=facts.encoding, rule=rule, hint=hint))
    if facts.above and said.heading is None:
        found.append(
            Finding("read.above-heading", opened.shown, facts.heading_line, value=f"{facts.above} {facts.unit}s")
        )
    if facts.heading_line == 0 and said.heading is None and (facts.delimiter or facts.sheet):
        found.append(Finding("read.no-heading", opened.shown, 1))
    others = [
        f"{sheet.name} ({counted(sheet.rows, 'row')})" for sheet in facts.sheets if not sheet.chosen and sheet.rows
    ]
    if others and said.sheet is None:
        found.append(Finding("read.other-sheets", opened.shown, value=", ".join(others)))
    return found


def with_cells(findings: pl.DataFrame, opened: Opened, recipe: Recipe) -> pl.DataFrame:
    """Findings with the cell they are about (the row, where a field is made of several columns), or with what the file's rows are counted in."""
    facts = opened.reader.facts
    if findings.is_empty() or (facts.sheet is None and facts.unit == "line"):
        return findings
    if facts.sheet is None:
        place = pl.format(f"{facts.unit} {{}}", "line")
    else:
        letters = opened.letters
        of_field = {
            made.field.title: letters[looked_at[0]]
            for made in recipe.fields
            if len(looked_at := [c for c in made.columns if not c.startswith("#")]) == 1 and looked_at[0] in letters
        }
        letter = pl.col("field").replace_strict(of_field, default=None, return_dtype=pl.String)
        cell = pl.coalesce(pl.format("{}{}", letter, "line"), pl.format("{}:{}", "line", "line"))
        place = pl.format("{}!{}", pl.lit(facts.sheet), cell)
    return findings.with_columns(pl.coalesce("cell", place).alias("cell"))
