"""The files that references of a layout point into: their values, and the layouts that tell their headings."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

import polars as pl

from mudanza.core.documents.errors import MudanzaError, Place, SourceError, nearest
from mudanza.core.layouts.csvw import BESIDE, read_layout, read_layouts
from mudanza.core.layouts.layout import Field, ForeignKey, Layout
from mudanza.core.layouts.rules import same_value
from mudanza.core.sources.opening import open_source
from mudanza.core.sources.reader import ReadOptions
from mudanza.core.values.key_rule import KeyRule
from mudanza.core.values.row_columns import key_text
from mudanza.core.work.checking.opened import open_to_check


def layouts_in(folder: Path) -> dict[str, Layout]:
    """The layouts that the files of a folder describe, by their names; what is no layout is passed over."""
    found: dict[str, Layout] = {}
    for path in sorted(folder.glob("*.json")):
        with suppress(MudanzaError):
            found.update((one.name, one) for one in read_layouts(path))
    return found


def layouts_beside(layout: Layout) -> dict[str, Layout]:
    """The other layouts in a layout's folder, and in its own file, by their names."""
    found = layouts_in(layout.path.parent)
    return {name: one for name, one in found.items() if (one.path, one.name) != (layout.path, layout.name)}


@dataclass(frozen=True)
class Referred:
    """The values of the columns that references point to, as `rules.same_value` and `key_text` give them and as they are `compared`; and those that
    several records have."""

    values: pl.Series
    several: pl.Series
    compared: KeyRule


def _layout_of(path: Path, reference: ForeignKey, layout: Layout) -> Layout | None:
    """The layout of the file that a reference points into: the metadata beside it, or a layout beside that one."""
    beside = path.with_name(f"{path.name}{BESIDE}")
    if beside.is_file():
        return read_layout(beside)
    others = layouts_beside(layout).items()
    return next((one for name, one in others if reference.resource in (one.url, f"{name}.csv")), None)


def referred_in(
    path: Path, reference: ForeignKey, layout: Layout, fields: Sequence[Field], of_file: Layout | None = None
) -> Referred:
    """What a file has for a reference of a layout, by its `fields`, to point to. Raises SourceError where it lacks a column."""
    of_file = of_file or _layout_of(path, reference, layout)
    if of_file is not None:
        opened = open_to_check(path, of_file, str(path))
        headings, batches, line = opened.columns, opened.batches(), opened.line
        raw = opened.headings if of_file.dialect.header or opened.in_records else [one.title for one in of_file.fields]
        named = dict(zip(raw, headings, strict=False))
    else:
        reader = open_source(path, ReadOptions(exact=True))
        headings, batches, line = reader.headings, reader.batches(), reader.facts.heading_line
        named = dict(zip(reader.headings, reader.headings, strict=True))
    known = {one.name: one for one in of_file.fields} if of_file is not None else {}
    values = []
    for column, own in zip(reference.columns, fields, strict=True):
        theirs = known.get(column)
        name = next((named[title] for title in (theirs.titles if theirs else ()) if title in named), None)
        name = name or nearest(column, list(headings), least=85)
        if name is None:
            raise SourceError(
                f"the file has no column {column!r}, which references point to.",
                place=Place(str(path), line),
                hint=f"It has: {', '.join(headings[:40])}.",
            )
        # a file of which nothing is known writes its values as the one that refers to them
        values.append(same_value(theirs or replace(own, separator=None), pl.col(name)))
    compared = KeyRule() if of_file is None else of_file.rule_of(reference.columns)
    joined = compared.whole(key_text(values)).alias("value")
    parts = [batch.rows.select(joined).to_series() for batch in batches]
    counted = pl.concat([pl.Series("value", [], dtype=pl.String), *parts]).to_frame().group_by("value").len()
    return Referred(counted["value"], counted.filter(pl.col("len") > 1)["value"], compared)
