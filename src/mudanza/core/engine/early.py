"""What is done to a batch of rows before identifiers are given: a pure function of the rows, so that batches can be made side by side."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import polars as pl

from mudanza.core.engine.recipe import Condition, Recipe
from mudanza.core.findings.finding import SCHEMA, joined
from mudanza.core.findings.problem import Problem, flags, flags_of_rows, gather, held
from mudanza.core.language.value import Stage
from mudanza.core.plans.leavers import EXCLUDED, UNSELECTED
from mudanza.core.values.row_columns import (
    CORRECTED,
    FILE,
    IDENTITY,
    IN_TARGET,
    KNOWN_KEY,
    LAST,
    LEFT,
    LINE,
    ROW,
    SAID,
    SOURCE_COLUMN,
    STAYS,
)

#: why rows are skipped
CORRECTED_ROW, BLANK_ROW, EXCLUDED_ROW, NOT_KEPT = "corrected", "blank row", "excluded by hand", "keep"
#: a row that is not written: the key as it is compared, the old identifier by which others refer to it, whether the target holds its record, why, by which rule, and where it stands
MISSED = {
    "id": pl.String,
    "identity": pl.String,
    "in_target": pl.Boolean,
    "why": pl.String,
    "rule": pl.String,
    "file": pl.String,
    "line": pl.Int64,
}


@dataclass(frozen=True)
class Early:
    """A batch after all that needs no identifiers: the rows that were read (but for blank ones), those still standing, the numbers of those held back,
    how many were skipped by which rule, what was found, how many came back corrected by which file, those not chosen, if somebody wants to know (of `MISSED`), how often what was said of rows met one, and the numbers of all rows that are summed (of
    `Totals.of`)."""

    original: pl.DataFrame
    rows: pl.DataFrame
    held: pl.Series
    skipped: dict[str, int]
    findings: pl.DataFrame
    corrected: dict[str, int]
    missed: pl.DataFrame
    said: dict[int, int]
    numbers: pl.DataFrame

    def without(self, damaged: Sequence[str]) -> Early:
        """The same with damaged rows that came back corrected, in these files."""
        if not damaged:
            return self
        skipped = {**self.skipped, CORRECTED_ROW: self.skipped.get(CORRECTED_ROW, 0) + len(damaged)}
        return replace(self, skipped=skipped, corrected=dict(Counter(self.corrected) + Counter(damaged)))


@dataclass
class _Noted:
    """What is noted of the rows of a batch on their way."""

    findings: list[pl.DataFrame]
    missed: list[pl.DataFrame]
    held: list[pl.Series] = field(default_factory=list)
    skipped: dict[str, int] = field(default_factory=dict)
    corrected: dict[str, int] = field(default_factory=dict)
    said: dict[int, int] = field(default_factory=dict)

    def skip(self, rule: str, count: int) -> None:
        """Count rows skipped by a rule."""
        if count:
            self.skipped[rule] = count

    def without(self, rows: pl.DataFrame, bad: pl.Series) -> pl.DataFrame:
        """Rows without those that are held back."""
        if not bad.any():
            return rows
        self.held.append(rows[ROW].filter(bad))
        return rows.filter(~bad)


def run_early(recipe: Recipe, rows: pl.DataFrame, columns: list[str], noticed: pl.DataFrame | None = None) -> Early:
    """Choose rows and make the fields that need no identifier.

    `columns` are those that the source fills; `noticed` is what the reader found: rows with a value that it holds wrong are held back before anything is asked
    of them.
    """
    noticed = pl.DataFrame(schema=SCHEMA) if noticed is None else noticed
    numbers = recipe.numbers(rows)
    noted = _Noted([], [pl.DataFrame(schema=missed_schema(recipe))])
    rows, noticed = _uncorrected(rows, noticed, noted)
    noted.findings.append(noticed)
    blank = blank_rows(rows, columns)
    noted.skip(BLANK_ROW, int(blank.sum()))
    original = rows = recipe.with_known(rows.filter(~blank).with_row_index(ROW))
    rows = noted.without(rows, rows[LINE].is_in(wrong_values(noticed)["line"].implode()))
    rows = _not_excluded(recipe, rows, noted)
    rows = _kept(recipe, rows, noted)
    rows = recipe.run(rows, [*recipe.early, Stage(flags_of_rows(recipe.early_problems))])
    noted.findings.append(gather_here(rows, recipe.early_problems))
    rows = noted.without(rows, rows.select(held(recipe.early_problems)).to_series())
    return Early(
        original,
        rows,
        pl.concat([pl.Series(ROW, [], dtype=pl.UInt32), *noted.held]),
        noted.skipped,
        joined(noted.findings),
        noted.corrected,
        pl.concat(noted.missed),
        noted.said,
        numbers,
    )


def _uncorrected(rows: pl.DataFrame, noticed: pl.DataFrame, noted: _Noted) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Rows that did not come back corrected, and what the reader found of them."""
    back = rows.filter(pl.col(CORRECTED).is_not_null())
    if back.is_empty():
        return rows, noticed
    noted.skip(CORRECTED_ROW, back.height)
    noted.corrected = dict(back[CORRECTED].value_counts().iter_rows())
    of_back = pl.col("line").is_in(back[LINE].implode()).fill_null(False)
    return rows.filter(pl.col(CORRECTED).is_null()), noticed.filter(~of_back)


