"""What is known of rows before anything is made of them: the key that their record has by now, whether the target holds it, and what somebody said of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import polars as pl

from mudanza.core.language.value import Stage, Stages, Surroundings, Value, combined
from mudanza.core.layouts.layout import Layout
from mudanza.core.tables.by_hand import KEY_COLUMN, ByHand
from mudanza.core.values.kinds import Kind
from mudanza.core.values.row_columns import IDENTITY, IN_TARGET, KNOWN_KEY, LEFT, SAID, THEIRS, key_text, shown_key

#: what the target holds of a list: the key as it is compared, a hash of the record, and whether it left
HELD_THERE = ("id", "record", "left")


@dataclass(frozen=True)
class Knowing:
    """The stages that add what is known; whether something is known `of_target`; what somebody said of rows; why a row that is not chosen is yet written once more (of
    `plans.leavers.LEAVERS`); the key book of the key, if it has one; whether rows that are not written are `named`, because others may refer to them; and whether flows ask for
    what is known."""

    stages: tuple[Stage, ...] = ()
    of_target: bool = False
    by_hand: ByHand = field(default_factory=ByHand)
    last: frozenset[str] = frozenset()
    book: str | None = None
    named: bool = False
    asked: bool = False

    @property
    def at_once(self) -> bool:
        """Whether it is asked of all rows, and not of those alone that are not written."""
        return self.of_target or bool(self.by_hand) or self.asked


def knowing(layout: Layout, around: Surroundings, stages: Stages, key: Mapping[str, Value]) -> Knowing:
    """What adds what is known to rows, given the texts of the fields of their `key` before identifiers are given (none of them may be late)."""
    texts = list(key.values())
    column: Value = Value(Kind.TEXT, pl.lit(None, dtype=pl.String))
    if texts:
        joined = layout.key_rule.whole(key_text([text.expr for text in texts]))
        filled = pl.any_horizontal([text.expr.str.len_bytes() > 0 for text in texts]).fill_null(False)
        column = combined(texts, pl.when(filled).then(joined), Kind.TEXT)
    known = stages.hold(column)
    theirs, left = Value(Kind.NUMBER, pl.lit(None, dtype=pl.UInt64)), Value(Kind.YESNO, pl.lit(None, dtype=pl.Boolean))
    if around.in_target is not None:
        theirs, left = stages.join(known, around.in_target)
    said = _said(around.by_hand, stages, known)
    made = [
        known.expr.alias(KNOWN_KEY),
        theirs.expr.is_not_null().alias(IN_TARGET),
        theirs.expr.alias(THEIRS),
        left.expr.fill_null(False).alias(LEFT),
        said.expr.alias(SAID),
    ]
    # others refer by what the first key book of the key is asked for
    book = stages.mints[0].book if stages.mints else None
    asked = [pl.col(mint.identity) for mint in stages.mints if mint.book == book]
    made.append((pl.coalesce(asked) if asked else pl.lit(None, dtype=pl.String)).alias(IDENTITY))
    return Knowing((*stages.early, Stage(made)), around.in_target is not None, around.by_hand, book=book)


def _said(by_hand: ByHand, stages: Stages, known: Value) -> Value:
    """The number of the first thing that was said of a row."""
    numbers: list[Value] = []
    for table in by_hand.tables:
        columns = [
            shown_key(known.expr) if column == KEY_COLUMN else pl.col(column).str.strip_chars()
            for column in table.columns
        ]
        asked = stages.hold(Value(Kind.TEXT, key_text(columns), known.level))
        numbers += stages.join(asked, table.rows)
    first = pl.min_horizontal([number.expr for number in numbers]) if numbers else pl.lit(None, dtype=pl.Int64)
    level = max((number.level for number in numbers), default=0)
    return Value(Kind.NUMBER, first, level)
