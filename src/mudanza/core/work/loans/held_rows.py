"""The rows of a return of which something is held back, as they came, to be corrected and sent again."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import polars as pl

from mudanza.core.values.row_columns import LINE, WHY

#: cells that can be accepted by nobody as they stand: line, field, what is there, and why
HELD = {"line": pl.Int64, "field": pl.String, "value": pl.String, "why": pl.String}


def rows_held(
    rows: pl.DataFrame, titles: Sequence[str], unclear: Collection[int], held: pl.DataFrame, findings: pl.DataFrame
) -> pl.DataFrame:
    """Rows of which something is held back, with where they stand, and why: those that are `unclear` as a whole, by their findings, and those with cells that are `held` (of `HELD`)."""
    stops = findings.filter((pl.col("severity") == "stop") & pl.col("line").is_in(list(unclear)))
    cells = held.select("line", pl.format("{}: {}", "field", "why").alias(WHY))
    of_rows = stops.select("line", pl.format("{}: {}", "field", "code").alias(WHY))
    why = pl.concat([of_rows, cells]).unique(maintain_order=True)
    why = why.group_by("line", maintain_order=True).agg(pl.col(WHY).str.join("; "))
    bad = rows.filter(pl.col(LINE).is_in([*unclear, *held["line"]])).select(LINE, *titles)
    told = bad.join(why, left_on=LINE, right_on="line", how="left", maintain_order="left")
    return told.select(pl.col(LINE).cast(pl.String), WHY, *titles)
