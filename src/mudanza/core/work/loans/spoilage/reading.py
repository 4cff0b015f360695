"""The ways in which the cells of a typed column may be written, of which the column itself says which it is."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl


@dataclass(frozen=True)
class Reading:
    """A way to read cells: `words` for it, and the value of a cell that is written so, null for others."""

    words: str
    value: pl.Expr
