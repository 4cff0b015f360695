"""The records of a subject as they are now: as they were built or exported, with what was accepted from loans since."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from mudanza.core.layouts.layout import Layout
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.loans import ADDED, RECORD, REMOVED
from mudanza.core.values.row_columns import INNER
from mudanza.core.work.accepted import accepted_cells
from mudanza.core.work.loans.lent import KEY, ROW_MARK, key_fields, keyed, read_records, with_changes

_NOW = f"{INNER}now"


def present_records(ledger: Ledger, subject: str, path: Path, layout: Layout, shown: str) -> pl.DataFrame:
    """The records with their `KEY`. What was accepted is in them where the file still has what it had before. Raises LoanError where the file cannot be lent."""
    records = keyed(read_records(path, layout, shown), key_fields(layout))
    cells = accepted_cells(ledger, subject)
    if cells.is_empty():
        return records
    titles = [one.title for one in layout.fields]
    whole = cells.filter(pl.col("field") == RECORD)
    removed = whole.filter(pl.col("after") == REMOVED)["key"]
    records = records.filter(~pl.col(KEY).is_in(removed.implode()))
    added = whole.filter((pl.col("after") == ADDED) & ~pl.col("key").str.starts_with(ROW_MARK))["key"]
    new = pl.DataFrame({KEY: added}).filter(~pl.col(KEY).is_in(records[KEY].implode()))
    cells = cells.filter(pl.col("field").is_in(titles))
    # the source may have been corrected as well, or otherwise
    standing = records.select(KEY, *titles).unpivot(titles, index=KEY, variable_name="field", value_name=_NOW)
    there = cells.join(standing.rename({KEY: "key"}), on=["key", "field"], how="inner", maintain_order="left")
    apart = there.filter(pl.col(_NOW).ne_missing(pl.col("before")))
    cells = cells.join(apart.select("key", "field"), on=["key", "field"], how="anti", maintain_order="left")
    return with_changes(pl.concat([records, new], how="diagonal"), cells.select("key", "field", "after"))
