"""Conflicts: cells that were changed in a loan, and elsewhere since it was lent."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from mudanza.core.findings.finding import Finding
from mudanza.core.state.loans import RECORD, REMOVED
from mudanza.core.work.loans.lent import KEY, Lent, shown_text
from mudanza.core.work.loans.loan_book import REMOVAL
from mudanza.core.work.loans.wording import WORDS

#: Shape of changed cells: the key, the field's title, the texts, and where the cell stands.
CHANGES = {
    "key": pl.String,
    "field": pl.String,
    "before": pl.String,
    "after": pl.String,
    "line": pl.Int64,
    "cell": pl.String,
}


@dataclass(frozen=True)
class Conflict:
    """A cell that was changed here and elsewhere since it was lent."""

    key: str
    field: str
    before: str | None
    after: str | None
    now: str | None
    by: str


#: cells that were accepted from other loans
ACCEPTED = {"key": pl.String, "field": pl.String, "value": pl.String, "loan": pl.String}


@dataclass(frozen=True)
class Elsewhere:
    """What happened to lent cells meanwhile: those accepted from other loans (of `ACCEPTED`); the keys of the file that the records came from,
    and the lent records as they stand there now (None if the file is as it was lent, or gone)."""

    accepted: pl.DataFrame
    keys: pl.Series
    now: pl.DataFrame | None


def conflicts_of(lent: Lent, cells: pl.DataFrame, removals: pl.DataFrame, elsewhere: Elsewhere) -> list[Conflict]:
    """Cells that were changed elsewhere too, by another loan or by a new build."""
    whole = elsewhere.accepted.filter(pl.col("field") == RECORD)
    accepted = elsewhere.accepted.filter(pl.col("field") != RECORD)
    beside = cells.join(accepted, on=["key", "field"], how="left", maintain_order="left")
    gone = other = pl.lit(False)
    now = pl.lit(None, dtype=pl.String)
    if elsewhere.now is not None and cells.height:
        fields = cells["field"].unique().to_list()
        standing = elsewhere.now.unpivot(fields, index=KEY, variable_name="field", value_name="now")
        beside = beside.join(standing.rename({KEY: "key"}), on=["key", "field"], how="left", maintain_order="left")
        now = pl.col("now")
        gone = ~pl.col("key").is_in(elsewhere.now[KEY].implode())
        other = now.ne_missing(pl.col("before")) & now.ne_missing(pl.col("after"))
    taken = pl.col("loan").is_not_null() & pl.col("value").ne_missing(pl.col("after"))
    value = pl.when(taken).then("value").when(other).then(now)
    loan = pl.concat_str(pl.lit("loan "), "loan")
    removed_by = whole.filter(pl.col("value") == REMOVED).select("key", pl.col("loan").alias("removed by"))
    beside = beside.join(removed_by, on="key", how="left", maintain_order="left")
    removed_there = pl.concat_str(pl.lit("removed by loan "), "removed by")
    by = (
        pl.when(removed_there.is_not_null())
        .then(removed_there)
        .when(taken)
        .then(loan)
        .when(gone)
        .then(pl.lit("the record is gone"))
        .when(other)
        .then(pl.lit(lent.file))
    )
    told = beside.select("key", "field", "before", "after", value.alias("now"), by.alias("by")).drop_nulls("by")
    conflicts = [Conflict(*row) for row in told.iter_rows()]
    removed = accepted.unique("key", keep="first", maintain_order=True)
    removed = removals.select(pl.col(KEY).alias("key")).join(removed, on="key", maintain_order="left")
    for key, field, value, loan in removed.iter_rows():
        conflicts.append(Conflict(key, REMOVAL, None, WORDS["en"].remove, f"{field} is now {value}", f"loan {loan}"))
    return conflicts


def told_conflict(conflict: Conflict, shown: str) -> Finding:
    """The finding on a conflict."""
    return Finding(
        "loan.conflict",
        shown,
        field=conflict.field,
        value=f"{shown_text(conflict.key)}: {conflict.after}",
        rule="unchanged since it was lent",
        hint=f"Now {conflict.now} ({conflict.by}).",
    )
