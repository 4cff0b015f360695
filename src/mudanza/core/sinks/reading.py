"""Written files read back, in the texts that their layout has for values."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError, Place
from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.sinks.native import as_layout_writes
from mudanza.core.sinks.writer import Writer
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import Reader, ReadOptions
from mudanza.core.values.row_columns import LINE


def read_as(
    path: Path,
    layout: Layout,
    shown: str,
    options: ReadOptions,
    error: type[MudanzaError] = MudanzaError,
    cell: Callable[[Field, pl.Expr], pl.Expr] = as_layout_writes,
) -> pl.DataFrame:
    """A whole file as text columns named by the layout's titles, plus `#line`; `cell` makes the text of a field of what a reader gives. A column that no record has is blank.

    Raises `error` if a row is damaged.
    """
    reader = open_source(path, options)
    names = layout.headings
    found = {
        names[raw].title: name for name, raw in zip(reader.headings, reader.raw_headings, strict=True) if raw in names
    }
    nothing = pl.lit(None, dtype=pl.String)
    texts = [
        cell(one, pl.col(found[one.title]) if one.title in found else nothing).alias(one.title) for one in layout.fields
    ]
    return whole(reader, layout, shown, texts, error)


def whole(
    reader: Reader, layout: Layout, shown: str, texts: Sequence[pl.Expr], error: type[MudanzaError]
) -> pl.DataFrame:
    """All rows of a reader, with these columns and `#line`. Raises `error` if one is damaged."""
    parts = [no_records(layout)]
    for batch in reader.batches():
        if batch.broken:
            bad = batch.broken[0]
            raise error(f"the row is damaged: {bad.value}.", place=Place(shown, bad.line), hint=advice(layout, shown))
        parts.append(batch.rows.select(*texts, LINE))
    return pl.concat(parts)


def no_records(layout: Layout) -> pl.DataFrame:
    """A file of a layout that has no records."""
    schema: Mapping[str, type[pl.DataType]] = {**{one.title: pl.String for one in layout.fields}, LINE: pl.Int64}
    return pl.DataFrame(schema=schema)


def has_no_records(path: Path, writer: Writer) -> bool:
    """Whether a file has just what stands around records."""
    around = writer.head() + b"".join(writer.tail())
    return path.stat().st_size == len(around) and path.read_bytes() == around


def advice(layout: Layout, shown: str) -> str:
    """What tells everything that is wrong with a file."""
    return f"`mudanza check {shown} --layout {layout.name}` tells everything that is wrong."
