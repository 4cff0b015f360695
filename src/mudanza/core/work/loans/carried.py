"""Records of one layout in another of the same list: after a layout was changed while they were lent."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from mudanza.core.layouts.layout import Field, Layout
from mudanza.core.layouts.rules import blank_in_file, render


def titles_in(titles: Sequence[str], old: Layout, new: Layout) -> list[str]:
    """Headings of a layout as another has them; what it has not is left out. Fields are the same by their names."""
    by_name = {one.name: one.title for one in new.fields}
    return [by_name[one.name] for title in titles for one in old.fields if one.title == title and one.name in by_name]


def lost(titles: Sequence[str], old: Layout, new: Layout) -> list[str]:
    """The headings of fields that another layout has not any more."""
    names = {one.name for one in new.fields}
    return [one.title for one in old.fields if one.title in titles and one.name not in names]


def carried(records: pl.DataFrame, old: Layout, new: Layout) -> pl.DataFrame:
    """Records in the texts of another layout: typed values as it writes them, texts as they are. Columns that are no fields stay."""
    known = {one.name: one for one in old.fields}
    nothing = pl.lit(None, dtype=pl.String)
    made = [
        _text(known[one.name], one) if one.name in known and known[one.name].title in records.columns else nothing
        for one in new.fields
    ]
    fields = {one.title for one in old.fields}
    others = [name for name in records.columns if name not in fields]
    return records.select(*(text.alias(one.title) for text, one in zip(made, new.fields, strict=True)), *others)


def _text(old: Field, new: Field) -> pl.Expr:
    text = pl.col(old.title)
    if not (old.is_typed and new.is_typed and old.kind is new.kind):
        return text
    value = old.type.read(pl.when(~blank_in_file(old, text)).then(text))
    return pl.coalesce(render(new, value, new.kind), text)