def _not_excluded(recipe: Recipe, rows: pl.DataFrame, noted: _Noted) -> pl.DataFrame:
    """Rows that nobody excluded."""
    by_hand = recipe.known.by_hand
    if not by_hand:
        return rows
    noted.said = dict(rows[SAID].drop_nulls().value_counts().iter_rows())
    out = (rows[SAID] < by_hand.out).fill_null(False)
    rows, count = _left_out(recipe, rows, out, EXCLUDED, by_hand.rules(pl.col(SAID)), noted.missed)
    noted.skip(EXCLUDED_ROW, count)
    return rows


def _kept(recipe: Recipe, rows: pl.DataFrame, noted: _Noted) -> pl.DataFrame:
    """Rows that `keep` chooses, or somebody, or that are written for the last time."""
    keep = recipe.keep
    if keep is None:
        return rows
    names = [*rows.columns, LAST]
    chosen = recipe.run(rows, [*keep.stages, Stage(flags(keep.problems))])
    decided = chosen.select(decided_by_hand(recipe)).to_series()
    met = chosen.select(keep.expr).to_series()
    noted.findings += [gather_here(chosen, keep.problems), _included(recipe, chosen.filter(decided & ~met))]
    # by a column, so that it stays with the rows
    stays = met | decided | chosen[LAST] if LAST in chosen.columns else met | decided
    chosen = chosen.with_columns(stays.alias(STAYS))
    chosen = noted.without(chosen, chosen.select(held(keep.problems)).to_series() & ~decided)
    rows, count = _left_out(recipe, chosen, ~chosen[STAYS], UNSELECTED, _unmet(keep), noted.missed)
    noted.skip(NOT_KEPT, count)
    return rows.select(name for name in rows.columns if name in names)


def missed_schema(recipe: Recipe) -> dict[str, type[pl.DataType]]:
    """The columns of rows that are not written: `MISSED`, and those that `keep` looks at."""
    return {**MISSED, **{SOURCE_COLUMN + column: pl.String for column in recipe.looked_at}}


def missed_rows(recipe: Recipe, rows: pl.DataFrame, why: str, rule: pl.Expr) -> pl.DataFrame:
    """Rows that are not written, of those that somebody wants to know of: whose records the target holds, or all, if others may refer to them."""
    if not recipe.known.of_target and not recipe.known.named:
        return pl.DataFrame(schema=missed_schema(recipe))
    rows = rows if recipe.known.at_once else recipe.named(rows)
    looked_at = [pl.col(column).alias(SOURCE_COLUMN + column) for column in recipe.looked_at]
    where = (pl.col(FILE).alias("file"), pl.col(LINE).alias("line"))
    return rows.filter(True if recipe.known.named else pl.col(IN_TARGET)).select(
        pl.col(KNOWN_KEY).alias("id"),
        pl.col(IDENTITY).alias("identity"),
        pl.col(IN_TARGET).alias("in_target"),
        pl.lit(why).alias("why"),
        rule.cast(pl.String).alias("rule"),
        *where,
        *looked_at,
    )


def _left_out(
    recipe: Recipe, rows: pl.DataFrame, out: pl.Series, why: str, rule: pl.Expr, missed: list[pl.DataFrame]
) -> tuple[pl.DataFrame, int]:
    """Rows without those that are left out, and how many these are. Those whose records the target holds are noted or, if the plan says so, written once more."""
    if not out.any():
        return rows, 0
    missed.append(missed_rows(recipe, rows.filter(out), why, rule))
    if recipe.known.of_target and why in recipe.known.last:
        last = out & rows[IN_TARGET] & ~rows[LEFT]
        # those that another rule leaves out for the last time stay so
        rows = rows.with_columns((last | rows[LAST] if LAST in rows.columns else last).alias(LAST))
        out = out & ~last
    return rows.filter(~out), int(out.sum())


def _included(recipe: Recipe, rows: pl.DataFrame) -> pl.DataFrame:
    """The findings on rows that go because somebody said so."""
    if rows.is_empty():
        return pl.DataFrame(schema=SCHEMA)
    problem = Problem("row.included", None, pl.lit(True), recipe.known.by_hand.rules(pl.col(SAID)), "keep")
    return gather_here(rows.with_columns(flags([problem])), [problem])


def _unmet(keep: Condition) -> pl.Expr:
    """The parts of a condition that a row does not meet, as they are written."""
    parts = [pl.when(~met).then(pl.lit(text)) for text, met in keep.parts]
    return pl.concat_str(parts, separator=" and ", ignore_nulls=True) if parts else pl.lit(None, dtype=pl.String)


def decided_by_hand(recipe: Recipe) -> pl.Expr:
    """Whether somebody said of a row that it goes."""
    return (pl.col(SAID) >= recipe.known.by_hand.out).fill_null(False) if recipe.known.by_hand else pl.lit(False)


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
    rows = recipe.with_known(rows)
    not_kept = pl.lit(False)
    if keep is not None:
        not_kept = pl.col(LINE).is_in(keep.choose(rows, meeting=False)[LINE].implode()) & ~decided_by_hand(recipe)
    excluded = pl.lit(None, dtype=pl.String)
    if recipe.known.by_hand:
        excluded = pl.when(pl.col(SAID) < recipe.known.by_hand.out).then(recipe.known.by_hand.rules(pl.col(SAID)))
    rule = (
        pl.when(pl.col(CORRECTED).is_not_null())
        .then(pl.lit(CORRECTED_ROW))
        .when(pl.lit(blank_rows(rows, columns)))
        .then(pl.lit(BLANK_ROW))
        .when(excluded.is_not_null())
        .then(excluded)
        .when(not_kept)
        .then(pl.lit(NOT_KEPT))
    )
    return rows.select(rule.alias("rule")).to_series()
