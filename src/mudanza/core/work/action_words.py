"""What becomes of a record, in the target's own words, where its layout has a field for them."""

from __future__ import annotations

import polars as pl

from mudanza.core.layouts.demands import ADD, CHANGE, REMOVE
from mudanza.core.layouts.layout import Layout

ADDITIONS, CHANGES, REMOVALS = "additions", "changes", "removals"
#: what the records of a file are → what the layout calls that
_ACTIONS = {
    ADDITIONS: ADD,
    CHANGES: CHANGE,
    REMOVALS: REMOVE,
    f"undo-{ADDITIONS}": REMOVE,
    f"undo-{CHANGES}": CHANGE,
    f"undo-{REMOVALS}": ADD,
}


def with_action(layout: Layout, name: str, titles: list[str], rows: pl.DataFrame) -> tuple[list[str], pl.DataFrame]:
    """The titles and rows of a file of additions, changes or removals (or of what undoes them), with the layout's word for it, if it has one."""
    action = layout.action
    word = (action.demands.actions or {}).get(_ACTIONS[name]) if action is not None else None
    if action is None or word is None:
        return titles, rows
    titles = titles if action.title in titles else [*titles, action.title]
    return titles, rows.with_columns(pl.lit(word).alias(action.title))
