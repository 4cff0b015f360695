"""Leavers: records that the target holds and a build no longer writes, with the reason, and what becomes of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import polars as pl

from mudanza.core.plans.leavers import GONE, HELD_BACK, LAST_CHANGE, LEAVE, MARK, MERGED, REMOVE, Leaving
from mudanza.core.plans.plan import Plan
from mudanza.core.state.contents import KEY, RECORD
from mudanza.core.state.key_entries import JOINED
from mudanza.core.values.hashing import fixed_hash
from mudanza.core.values.row_columns import SOURCE_COLUMN, shown_key
from mudanza.core.work.again.before import in_layout

_EXAMPLES = 3
#: what becomes of leavers of which the plan says nothing, and of those that it would write once more
_UNSAID, _SAME, _TOLD = (
    "the plan does not say what becomes of them",
    "nothing: the target has them as they are now",
    "told before",
)


@dataclass(frozen=True)
class Leavers:
    """Leavers of one sort: why (of `plans.leavers.LEAVERS`), by which rule, what becomes of them in words, whether the plan says so; how many, and some of their keys with what
    changed."""

    why: str
    rule: str | None
    what: str
    said: bool
    count: int
    examples: list[tuple[str, str | None]]


def find_leavers(
    plan: Plan,
    rows: pl.DataFrame,
    written: pl.Series,
    last: pl.Series,
    missed: pl.DataFrame,
    joined: pl.DataFrame,
) -> pl.DataFrame:
    """The leavers among `rows` (as `Against` has them), given the ids that are `written`, those of them that are for the `last` time, the rows that were `missed`, and new
    identifiers that were `joined` to others, or corrected (`before`, key, how).

    Adds `why`, `rule`, `file` and `line` of the row, `what` becomes of the record (null if the target was told before), and that in `words`.
    """
    gone = rows.filter(~pl.col("id").is_in(written.implode()) | pl.col("id").is_in(last.implode()))
    # what was to be written for the last time may have been held back
    stayed = missed.unique("id", keep="last", maintain_order=True)
    found = gone.join(stayed, on="id", how="left", maintain_order="left")
    is_joined = pl.col("how") == JOINED
    words = pl.when(is_joined).then(pl.format("one record with {}", "key")).otherwise(pl.format("it is {} now", "key"))
    others = joined.select(pl.col("before").alias("key"), words.alias("other"), is_joined.alias("joined"))
    found = found.join(others, on="key", how="left", maintain_order="left").with_columns(
        pl.coalesce("why", pl.when("joined").then(pl.lit(MERGED)), pl.lit(GONE)).alias("why"),
        pl.coalesce("rule", "other").alias("rule"),
    )
    found = found.drop("other", "joined")
    what, words = pl.lit(LEAVE), pl.lit(_UNSAID)
    for sort, leaving in plan.leavers.items():
        mine = pl.col("why") == sort
        words = pl.when(mine).then(pl.lit(leaving.words)).otherwise(words)
        if leaving.action == LAST_CHANGE:
            # what the target has just so needs no telling
            words = pl.when(mine & ~pl.col("id").is_in(last.implode())).then(pl.lit(_SAME)).otherwise(words)
            mine &= pl.col("id").is_in(last.implode())
        what = pl.when(mine).then(pl.lit(leaving.action)).otherwise(what)
    words = pl.when("left").then(pl.lit(_TOLD)).otherwise(words)
    return found.with_columns(pl.when(~pl.col("left")).then(what).alias("what"), words.alias("words"))


def with_changed(found: pl.DataFrame, before: pl.DataFrame) -> pl.DataFrame:
    """Leavers with `changed`: what `keep` looks at, before (as `records_before` gives it) and now."""
    columns = [name for name in found.columns if name.startswith(SOURCE_COLUMN) and name in before.columns]
    known = before.select(
        pl.col(KEY).alias("key"), pl.col(RECORD).alias("record"), *(pl.col(c).alias(f"was{c}") for c in columns)
    )
    told = []
    for column in columns:
        now, was = pl.col(column).fill_null("(blank)"), pl.col(f"was{column}").fill_null("(blank)")
        name = column.removeprefix(SOURCE_COLUMN)
        told.append(
            pl.when((pl.col("why") != GONE) & (now != was)).then(pl.format("{}: {} -> {}", pl.lit(name), was, now))
        )
    joined = found.join(known.unique(["key", "record"]), on=["key", "record"], how="left", maintain_order="left")
    changed = pl.concat_str(told, separator="; ", ignore_nulls=True) if told else pl.lit("")
    return joined.with_columns(pl.when(changed != "").then(changed).alias("changed")).select(*found.columns, "changed")


def groups_of(plan: Plan, found: pl.DataFrame) -> list[Leavers]:
    """Leavers by sort, rule and what becomes of them."""
    found = found.filter(pl.col("what").is_not_null())
    # why single rows are held back is told with each of them
    rule = pl.when(pl.col("why") != HELD_BACK).then("rule")
    groups = []
    for (why, words, said), rows in found.group_by("why", "words", rule.alias("said"), maintain_order=True):
        shown = rows.head(_EXAMPLES).select(
            shown_key(pl.col("key")), pl.coalesce("changed", pl.when(pl.col("why") == HELD_BACK).then("rule"))
        )
        groups.append(
            Leavers(
                str(why),
                None if said is None else str(said),
                str(words),
                str(why) in plan.leavers,
                rows.height,
                shown.rows(),
            )
        )
    return groups


def marked(plan: Plan, found: pl.DataFrame, before: pl.DataFrame) -> pl.DataFrame:
    """The records of leavers that are marked, as they are from now on: `KEY`, `RECORD` and the fields. `before` is what they held."""
    before = in_layout(before, plan.layout)
    parts = [before.clear()]
    for sort, leaving in plan.leavers.items():
        if leaving.action == MARK:
            keys = found.filter((pl.col("why") == sort) & (pl.col("what") == MARK))["key"]
            parts.append(before.filter(pl.col(KEY).is_in(keys.implode())).with_columns(_marks(plan, leaving)))
    titles = [one.title for one in plan.layout.fields]
    return pl.concat(parts).select(KEY, fixed_hash([pl.col(t) for t in titles]).alias(RECORD), *titles)


def _marks(plan: Plan, leaving: Leaving) -> list[pl.Expr]:
    texts: Mapping[str, str] = leaving.marks
    return [
        pl.lit(text or None, dtype=pl.String).alias(plan.layout.field_named(name).title) for name, text in texts.items()
    ]


def removed(found: pl.DataFrame) -> pl.DataFrame:
    """The leavers that are taken out."""
    return found.filter(pl.col("what") == REMOVE)
