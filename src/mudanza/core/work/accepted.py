"""What was accepted from loans, beside what a build writes: the sources may not know of it."""

from __future__ import annotations

import polars as pl

from mudanza.core.findings.finding import Finding
from mudanza.core.plans.plan import Plan
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import RECORD, REMOVED, accepted
from mudanza.core.values.row_columns import key_text, shown_key

_SCHEMA = {"loan": pl.String, "key": pl.String, "field": pl.String, "before": pl.String, "after": pl.String}


def accepted_cells(ledger: Ledger, list_name: str) -> pl.DataFrame:
    """The cells of a list that were accepted from loans, each as it was accepted last: loan, key, field, before, after."""
    cells = accepted(ledger, list_name) if ledger.has("changes") else []
    return pl.DataFrame(cells, schema=_SCHEMA, orient="row").unique(["key", "field"], keep="last", maintain_order=True)


def of_interest(cells: pl.DataFrame, written: pl.DataFrame, keys: list[str]) -> pl.DataFrame:
    """Those of the written records that cells were accepted of, with their key."""
    key = key_text([pl.col(title) for title in keys]).alias("key")
    return written.with_columns(key).filter(pl.col("key").is_in(cells["key"].implode()))


def not_in_build(plan: Plan, shown: str, cells: pl.DataFrame, written: pl.DataFrame) -> list[Finding]:
    """The finding on accepted cells that the records written do not hold, by field; records that were removed and are written again; `written` has their key."""
    found = []
    of_loans = "what was accepted from loan {}"
    for field in plan.layout.fields:
        asked = cells.filter(pl.col("field") == field.title)
        if asked.height and field.title in written.columns:
            blank = field.null[0]
            texts = (pl.col(name).fill_null(blank).replace(blank, "") for name in ("now", "after"))
            now, after = texts
            beside = asked.join(
                written.select("key", pl.col(field.title).alias("now")), on="key", maintain_order="left"
            )
            differs = beside.filter(now != after)
            found += _told(differs, shown, field.title, pl.format("{}: {}", shown_key(pl.col("key")), now), of_loans)
    gone = cells.filter((pl.col("field") == RECORD) & (pl.col("after") == REMOVED))
    again = gone.join(written.select("key"), on="key", how="semi", maintain_order="left")
    return found + _told(again, shown, RECORD, shown_key(pl.col("key")), "removed by loan {}")


def _told(cells: pl.DataFrame, shown: str, field: str, value: pl.Expr, rule: str) -> list[Finding]:
    rows = cells.select(value.alias("value"), "loan").rows()
    return [Finding("loan.not-in-build", shown, field=field, value=text, rule=rule.format(loan)) for text, loan in rows]
