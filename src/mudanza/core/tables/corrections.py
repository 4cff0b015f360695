"""What people corrected in written records: cells that go before what the sources say, until these say it too."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from mudanza.core.values.row_columns import INNER, RECORD_KEY, RECORD_NUMBER

#: of a correction: the record's key (`key_text`), the field's title, what it was, what it is, who said so, and in which line of which file it stands
SCHEMA = {"key": pl.String, "field": pl.String, "was": pl.String, "is": pl.String, "who": pl.String, "line": pl.Int64}
_IS, _WAS, _WHO = f"{INNER}is", f"{INNER}was", f"{INNER}who"


@dataclass(frozen=True)
class Corrections:
    """The corrections of a list, by its file."""

    file: str = ""
    cells: pl.DataFrame = field(default_factory=lambda: pl.DataFrame(schema=SCHEMA))

    def __bool__(self) -> bool:
        return self.cells.height > 0


def corrected(records: pl.DataFrame, corrections: Corrections) -> tuple[pl.DataFrame, pl.DataFrame]:
    """Records (with their `RECORD_KEY`) with their corrections, and what there is to tell of these, one row for each
    that has a record: row (of the records), field, was, is, found (what the source says), who.
    """
    told = []
    cells = corrections.cells.filter(pl.col("key").is_in(records[RECORD_KEY].implode()))
    for title in cells["field"].unique(maintain_order=True):
        of_field = cells.filter(pl.col("field") == title).select(
            pl.col("key").alias(RECORD_KEY),
            pl.col("was").alias(_WAS),
            pl.col("is").alias(_IS),
            pl.col("who").alias(_WHO),
        )
        beside = records.with_row_index(RECORD_NUMBER).join(of_field, on=RECORD_KEY, how="inner", maintain_order="left")
        told.append(
            beside.select(
                pl.col(RECORD_NUMBER).alias("row"),
                pl.lit(title).alias("field"),
                pl.col(_WAS).alias("was"),
                pl.col(_IS).alias("is"),
                pl.col(title).alias("found"),
                pl.col(_WHO).alias("who"),
            )
        )
        values = records.select(RECORD_KEY, title).join(of_field, on=RECORD_KEY, how="left", maintain_order="left")
        hit = pl.col(RECORD_KEY).is_in(of_field[RECORD_KEY].implode())
        records = records.with_columns(values.select(pl.when(hit).then(_IS).otherwise(title).alias(title)).to_series())
    schema = {
        "row": pl.UInt32,
        "field": pl.String,
        "was": pl.String,
        "is": pl.String,
        "found": pl.String,
        "who": pl.String,
    }
    return records, pl.concat([pl.DataFrame(schema=schema), *told])
