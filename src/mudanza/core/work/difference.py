"""What an edit of a plan changes: the records of a build beside those of the build before."""

from __future__ import annotations

from dataclasses import dataclass, field

import polars as pl

from mudanza.core.plans.move import Move
from mudanza.core.plans.plan import Plan
from mudanza.core.sinks.formats import built_file, read_built
from mudanza.core.values.row_columns import INNER, key_text, shown_key

#: beside the records' own columns, which may have any other name
_KEY, _WAS, _IS = f"{INNER}key", f"{INNER}was", f"{INNER}is"
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


def compare_builds(move: Move, plan: Plan, now: pl.DataFrame) -> Compared | None:
    """Compare the records of a list (text columns by the layout's titles) with those of the build before; None if there is none.

    Raises MudanzaError where that file is not in the layout any more.
    """
    layout = plan.layout
    read = read_built(move, plan.name, layout)
    if read is None:
        return None
    shown = move.shown(built_file(move, plan.name, layout))
    titles = [f.title for f in layout.fields]
    before = read.select(titles)
    blank = pl.when(pl.col(titles) != "").then(pl.col(titles))
    before, now = before.with_columns(blank), now.select(titles).with_columns(blank)
    keys = layout.key_titles
    if not keys:
        return _whole(shown, titles, before, now)
    key = key_text([pl.col(k) for k in keys]).alias(_KEY)
    before, now = before.with_columns(key), now.with_columns(key)
    gone, fresh = before.join(now, on=_KEY, how="anti"), now.join(before, on=_KEY, how="anti")
    both = now.join(before, on=_KEY, how="inner", suffix=_WAS, maintain_order="left")
    others = [title for title in titles if title not in keys]
    changed = both.select(pl.any_horizontal(_differs(t) for t in others).sum()).item() if others else 0
    fields = _changed_fields(both, others)
    return Compared(
        shown,
        both.height - changed,
        changed,
        fresh.height,
        gone.height,
        fields,
        some_keys(fresh, keys),
        some_keys(gone, keys),
    )


def fields_changed(before: pl.DataFrame, now: pl.DataFrame, keys: list[str]) -> list[ChangedField]:
    """The fields in which records differ from what they were, row by row; `keys` are the headings of the key."""
    was = before.rename({title: f"{title}{_WAS}" for title in before.columns})
    key = key_text([pl.col(title) for title in keys]).alias(_KEY)
    return _changed_fields(now.hstack(was).with_columns(key), [title for title in now.columns if title not in keys])


def _differs(title: str) -> pl.Expr:
    return pl.col(title).ne_missing(pl.col(f"{title}{_WAS}"))


def _changed_fields(both: pl.DataFrame, titles: list[str]) -> list[ChangedField]:
    """Of records beside what they were: the fields that changed, those of most records first."""
    counts = both.select(_differs(title).sum().alias(title) for title in titles)
    counted = counts.row(0, named=True) if titles else {}
    changed = [
        ChangedField(
            t,
            counted[t],
            both.filter(_differs(t)).select(shown_key(pl.col(_KEY)), f"{t}{_WAS}", t).head(_EXAMPLES).rows(),
        )
        for t in titles
        if counted[t]
    ]
    return sorted(changed, key=lambda one: -one.count)


def some_keys(records: pl.DataFrame, keys: list[str]) -> list[str]:
    """The keys of some records, as people write them; `keys` are the headings of the key."""
    return records.head(_EXAMPLES).select(shown_key(key_text([pl.col(k) for k in keys]))).to_series().to_list()


def _whole(shown: str, titles: list[str], before: pl.DataFrame, now: pl.DataFrame) -> Compared:
    counted = [frame.group_by(titles).len(name) for frame, name in ((before, _WAS), (now, _IS))]
    both = counted[0].join(counted[1], on=titles, how="full", coalesce=True, nulls_equal=True)
    was, is_ = pl.col(_WAS).fill_null(0).cast(pl.Int64), pl.col(_IS).fill_null(0).cast(pl.Int64)
    same, added, removed = both.select(
        pl.min_horizontal(was, is_).sum(),
        (is_ - was).clip(0).sum().alias("added"),
        (was - is_).clip(0).sum().alias("removed"),
    ).row(0)
    return Compared(shown, same, 0, added, removed)
