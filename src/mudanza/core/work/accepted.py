"""What was accepted from loans, beside what a build writes: the sources may not know of it."""

from __future__ import annotations

import polars as pl

from mudanza.core.findings.finding import Finding
from mudanza.core.plans.plan import Plan
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import ADDED, RECORD, REMOVED, accepted
from mudanza.core.values.row_columns import key_text, shown_key
from mudanza.core.work.loans.lent import KEY, ROW_MARK

_SCHEMA = {"loan": pl.String, "key": pl.String, "field": pl.String, "before": pl.String, "after": pl.String}


def accepted_cells(ledger: Ledger, list_name: str) -> pl.DataFrame:
    """The cells of a list that were accepted from loans, each as it was accepted last: loan, key, field, before, after."""
    cells = accepted(ledger, list_name) if ledger.has("changes") else []
    return pl.DataFrame(cells, schema=_SCHEMA, orient="row").unique(["key", "field"], keep="last", maintain_order=True)


def of_interest(cells: pl.DataFrame, written: pl.DataFrame, keys: list[str]) -> pl.DataFrame:
    """Those of the written records that cells were accepted of, with their key."""
    key = key_text([pl.col(title) for title in keys]).alias(KEY)
    return written.with_columns(key).filter(pl.col(KEY).is_in(cells["key"].implode()))


def not_in_build(plan: Plan, shown: str, cells: pl.DataFrame, written: pl.DataFrame) -> list[Finding]:
    """The findings on accepted cells that the records written do not hold, on records that were removed and are written again, and on those that were added and are not.

    `written` are the records that cells were accepted of, with their key.
    """
    found = []
    for field in plan.layout.fields:
        asked = cells.filter(pl.col("field") == field.title)
        if asked.height and field.title in written.columns:
            blank = field.null[0]
            now, after = (pl.col(name).fill_null(blank).replace(blank, "") for name in ("now", "after"))
            texts = written.select(pl.col(KEY).alias("key"), pl.col(field.title).alias("now"))
            differs = asked.join(texts, on="key", maintain_order="left").filter(now != after)
            value = pl.format("{}: {}", shown_key(pl.col("key")), now.replace("", "(blank)"))
            found += _told(differs, shown, field.title, value, "what was accepted from loan {}")
    there = pl.col("key").is_in(written[KEY].implode())
    key = shown_key(pl.col("key"))
    whole = cells.filter(pl.col("field") == RECORD)
    found += _told(whole.filter((pl.col("after") == REMOVED) & there), shown, RECORD, key, "removed by loan {}")
    # new records whose key the target gives cannot be told
    added = whole.filter((pl.col("after") == ADDED) & ~there & ~pl.col("key").str.starts_with(ROW_MARK))
    return found + _told(added, shown, RECORD, key, "added by loan {}")


def _told(cells: pl.DataFrame, shown: str, field: str, value: pl.Expr, rule: str) -> list[Finding]:
    rows = cells.select(value.alias("value"), "loan").rows()
    return [Finding("loan.not-in-build", shown, field=field, value=text, rule=rule.format(loan)) for text, loan in rows]
