"""What an edit of a plan changes: the records of a build beside those of the build before."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import polars as pl

from mudanza.core.layouts.model import Layout
from mudanza.core.written import read_written

_KEY = "\x1fkey"
_EXAMPLES = 3


@dataclass(frozen=True)
class ChangedField:
    """A field (by its title) that came out otherwise: in how many records, and for some of them the key, the text before and after."""

    field: str
    count: int
    examples: list[tuple[str, str | None, str | None]]


@dataclass(frozen=True)
class Compared:
    """A build beside the one before: records that are the same, changed, new and gone, with keys of some; and the fields that changed.

    Without a primary key whole records are compared, and none counts as changed.
    """

    file: str
    same: int
    changed: int
    added: int
    removed: int
    fields: list[ChangedField] = field(default_factory=list)
    added_keys: list[str] = field(default_factory=list)
    removed_keys: list[str] = field(default_factory=list)
    columns_added: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        fields = [
            {"field": f.field, "count": f.count,
             "examples": [{"key": key, "before": before, "after": after} for key, before, after in f.examples]}
            for f in self.fields
        ]  # fmt: skip
        return {
            **{
                k: getattr(self, k)
                for k in ("file", "same", "changed", "added", "removed", "added_keys", "removed_keys")
            },
            "fields": fields,
        }


def compare_builds(path: Path, shown: str, layout: Layout, now: pl.DataFrame) -> Compared | None:
    """Compare records (text columns by the layout's titles) with those in the file of the build before; None if there is none.

    Raises MudanzaError where that file is not in the layout any more.
    """
    if not path.is_file():
        return None
    titles = [f.title for f in layout.fields]
    before = read_written(path, layout, shown).select(titles)
    blank = pl.when(pl.col(titles) != "").then(pl.col(titles))
    before, now = before.with_columns(blank), now.select(titles).with_columns(blank)
    keys = [f.title for f in layout.fields if f.name in layout.primary_key]
    if not keys:
        return _whole(shown, titles, before, now)
    key = pl.concat_str([pl.col(k).fill_null("") for k in keys], separator=", ").alias(_KEY)
    before, now = before.with_columns(key), now.with_columns(key)
    gone, fresh = before.join(now, on=_KEY, how="anti"), now.join(before, on=_KEY, how="anti")
    both = now.join(before, on=_KEY, how="inner", suffix="\x1fwas", maintain_order="left")
    differs = {t: pl.col(t).ne_missing(pl.col(f"{t}\x1fwas")) for t in titles if t not in keys}
    counts = both.select(
        [pl.any_horizontal(list(differs.values())).sum().alias(_KEY), *(d.sum().alias(t) for t, d in differs.items())]
    )
    counted = counts.row(0, named=True) if differs else {_KEY: 0}
    changed = [
        ChangedField(t, counted[t], both.filter(d).select(_KEY, f"{t}\x1fwas", t).head(_EXAMPLES).rows())
        for t, d in differs.items()
        if counted[t]
    ]
    return Compared(
        shown, both.height - counted[_KEY], counted[_KEY], fresh.height, gone.height,
        sorted(changed, key=lambda one: -one.count), fresh[_KEY].head(_EXAMPLES).to_list(), gone[_KEY].head(_EXAMPLES).to_list(),
    )  # fmt: skip


def _whole(shown: str, titles: list[str], before: pl.DataFrame, now: pl.DataFrame) -> Compared:
    counted = [frame.group_by(titles).len(name) for frame, name in ((before, "was"), (now, "is"))]
    both = counted[0].join(counted[1], on=titles, how="full", coalesce=True, nulls_equal=True)
    was, is_ = pl.col("was").fill_null(0).cast(pl.Int64), pl.col("is").fill_null(0).cast(pl.Int64)
    same, added, removed = both.select(
        pl.min_horizontal(was, is_).sum(),
        (is_ - was).clip(0).sum().alias("added"),
        (was - is_).clip(0).sum().alias("removed"),
    ).row(0)
    return Compared(shown, same, 0, added, removed)
