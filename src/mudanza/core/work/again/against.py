"""What a build is compared with: what the target holds, or what an earlier run built."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from mudanza.core.engine.knowing import HELD_THERE
from mudanza.core.layouts.layout import Layout
from mudanza.core.state.in_target import HELD_RECORDS, hand_overs, in_target, standing
from mudanza.core.state.ledger import Ledger
from mudanza.core.state.sent import sent_by
from mudanza.core.tables.sorted_rows import SortedRows
from mudanza.core.values.row_columns import key_text
from mudanza.core.work.runs import done_build

#: said in the place of a run: what was handed over
HANDED_OVER = "handed-over"


@dataclass(frozen=True)
class Against:
    """What a list is compared with, in `words`. `rows` are records: `id` (the key as it is compared), key, record (a hash), run (that wrote it so first), left (whether
    the target was told of it for the last time) and there (the target's own identifier)."""

    words: str
    rows: pl.DataFrame

    @property
    def table(self) -> SortedRows:
        """What is asked of it row by row (`HELD_THERE`)."""
        return SortedRows.of(self.rows.select(HELD_THERE), HELD_THERE[0])


def against(ledger: Ledger, name: str, layout: Layout, since: int | str | None) -> Against | None:
    """What a build of a list is compared with: what the target holds by the hand-overs so far, or what a run built, if `since` names it; None where records have no key, or nothing
    is known and `since` does not ask for it.

    Raises MoveError where the run is no build that is done.
    """
    if not layout.primary_key:
        return None
    if isinstance(since, int):
        done_build(ledger, since)
        rows = sent_by(ledger, name, since).with_columns(left=pl.lit(False), there=pl.lit(None, dtype=pl.String))
        return Against(f"run {since}", identified(rows, layout))
    overs = standing(hand_overs(ledger, name))
    if not overs:
        nothing = pl.DataFrame(schema=HELD_RECORDS)
        return Against("nothing, which is all that was handed over", identified(nothing, layout)) if since else None
    last = overs[-1]
    return Against(f"run {last.build}, handed over {last.moment[:10]}", identified(in_target(ledger, name), layout))


def identified(rows: pl.DataFrame, layout: Layout) -> pl.DataFrame:
    """Rows that have a `key`, with the `id` by which it is compared."""
    return rows.with_columns(layout.key_rule.whole(pl.col("key")).alias("id"))


def ids_of(layout: Layout) -> pl.Expr:
    """The key of written records as it is compared."""
    return layout.key_rule.whole(key_text([pl.col(title) for title in layout.key_titles]))
