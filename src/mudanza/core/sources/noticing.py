"""What a reader noticed, as findings."""

from __future__ import annotations

import polars as pl

from mudanza.core.findings.finding import SCHEMA, Finding, frame
from mudanza.core.sources.reader import Batch, Reader, asked_of


def noticed_in(batch: Batch, reader: Reader, shown: str) -> pl.DataFrame:
    """The damaged rows of a batch, its blank lines, and what else the reader noticed; `shown` is the file's name."""
    facts, width = reader.facts, len(reader.headings)
    cell = None if facts.unit == "line" or facts.sheet else facts.unit
    found = frame(
        [
            Finding(b.code, shown, b.line, cell and f"{cell} {b.line}", value=b.value, rule=asked_of(b, facts, width))
            for b in batch.broken
        ]
        + [Finding("read.blank-lines", shown, line) for line in batch.blank_lines]
    )
    if batch.noticed is None or batch.noticed.is_empty():
        return found
    return pl.concat([found, batch.noticed.with_columns(pl.lit(shown).alias("file")).select(list(SCHEMA))])
