"""Files that a build wrote, read back by their layout."""

from __future__ import annotations

from pathlib import Path

import polars as pl

from mudanza.core.errors import MudanzaError, Place
from mudanza.core.layouts.model import Layout
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reading import LINE, ReadOptions


def read_written(path: Path, layout: Layout, shown: str, error: type[MudanzaError] = MudanzaError) -> pl.DataFrame:
    """A whole file as text columns named by the layout's titles, plus `#line`. Blanks are null.

    Raises `error` if a row is damaged or a column is missing.
    """
    dialect = layout.dialect
    reader = open_source(
        path,
        ReadOptions(
            encoding=dialect.encoding,
            delimiter=dialect.delimiter,
            quote=dialect.quote,
            heading=1 if dialect.header else 0,
            exact=True,
        ),
    )
    titles = [f.title for f in layout.fields]
    names = dict(zip(reader.headings, reader.raw_headings if dialect.header else titles, strict=False))
    missing = [t for t in titles if t not in names.values()]
    check = f"`mudanza check {shown} --layout {layout.path.stem}` tells everything that is wrong."
    if missing:
        raise error(f"the file lacks the layout's column {missing[0]!r}.", place=Place(shown, 1), hint=check)
    parts = []
    for batch in reader.batches():
        if batch.broken:
            bad = batch.broken[0]
            raise error(f"the row is damaged: {bad.value}.", place=Place(shown, bad.line), hint=check)
        parts.append(
            batch.rows.rename({k: v for k, v in names.items() if k in batch.rows.columns}).select(*titles, LINE)
        )
    schema = {**dict.fromkeys(titles, pl.String), LINE: pl.Int64}
    return pl.concat([pl.DataFrame(schema=schema), *parts])
