"""Values that stay at home: what is lent instead of them, and how they are put back.

Within a loan the same value has the same mask, and masks say nothing of the values: they are numbered in the order of the records.
"""

from __future__ import annotations

import polars as pl

from mudanza.core.layouts.layout import Field
from mudanza.core.layouts.rules import blank_in_file

_PATTERN = r"^\s*\*{3}\s*0*([0-9]+)\s*$"


def masked(field: Field, records: pl.DataFrame) -> pl.Series:
    """What is lent instead of the values of a field, blanks being blank."""
    text = pl.col(field.title)
    numbered = records.select(text).join(_numbers(field, records), on=field.title, how="left", maintain_order="left")
    width = len(str(max(numbered.height, 1)))
    return (
        numbered.select(pl.format("*** {}", pl.col("number").cast(pl.String).str.zfill(width)))
        .to_series()
        .alias(field.title)
    )


def unmasked(field: Field, records: pl.DataFrame, came: pl.Series) -> pl.Series:
    """Returned texts with the real values in the place of masks. What is no mask of the loan stays as it came."""
    table = _numbers(field, records).select(pl.col("number"), pl.col(field.title).alias("real"))
    rows = pl.DataFrame({"came": came}).with_columns(
        pl.col("came").str.extract(_PATTERN, 1).cast(pl.Int64, strict=False).alias("number")
    )
    rows = rows.join(table, on="number", how="left", maintain_order="left")
    return rows.select(pl.coalesce("real", "came")).to_series().alias(came.name)


def is_mask(text: pl.Expr) -> pl.Expr:
    """Whether a text looks like a mask."""
    return text.str.contains(_PATTERN)


def _numbers(field: Field, records: pl.DataFrame) -> pl.DataFrame:
    """The values of a field in the order of the records, with their numbers."""
    text = pl.col(field.title)
    values = records.filter(~blank_in_file(field, text)).select(text).unique(maintain_order=True)
    return values.with_row_index("number", offset=1).with_columns(pl.col("number").cast(pl.Int64))
