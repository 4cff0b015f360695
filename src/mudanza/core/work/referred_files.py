"""The files that references of a layout point into, for checks: their values, and the layouts that tell their headings."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError, Place, SourceError, nearest
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.layout import ForeignKey, Layout
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.row_columns import key_text


def layouts_beside(layout: Layout) -> dict[str, Layout]:
    """The other layouts in a layout's folder, by their names; what is no layout is passed over."""
    found = {}
    for path in sorted(layout.path.parent.glob("*.json")):
        if path != layout.path:
            with suppress(MudanzaError):
                found[path.stem] = read_layout(path)
    return found


def _titles(path: Path, reference: ForeignKey, layout: Layout) -> dict[str, str]:
    """The headings that names stand for in the file that a reference points into: by the metadata beside it, or by the layout of that file."""
    beside = path.with_name(f"{path.name}-metadata.json")
    others = [read_layout(beside)] if beside.is_file() else []
    others += [one for name, one in layouts_beside(layout).items() if reference.resource in (one.url, f"{name}.csv")]
    return {field.name: field.title for one in reversed(others) for field in one.fields}


def values_in(path: Path, reference: ForeignKey, layout: Layout) -> pl.Series:
    """The values of the referenced columns in another file, joined."""
    reader = open_source(path, ReadOptions(exact=True))
    names = []
    titles = _titles(path, reference, layout)
    for column in reference.columns:
        name = titles.get(column)
        if name not in reader.headings:
            name = nearest(column, list(reader.headings), least=85)
        if name is None:
            raise SourceError(
                f"the file has no column {column!r}, which references point to.",
                place=Place(str(path), reader.facts.heading_line),
                hint=f"It has: {', '.join(reader.headings)}.",
            )
        names.append(name)
    joined = key_text([pl.col(n) for n in names]).alias("value")
    parts = [batch.rows.select(joined).to_series() for batch in reader.batches()]
    return pl.concat([pl.Series("value", [], dtype=pl.String), *parts]).unique()
