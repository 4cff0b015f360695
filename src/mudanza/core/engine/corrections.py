"""Rows that came back corrected: a file of held-back rows says which rows of the sources its own stand for.

A row is known by its source (several may read one file), its file and line, and by a hash of what it held: if the file is another by now, the line may hold another record.
"""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from mudanza.core.sources.reader import Batch, BrokenRow, Reader
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import CORRECTED, FILE, LINE, OLD_LINE, SOURCE, WAS

_KEY = [SOURCE, FILE, LINE, WAS]
_SCHEMA = {SOURCE: pl.String, FILE: pl.String, LINE: pl.Int64, WAS: pl.String, CORRECTED: pl.String}


def no_corrections() -> pl.DataFrame:
    """Corrections of no row."""
    return pl.DataFrame(schema=_SCHEMA)


def held_before(headings: Sequence[str]) -> pl.Expr:
    """What a row of a source held, as it is noted when the row is held back. It is no number, which a spreadsheet would round."""
    return pl.format("r{}", fixed_hash([pl.col(heading) for heading in headings])).alias(WAS)


def broken_before(broken: Sequence[BrokenRow]) -> pl.Series:
    """The same for damaged rows."""
    texts = pl.DataFrame({"text": [row.text for row in broken]}, schema={"text": pl.String})
    return texts.select(held_before(["text"])).to_series()


def corrections_in(files: Sequence[tuple[Reader, str]]) -> pl.DataFrame:
    """The rows that files of held-back rows (with their shown paths) correct: by source, file, line and hash, each with the first file that corrects it."""
    line = pl.col(OLD_LINE).str.strip_chars().cast(pl.Int64, strict=False).alias(LINE)
    parts = [
        batch.rows.select(SOURCE, FILE, line, WAS, pl.lit(shown).alias(CORRECTED))
        for reader, shown in files
        if {FILE, OLD_LINE, WAS} <= set(reader.headings)
        for batch in reader.batches()
    ]
    return pl.concat([no_corrections(), *parts]).drop_nulls(LINE).unique(_KEY, keep="first", maintain_order=True)


def corrected_by(corrections: pl.DataFrame, batch: Batch, headings: Sequence[str]) -> pl.Expr | pl.Series:
    """For each row of a batch the file that has it corrected; null for most. `corrections` are those of its source and file."""
    nobody = pl.lit(None, dtype=pl.String).alias(CORRECTED)
    near = batch.rows.filter(pl.col(LINE).is_in(corrections[LINE].implode())) if corrections.height else corrections
    if near.is_empty():
        return nobody
    told = near.select(LINE, held_before(headings)).join(corrections.select(LINE, WAS, CORRECTED), on=[LINE, WAS])
    return batch.rows.select(LINE).join(told, on=LINE, how="left", maintain_order="left")[CORRECTED]


def broken_corrected_by(corrections: pl.DataFrame, broken: Sequence[BrokenRow]) -> list[str | None]:
    """For each damaged row the file that has it corrected, or None."""
    if corrections.is_empty() or not broken:
        return [None] * len(broken)
    near = corrections.filter(pl.col(LINE).is_in([row.line for row in broken]))
    told = dict(zip(near.select(LINE, WAS).iter_rows(), near[CORRECTED], strict=True))
    return [told.get((row.line, was)) for row, was in zip(broken, broken_before(broken), strict=True)]
