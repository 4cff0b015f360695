"""What is done to a batch of rows before identifiers are given: a pure function of the rows, so that batches can be made side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

import polars as pl

from mudanza.core.engine.recipe import Recipe
from mudanza.core.findings.finding import SCHEMA, joined
from mudanza.core.findings.problem import Problem, flags, gather, held
from mudanza.core.language.value import Stage
from mudanza.core.values.row_columns import CORRECTED, FILE, INNER, LINE

#: numbers the rows of a batch
ROW = f"{INNER}row"
#: why rows are skipped
CORRECTED_ROW, BLANK_ROW, NOT_KEPT = "corrected", "blank row", "keep"


@dataclass(frozen=True)
class Early:
    """A batch after all that needs no identifiers: the rows that were read (but for blank ones), those still standing, the numbers of those held back,
    how many were skipped by which rule, what was found, and how many came back corrected by which file."""

    original: pl.DataFrame
    rows: pl.DataFrame
    held: pl.Series
    skipped: dict[str, int]
    findings: pl.DataFrame
    corrected: dict[str, int]

    def without(self, damaged: Sequence[str]) -> Early:
        """The same with damaged rows that came back corrected, in these files."""
        if not damaged:
            return self
        skipped = {**self.skipped, CORRECTED_ROW: self.skipped.get(CORRECTED_ROW, 0) + len(damaged)}
        return replace(self, skipped=skipped, corrected=dict(Counter(self.corrected) + Counter(damaged)))


def run_early(recipe: Recipe, rows: pl.DataFrame, columns: list[str], noticed: pl.DataFrame | None = None) -> Early:
    """Choose rows and make the fields that need no identifier.

    `columns` are those that the source fills; `noticed` is what the reader found: rows with a value that it holds wrong are held back before anything is asked
    of them.
    """
    noticed = pl.DataFrame(schema=SCHEMA) if noticed is None else noticed
    skipped: dict[str, int] = {}
    corrected: dict[str, int] = {}
    back = rows.filter(pl.col(CORRECTED).is_not_null())
    if back.height:
        skipped[CORRECTED_ROW] = back.height
        corrected = dict(back[CORRECTED].value_counts().iter_rows())
        rows = rows.filter(pl.col(CORRECTED).is_null())
        noticed = noticed.filter(~pl.col("line").is_in(back[LINE].implode()).fill_null(False))
    findings = [noticed]
    blank = blank_rows(rows, columns)
    if blank.any():
        skipped[BLANK_ROW] = int(blank.sum())
        rows = rows.filter(~blank)
    original = rows = rows.with_row_index(ROW)
    held_rows: list[pl.Series] = []
    wrong = wrong_values(noticed)["line"]
    if wrong.len():
        bad = rows[LINE].is_in(wrong.implode())
        held_rows.append(rows[ROW].filter(bad))
        rows = rows.filter(~bad)
    if recipe.keep is not None:
        keep = recipe.keep
        chosen = recipe.run(rows, [*keep.stages, Stage(flags(keep.problems))])
        bad = chosen.select(held(keep.problems)).to_series()
        findings.append(gather_here(chosen, keep.problems))
        kept = chosen.select(keep.expr).to_series()
        left_out = int((~kept & ~bad).sum())
        if left_out:
            skipped[NOT_KEPT] = left_out
        if bad.any():
            held_rows.append(chosen[ROW].filter(bad))
        if left_out or bad.any():
            rows = rows.filter(kept & ~bad)
    rows = recipe.run(rows, [*recipe.early, Stage(flags(recipe.early_problems))])
    bad = rows.select(held(recipe.early_problems)).to_series()
    findings.append(gather_here(rows, recipe.early_problems))
    if bad.any():
        held_rows.append(rows[ROW].filter(bad))
        rows = rows.filter(~bad)
    held_index = pl.concat([pl.Series(ROW, [], dtype=pl.UInt32), *held_rows])
    return Early(original, rows, held_index, skipped, joined(findings), corrected)


def blank_rows(rows: pl.DataFrame, columns: list[str]) -> pl.Series:
    """Whether rows have nothing in any of the columns."""
    return rows.select(pl.all_horizontal(pl.col(columns).is_null())).to_series()


def wrong_values(noticed: pl.DataFrame) -> pl.DataFrame:
    """Of what a reader noticed, the values that keep their rows from being written."""
    return noticed.filter(
        (pl.col("severity") == "stop") & pl.col("line").is_not_null() & pl.col("column").is_not_null()
    )


def gather_here(rows: pl.DataFrame, problems: list[Problem], start: int = 0) -> pl.DataFrame:
    """The findings of rows that know their file."""
    return gather(rows, problems, pl.col(FILE), start=start)


def skipped_by(recipe: Recipe, rows: pl.DataFrame, columns: list[str]) -> pl.Series:
    """The rule by which each row is skipped; null for those that are not."""
    keep = recipe.keep
    not_kept = pl.lit(False)
    if keep is not None:
        not_kept = pl.col(LINE).is_in(keep.choose(rows, meeting=False)[LINE].implode())
    rule = (
        pl.when(pl.col(CORRECTED).is_not_null())
        .then(pl.lit(CORRECTED_ROW))
        .when(pl.lit(blank_rows(rows, columns)))
        .then(pl.lit(BLANK_ROW))
        .when(not_kept)
        .then(pl.lit(NOT_KEPT))
    )
    return rows.select(rule.alias("rule")).to_series()
