"""Crosswalks: small tables that translate source codes into target codes."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from mudanza.core.errors import MoveError, Place
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reading import LINE, ReadOptions


def read_crosswalk(path: Path) -> pl.DataFrame:
    """The columns that are looked up, in their order, and `to`. A `note` column is left out.

    Raises MoveError for a missing column, a damaged row, or a code that stands twice.
    """
    reader = open_source(path, ReadOptions(heading=1, exact=True))
    headings = list(reader.headings)
    for needed in ("from", "to"):
        if needed not in headings:
            raise MoveError(
                f"the crosswalk has no column {needed!r}.",
                place=Place(str(path), line=1),
                hint="Its first line is: from,to and then further columns to look up by, if any; note is ignored.",
            )
    rows = []
    for batch in reader.batches():
        if batch.broken:
            bad = batch.broken[0]
            raise MoveError(
                f"the row is damaged: {bad.value}.",
                place=Place(str(path), line=bad.line),
                hint="Quote values that hold the delimiter.",
            )
        rows.append(batch.rows)
    codes = [h for h in headings if h not in ("to", "note")]
    codes = ["from", *(c for c in codes if c != "from")]
    schema = {**dict.fromkeys([*codes, "to"], pl.String), LINE: pl.Int64}
    frame = pl.concat([pl.DataFrame(schema=schema), *(r.select(list(schema)) for r in rows)])
    frame = frame.with_columns(pl.col([*codes, "to"]).fill_null("").str.strip_chars())
    twice = frame.filter(pl.struct(codes).is_duplicated())
    if not twice.is_empty():
        row = twice.row(1, named=True)
        shown = ", ".join(row[c] for c in codes)
        lines = twice.filter(pl.all_horizontal([pl.col(c) == row[c] for c in codes]))[LINE].to_list()
        raise MoveError(
            f"the code {shown!r} stands in lines {', '.join(map(str, lines))}.",
            place=Place(str(path), line=lines[-1]),
            hint="A code has one meaning; take the wrong line out, or add a column that tells them apart.",
        )
    return frame.drop(LINE)
