"""What of a list's records comes behind other lists, which are to be there first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import polars as pl

from mudanza.core.layouts.rules import blank_as_rendered, blank_text
from mudanza.core.plans.plan import Plan


@dataclass(frozen=True)
class Behind:
    """What of a list comes behind the lists that it speaks of: the headings of the fields that come behind, and how many identifiers each of its key books had given out before its first pass."""

    titles: tuple[str, ...]
    given: Mapping[str, int]

    def without(self, plan: Plan, rows: pl.DataFrame) -> pl.DataFrame:
        """Records as they are imported first."""
        fields = [one for one in plan.layout.fields if one.title in self.titles]
        return rows.with_columns(pl.lit(blank_text(one), dtype=pl.String).alias(one.title) for one in fields)

    def with_more(self, plan: Plan, rows: pl.DataFrame) -> pl.DataFrame:
        """Those records that say something in these fields."""
        fields = [one for one in plan.layout.fields if one.title in self.titles]
        blank = pl.all_horizontal([blank_as_rendered(one, pl.col(one.title)).fill_null(True) for one in fields])
        return rows.filter(~blank)
