"""Files that come from elsewhere with columns that somebody names: a log of the target, a list of identifiers."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import Place, SourceError, few, nearest
from mudanza.core.sources.opening import open_source


def given_columns(path: Path, shown: str, columns: Sequence[str]) -> pl.DataFrame:
    """Some columns of a file in whatever form, as texts without spaces at their ends, blanks null.

    Raises SourceError where a column is missing, or a row is damaged.
    """
    reader = open_source(path)
    headings = list(reader.headings)
    for name in columns:
        if name not in headings:
            near = nearest(name, headings)
            hint = f"Did you mean {near!r}?" if near else f"It has: {few(headings)}. Name the one that is meant."
            raise SourceError(f"the file has no column {name!r}.", place=Place(shown), hint=hint)
    wanted = list(dict.fromkeys(columns))
    parts = [pl.DataFrame(schema=dict.fromkeys(wanted, pl.String))]
    for batch in reader.batches():
        if batch.broken:
            bad = batch.broken[0]
            raise SourceError(
                f"the row is damaged: {bad.value}.",
                place=Place(shown, bad.line),
                hint="Mend it, since what cannot be read would be passed over.",
            )
        parts.append(batch.rows.select(wanted))
    plain = pl.all().str.strip_chars()
    return pl.concat(parts).select(pl.when(plain != "").then(plain))
