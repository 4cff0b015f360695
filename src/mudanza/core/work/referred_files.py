"""The files that references of a layout point into, for checks: their values, and the layouts that tell their headings."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError, Place, SourceError, nearest
from mudanza.core.layouts.csvw import read_layout
from mudanza.core.layouts.layout import ForeignKey, Layout
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.key_rule import KeyRule
from mudanza.core.values.row_columns import key_text


def layouts_beside(layout: Layout) -> dict[str, Layout]:
    """The other layouts in a layout's folder, by their names; what is no layout is passed over."""
    found = {}
    for path in sorted(layout.path.parent.glob("*.json")):
        if path != layout.path:
            with suppress(MudanzaError):
                found[path.stem] = read_layout(path)
    return found


@dataclass(frozen=True)
class Referred:
    """The values of the columns that references point to, as `key_text` joins them; in lower case, if they are compared without case."""

    values: pl.Series
    compared: KeyRule


def _layout_of(path: Path, reference: ForeignKey, layout: Layout) -> Layout | None:
    """The layout of the file that a reference points into: the metadata beside it, or a layout beside that one."""
    beside = path.with_name(f"{path.name}-metadata.json")
    if beside.is_file():
        return read_layout(beside)
    others = layouts_beside(layout).items()
    return next((one for name, one in others if reference.resource in (one.url, f"{name}.csv")), None)


def referred_in(path: Path, reference: ForeignKey, layout: Layout) -> Referred:
    """What a file has for a reference of a layout to point to. Raises SourceError where it lacks a column."""
    reader = open_source(path, ReadOptions(exact=True))
    of_file = _layout_of(path, reference, layout)
    titles = {field.name: field.title for field in of_file.fields} if of_file is not None else {}
    names = []
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
    compared = KeyRule() if of_file is None else of_file.rule_of(reference.columns)
    joined = key_text([pl.col(n) for n in names])
    joined = compared.whole(joined).alias("value")
    parts = [batch.rows.select(joined).to_series() for batch in reader.batches()]
    return Referred(pl.concat([pl.Series("value", [], dtype=pl.String), *parts]).unique(), compared)
